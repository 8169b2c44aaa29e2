"""Waivers: what they cover, until when, what they do to a score, and what is said of those that need somebody."""

from __future__ import annotations

import unittest
from datetime import timedelta

from rupex.audit.assess import assess
from rupex.audit.document import waivers_used
from rupex.baseline import load_baseline, parse_waivers, place_names
from rupex.documents.run import HostDocument
from rupex.model import RupexError
from tests.support import NOW, TreeTest, rupex, valid_document

SITES = """
server { listen 443 ssl; server_name www.ternholm.test; ssl_certificate /etc/ssl/site.pem; ssl_certificate_key /etc/ssl/site.key;
  ssl_protocols TLSv1 TLSv1.2; root /srv/www; location /map/ { root /srv/map; add_header X-Frame-Options DENY; } }
server { listen 443 ssl; server_name pier.ternholm.test; ssl_certificate /etc/ssl/site.pem;
  ssl_certificate_key /etc/ssl/site.key; }
"""


def row(control: str, until: str = "2027-01-31", **more: str) -> str:
    extra = "".join(f'{key} = "{value}"\n' for key, value in more.items())
    return f'[[waivers]]\ncontrol = "{control}"\nreason = "for the map"\nowner = "web team"\nuntil = {until}\n{extra}'


class WaiverTest(TreeTest):
    def setUp(self) -> None:
        super().setUp()
        self.mint(["www.ternholm.test", "pier.ternholm.test"], mode=0o644)
        self.write_nginx(SITES)

    def assess_with(self, text: str) -> HostDocument:
        waivers = parse_waivers("waivers.toml", text.encode())
        return assess(self.gather().host, load_baseline("public-web"), NOW, waivers=waivers)

    def counts(self, text: str, control: str) -> tuple[int, int]:
        check = next(check for check in self.assess_with(text).checks if check.control == control)
        return check.counts.fail, check.counts.waived

    def test_a_waiver_covers_what_its_patterns_say_and_no_more(self) -> None:
        for case, text, control, wanted in (
            ("everything", row("tls.protocol.floor"), "tls.protocol.floor", (0, 2)),
            ("a family of controls", row("tls.*"), "tls.protocol.floor", (0, 2)),
            ("another host", row("tls.*", host="cabins"), "tls.protocol.floor", (2, 0)),
            ("this host", row("tls.*", host="h?st"), "tls.protocol.floor", (0, 2)),
            ("a path", row("header.sniffing", place="/map/*"), "header.sniffing", (2, 1)),
            ("a name and a path", row("header.sniffing", place="pier.ternholm.test/"), "header.sniffing", (2, 1)),
            ("a name with all below it", row("header.sniffing", place="www.ternholm.test*"), "header.sniffing", (1, 2)),
            ("a file", row("key.mode", place="etc/ssl/*.key"), "key.mode", (0, 1)),
            ("a line", row("tls.protocol.floor", place="etc/nginx/nginx.conf:5"), "tls.protocol.floor", (0, 2)),
            ("the last day", row("key.mode", until="2026-11-24"), "key.mode", (0, 1)),
            ("the day after", row("key.mode", until="2026-11-23"), "key.mode", (1, 0)),
            ("what refines it goes along", row("header.csp"), "header.csp.scripts", (0, 3)),
            ("a second one in force", row("key.mode", until="2026-11-23") + row("key.mode"), "key.mode", (0, 1)),
        ):
            with self.subTest(case):
                self.assertEqual(self.counts(text, control), wanted)

    def test_a_waiver_lifts_the_ceiling_and_the_score_without_it_is_kept(self) -> None:
        plain, waived = self.assess_with("").score, self.assess_with(row("*")).score
        assert plain.value is not None
        self.assertEqual((plain.ceiling and plain.ceiling.value, waived.ceiling), (39, None))
        self.assertEqual(waived.value, 100)
        self.assertEqual(waived.unwaived, plain.value)
        unknown = [(c.control, c.counts.unknown) for c in self.assess_with("").checks if c.counts.unknown]
        self.assertEqual(
            unknown, [(c.control, c.counts.unknown) for c in self.assess_with(row("*")).checks if c.counts.unknown]
        )

    def test_those_that_ran_out_or_stand_for_nothing_are_told(self) -> None:
        text = row("key.mode", until="2026-01-01") + row("tls.suite.rc4") + row("tls.protocol.floor")
        waivers = parse_waivers("waivers.toml", text.encode())
        used = waivers_used(waivers, [self.assess_with(text)], NOW)
        self.assertEqual([(r.number, r.state, r.places) for r in used.rows],
                         [(1, "run out", 1), (2, "unused", 0), (3, "in force", 2)])  # fmt: skip
        (self.root / "waivers.toml").write_text(text)
        done = rupex("audit", self.root, "--waivers", self.root / "waivers.toml", "--now", "2026-11-24")
        for words in ("ran out on 2026-01-01", "stands for no failure", "Waived", "web team, until 2027-01-31"):  # fmt: skip
            self.assertIn(words, done.stdout)

    def test_a_skeleton_waives_everything_once_it_is_filled_in(self) -> None:
        skeleton = self.root.parent / "skeleton.toml"
        done = rupex("audit", self.root, "--suggest-waivers", skeleton, "--quiet", "--now", "2026-11-24")
        self.assertIn("waivers to fill in", done.stderr)
        refused = rupex("audit", self.root, "--waivers", skeleton)
        self.assertEqual((refused.returncode, "waivers[0].reason" in refused.stderr), (2, True))
        skeleton.write_text(
            skeleton.read_text().replace('reason = ""', 'reason = "a"').replace('owner = ""', 'owner = "b"')
        )
        done = rupex("audit", self.root, "--waivers", skeleton, "--format", "json", "--now", "2026-11-24")
        document = valid_document(done.stdout)
        failing = [check["control"] for check in document["hosts"][0]["checks"] if check["counts"]["fail"]]
        self.assertEqual(failing, [])
        self.assertEqual({entry["state"] for entry in document["waivers"]["rows"]}, {"in force"})
        again = rupex("audit", self.root, "--suggest-waivers", skeleton)
        self.assertEqual((again.returncode, "exists already" in again.stderr), (2, True))


