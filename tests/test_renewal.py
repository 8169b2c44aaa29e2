"""When jobs run, held against the system's own calculator; and whether a job comes in time, for the file that is served."""

from __future__ import annotations

import re
import subprocess
import unittest
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from rupex.host.facts.schedules import parse_calendar, parse_cron, parse_span
from tests.support import NOW, TreeTest

CALENDARS = (
    "daily", "weekly", "monthly", "hourly", "quarterly", "semiannually", "yearly", "*-*-* 00,12:00:00", "Mon *-*-* 03:30:00",
    "Mon..Fri 22:30", "Sat,Sun 04:00", "*-*-1,15 06:15", "*:0/15", "*-02-29 00:00:00", "Fri *-*-13 00:00", "*-1/3-1 05:00",
    "*-*-* *:17:00", "03:00 UTC", "Sun *-*-8..14 02:00", "*-*-31 23:59", "12-24 18:00",
)  # fmt: skip


def next_by_system(expression: str, base: datetime) -> datetime:
    done = subprocess.run(
        ["systemd-analyze", "calendar", "--base-time", base.strftime("%Y-%m-%d %H:%M:%S UTC"), expression],
        capture_output=True, text=True, check=True, env={"TZ": "UTC", "PATH": "/usr/bin:/bin"},
    )  # fmt: skip
    said = re.search(r"Next elapse: \w+ (\d+-\d+-\d+ \d+:\d+:\d+) UTC", done.stdout)
    assert said is not None, done.stdout
    return datetime.strptime(said[1], "%Y-%m-%d %H:%M:%S").replace(tzinfo=UTC)


class ScheduleTest(unittest.TestCase):
    def test_calendars_elapse_when_the_system_says(self) -> None:
        for expression in CALENDARS:
            for base in (NOW, datetime(2027, 12, 31, 23, 59, 30, tzinfo=UTC), datetime(2028, 2, 28, 12, tzinfo=UTC)):
                with self.subTest(expression, base=base):
                    schedule = parse_calendar(expression)
                    assert schedule is not None
                    self.assertEqual(schedule.next(base), next_by_system(expression, base))

    def test_what_is_not_read_is_said_to_be_none(self) -> None:
        for text in ("", "*-*~3", "2026-*-* 00:00", "soon", "*-*-* 25:00", "Mon..", "*-13-1"):
            self.assertIsNone(parse_calendar(text), text)
        for text in (
            "@reboot root certbot renew",
            "1 2 3 * certbot",
            "* 24 * * * root x",
            "*/0 * * * * x",
            "no cron at all here x",
        ):
            self.assertIsNone(parse_cron(text), text)

    def test_cron_lines(self) -> None:
        monday = datetime(2026, 11, 23, 9, 30, tzinfo=UTC)
        for line, wanted in (  # crontab(5)
            ("0 3 * * * root x", datetime(2026, 11, 24, 3, 0, tzinfo=UTC)),
            ("*/20 * * * * root x", datetime(2026, 11, 23, 9, 40, tzinfo=UTC)),
            ("30 9 * * 1 root x", datetime(2026, 11, 30, 9, 30, tzinfo=UTC)),
            ("0 0 1 * sun root x", datetime(2026, 11, 29, 0, 0, tzinfo=UTC)),  # the first, or a Sunday
            ("0 0 * * 7 root x", datetime(2026, 11, 29, 0, 0, tzinfo=UTC)),
            ("5 4 13 jan-mar fri root x", datetime(2027, 1, 1, 4, 5, tzinfo=UTC)),
            ("@weekly root x", datetime(2026, 11, 29, 0, 0, tzinfo=UTC)),
            ("@monthly root x", datetime(2026, 12, 1, 0, 0, tzinfo=UTC)),
            ("0 0 30 2 * root x", None),
        ):
            with self.subTest(line):
                schedule = parse_cron(line)
                assert schedule is not None
                self.assertEqual(schedule.next(monday), wanted)

    def test_spans(self) -> None:
        for text, seconds in (("12h", 43200), ("1h 30min", 5400), ("43200", 43200), ("2 days", 172800), ("", 0)):
            self.assertEqual(parse_span(text), seconds, text)

    @given(st.text(st.sampled_from("*0123456789-/,.: monfrijan@daily"), max_size=40))
    def test_any_text_is_a_schedule_or_none(self, text: str) -> None:
        for schedule in (parse_calendar(text), parse_cron(text)):
            moment = None if schedule is None else schedule.next(NOW)
            self.assertTrue(moment is None or moment > NOW)


class InTimeTest(TreeTest):
    def setUp(self) -> None:
        super().setUp()
        self.write_nginx(
            "server { listen 443 ssl; server_name a.test; ssl_certificate /etc/ssl/site.pem;"
            " ssl_certificate_key /etc/ssl/site.key; }"
        )
        self.mint(["a.test"], days_old=80, lifetime=90)

    def scheduled(self, line: str) -> tuple[str, str]:
        self.write({"etc/cron.d/renew": f"{line} root certbot renew\n"})
        check = self.check("renewal.scheduled")
        return check.verdict, check.places[0].message

    def test_a_job_has_to_run_before_the_certificate_ends(self) -> None:
        self.assertEqual(
            self.scheduled("0 3 * * *"),
            ("pass", "etc/cron.d/renew, next on 2026-11-25 03:00, 9 days before etc/ssl/site.pem expires"),
        )
        verdict, words = self.scheduled("0 3 15 * *")
        self.assertEqual(verdict, "fail")
        self.assertIn("expires on 2026-12-04, before etc/cron.d/renew runs next, on 2026-12-15", words)
        self.assertIn("the next renewal is tried on 2026-12-15", self.check("cert.expiry").places[0].message)

    def test_a_job_has_to_renew_the_file_that_is_served(self) -> None:
        conf = "fullchain = /etc/letsencrypt/live/a/fullchain.pem\n"
        self.write({"etc/letsencrypt/renewal/a.conf": conf, "etc/letsencrypt/archive/a/fullchain7.pem": "x"})
        (self.root / "etc/letsencrypt/live/a").mkdir(parents=True)
        (self.root / "etc/letsencrypt/live/a/fullchain.pem").symlink_to("../../archive/a/fullchain7.pem")
        self.assertIn("none of the certificates that etc/cron.d/renew renews", self.scheduled("0 3 * * *")[1])
        self.write({"etc/letsencrypt/renewal-hooks/deploy/copy": "#!/bin/sh\ncp x y\n"})
        self.assertEqual(self.scheduled("0 3 * * *")[0], "pass", "a hook may put it there")
        (self.root / "etc/letsencrypt/renewal-hooks/deploy/copy").unlink()
        site = self.root / "etc/ssl/site.pem"
        site.rename(self.root / "etc/letsencrypt/archive/a/fullchain7.pem")
        site.symlink_to("/etc/letsencrypt/live/a/fullchain.pem")
        self.assertEqual(self.scheduled("0 3 * * *")[0], "pass")

    def test_a_timer_runs_at_each_of_its_times(self) -> None:
        for times, moment in (
            (("Sat", "*-*-* 18:00", "*-*-* 11:30"), "2026-11-24 11:30"),
            (("*-*-* 10:00", "", "*-*-* 18:00"), "2026-11-24 18:00"),
            (("*-*-* 18:00", "soon"), "2026-11-24 18:00"),
        ):
            lines = "".join(f"OnCalendar={time}\n" for time in times)
            timer = f"[Timer]\n{lines}"
            self.write({
                "usr/lib/systemd/system/certbot.timer": timer, "etc/systemd/system/timers.target.wants/certbot.timer": timer,
                "usr/lib/systemd/system/certbot.service": "[Service]\nExecStart=/usr/bin/certbot -q renew\n",
            })  # fmt: skip
            with self.subTest(times):
                self.assertIn(f"next on {moment}", self.check("renewal.scheduled").places[0].message)
                known = [time for time in times[times.index("") + 1 if "" in times else 0 :] if time != "soon"]
                self.assertEqual(min(next_by_system(time, NOW) for time in known).strftime("%Y-%m-%d %H:%M"), moment)

    def test_the_time_of_a_timer_counts(self) -> None:
        timer = "[Timer]\nOnCalendar=*-*-* 00,12:00:00\nRandomizedDelaySec=12h\n"
        self.write({
            "usr/lib/systemd/system/certbot.timer": timer, "etc/systemd/system/timers.target.wants/certbot.timer": timer,
            "usr/lib/systemd/system/certbot.service": "[Service]\nExecStart=/usr/bin/certbot -q renew\n",
        })  # fmt: skip
        self.assertIn("certbot.timer, next on 2026-11-24 12:00", self.check("renewal.scheduled").places[0].message)
        self.assertEqual(NOW + timedelta(hours=2, minutes=30), datetime(2026, 11, 24, 12, tzinfo=UTC))