class WaiverDocumentTest(unittest.TestCase):
    def test_a_mistake_is_told_with_its_key_path(self) -> None:
        for text, words in (
            ("waiver = 1", "waiver: unknown key"),
            ("[waivers]\n", "a list"),
            (row("no.such"), "waivers[0].control"),
            (row("key.mode", until='"soon"'), "waivers[0].until"),
            (row("key.mode") + "colour = 1\n", "allowed are"),
            (row("key.mode").replace("web team", " "), "waivers[0].owner: it is empty"),
            (row("key.mode").replace("owner", "#"), "missing required field `owner`"),
            ("[[", "not TOML"),
        ):
            with self.subTest(text), self.assertRaisesRegex(RupexError, words.replace("[", r"\[").replace("]", r"\]")):
                parse_waivers("w.toml", text.encode())

    def test_a_place_goes_by_several_names(self) -> None:
        names = place_names("nginx:0.0.0.0:443/a.test", "prefix:/map/", "a.test", None)
        self.assertLessEqual({"/map/", "a.test/map/", "prefix:/map/", "nginx:0.0.0.0:443/a.test"}, set(names))
        self.assertIn("a.conf:3", place_names(None, None, None, "a.conf", 3))

    def test_the_last_day_counts_to_its_end(self) -> None:
        waiver = parse_waivers("w.toml", row("key.mode", until="2026-11-24").encode()).rows[0]
        self.assertEqual([waiver.is_over((NOW + timedelta(days=d)).date()) for d in (0, 1)], [False, True])
