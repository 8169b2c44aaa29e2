"""Files that a person names: what is read is a regular file within its bound, what is written appears whole and private, and a
reader that goes away changes nothing about how a run ends."""

from __future__ import annotations

import json
import os
import stat
import subprocess
import tempfile
import threading
import unittest
from pathlib import Path
from unittest.mock import patch

from rupex.model import RupexError
from rupex.user_files import new_file, read_bounded, write_whole
from tests.support import RUPEX, TreeTest, rupex, valid_document, written_out_document

SITE = "server { listen 80; server_name a.test; return 301 https://$host$request_uri; }"


class WritingTest(TreeTest):
    def setUp(self) -> None:
        super().setUp()
        self.write_nginx(SITE)
        self.folder = self.root.parent / "out"
        self.folder.mkdir()

    def audit(self, *more: str | Path, cwd: Path | None = None) -> subprocess.CompletedProcess[str]:
        return rupex("audit", self.root, "--quiet", *more, cwd=cwd or self.folder)

    def test_devices_and_pipes_are_written_to_and_never_replaced(self) -> None:
        device = os.stat("/dev/null")
        self.assertEqual(self.audit("--output", "json:/dev/null").returncode, 0)
        self.assertTrue(stat.S_ISCHR(os.stat("/dev/null").st_mode))
        self.assertEqual(os.stat("/dev/null").st_ino, device.st_ino)
        pipe = self.folder / "pipe"
        os.mkfifo(pipe)
        got: list[bytes] = []
        reader = threading.Thread(target=lambda: got.append(pipe.read_bytes()))
        reader.start()
        self.assertEqual(self.audit("--output", f"json:{pipe}").returncode, 0)
        reader.join(30)
        self.assertEqual(valid_document(got[0].decode())["schema"], "rupex.run/1")
        self.assertTrue(stat.S_ISFIFO(os.stat(pipe).st_mode))

    def test_the_runs_own_descriptors_are_written_to(self) -> None:
        for name in ("/dev/stdout", "/proc/self/fd/1", "/dev/fd/1"):
            with self.subTest(name), self.subTest("a pipe"):
                text = self.audit("--output", f"json:{name}").stdout
                self.assertIn('"schema": "rupex.run/2"', text)
            with self.subTest(name), (self.folder / "log").open("w+") as log:
                log.write("before\n")
                log.flush()
                command = [RUPEX, "audit", str(self.root), "--quiet", "--output", f"json:{name}"]
                self.assertEqual(subprocess.run(command, stdout=log, check=False).returncode, 0)
                text = (self.folder / "log").read_text()
                self.assertTrue(text.startswith('before\n{\n "schema"'), text[:60])
                self.assertIn("\nhost ", text)

    def test_a_link_that_the_user_named_leads_to_what_is_written(self) -> None:
        target = self.folder / "real.json"
        for case in ("there", "not yet there"):
            with self.subTest(case):
                target.unlink(missing_ok=True)
                if case == "there":
                    target.write_text("old")
                link = self.folder / "link.json"
                link.unlink(missing_ok=True)
                link.symlink_to("real.json")
                self.assertEqual(self.audit("--output", "link.json").returncode, 0)
                self.assertTrue(link.is_symlink())
                valid_document(target.read_text())
                self.assertEqual({file.name for file in self.folder.iterdir()}, {"real.json", "link.json"})

    def test_what_holds_findings_is_its_owners_alone(self) -> None:
        (self.folder / "old.json").write_text("old")
        (self.folder / "old.json").chmod(0o644)
        forms = ["old.json", "new.html", "new.csv", "new.sarif", "text:new.txt"]
        options = [word for form in forms for word in ("--output", form)]
        self.audit(*options, "--history", "history.sqlite", "--suggest-waivers", "waivers.toml")
        rupex("report", "old.json", "--plots", "plots", cwd=self.folder)
        files = [file for file in self.folder.rglob("*") if file.is_file()]
        self.assertGreater(len(files), 9)
        self.assertEqual({file.name for file in files if file.stat().st_mode & 0o077}, set())

    def test_a_name_that_another_account_made_ready_is_not_written_through(self) -> None:
        victim = self.folder / "victim"
        victim.write_text("mine")
        for name in (".run.json.part", f".run.json.{os.getpid()}.part", f".rupex-{'00' * 8}"):
            (self.folder / name).symlink_to("victim")
        with patch("os.urandom", return_value=bytes(8)), self.assertRaisesRegex(RupexError, "cannot be written"):
            write_whole(self.folder / "run.json", "new")
        write_whole(self.folder / "run.json", "new")
        self.assertEqual((victim.read_text(), (self.folder / "run.json").read_text()), ("mine", "new"))
        self.assertTrue((self.folder / f".rupex-{'00' * 8}").is_symlink(), "what others made is left alone")

    def test_a_failure_leaves_the_old_file_and_nothing_else(self) -> None:
        path = self.folder / "run.json"
        path.write_text("old")
        with patch("os.fsync", side_effect=OSError(28, "No space left on device")):
            self.assertRaisesRegex(RupexError, "run.json: cannot be written .No space", write_whole, path, "new")
        self.assertEqual(path.read_text(), "old")
        self.assertEqual([file.name for file in self.folder.iterdir()], ["run.json"])

    def test_a_new_file_is_made_once_and_goes_when_its_making_fails(self) -> None:
        path = self.folder / "new"
        for error in (ValueError, OSError, KeyboardInterrupt):
            with self.subTest(error.__name__), self.assertRaises((error, RupexError)), new_file(path) as file:
                file.write(b"half")
                raise error
            self.assertFalse(path.exists())
        with new_file(path) as file:
            self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o600)
            file.write(b"whole")
        with self.assertRaisesRegex(RupexError, "exists already"), new_file(path):
            self.fail("an existing file is not opened")
        (self.folder / "link").symlink_to("elsewhere")
        with self.assertRaisesRegex(RupexError, "exists already"), new_file(self.folder / "link"):
            self.fail("a link is not followed")
        self.assertEqual(path.read_bytes(), b"whole")

    def test_odd_names_are_errors_with_a_sentence(self) -> None:
        (self.folder / "sub").mkdir()
        for name in ("json:", "json:.", "json:sub", "json:no/such/folder.json", "json:/", f"json:{'x' * 300}"):
            with self.subTest(name[:20]):
                done = self.audit("--output", name)
                self.assertEqual(done.returncode, 2)
                self.assertRegex(done.stderr, r"^rupex: .*cannot be written")
        self.assertRaisesRegex(RupexError, "not a file name", write_whole, self.folder / "a\0b", "")
        self.assertEqual({file.name for file in self.folder.iterdir()}, {"sub"})


class StandardStreamsTest(TreeTest):
    def setUp(self) -> None:
        super().setUp()
        self.write_nginx(SITE)

    def shell(self, redirection: str, *more: str, **environment: str) -> tuple[int, str]:
        """The exit status of an audit whose output goes where a shell's ``redirection`` leads, and its messages."""
        command = f'"{RUPEX}" audit "{self.root}" {" ".join(more)} {redirection}; echo "status $?" >&3'
        with tempfile.TemporaryFile("w+") as told:
            done = subprocess.run(
                ["bash", "-c", f"exec 3>&{told.fileno()}; {command}"], pass_fds=[told.fileno()], capture_output=True,
                text=True, env=os.environ | environment, timeout=60, check=False,
            )  # fmt: skip
            told.seek(0)
            return int(told.read().split()[-1]), done.stderr

    def test_a_failed_gate_stays_failed_without_a_reader(self) -> None:
        for case, redirection in (
            ("the reader is gone", "> >(true)"), ("both are gone", "> >(true) 2>&1"), ("no standard output", ">&-"),
            ("no stream at all", "<&- >&- 2>&-"), ("messages have no reader", "2> >(true)"),
        ):  # fmt: skip
            for form in ("text", "json"):
                with self.subTest(case, form=form):
                    for _ in range(3):  # the reader may be gone before the output comes, or while it comes
                        self.assertEqual(self.shell(redirection, "--require 100", f"--format {form}")[0], 1)
                    self.assertEqual(self.shell(redirection, f"--format {form}")[0], 0)

    def test_a_disk_that_is_full_is_an_error_with_a_sentence(self) -> None:
        for form in ("text", "json"):
            with self.subTest(form):
                status, said = self.shell("> /dev/full", "--require 100", f"--format {form}")
                self.assertEqual(
                    (status, said), (2, "rupex: standard output cannot be written (No space left on device)\n")
                )

    def test_any_locale_will_do(self) -> None:
        name = "höhe"
        self.write({f"etc/nginx/sites-enabled/{name}.conf": "server { listen 80; server_name h.test; }"})
        self.write_nginx(f"{SITE} include sites-enabled/*;")
        plain = {"LC_ALL": "C", "PYTHONCOERCECLOCALE": "0", "PYTHONUTF8": "0"}
        for environment in (plain, plain | {"PYTHONIOENCODING": "ascii"}, plain | {"PYTHONIOENCODING": "latin-1"}):
            with self.subTest(str(environment)):
                text, document = (
                    subprocess.run(
                        [RUPEX, "audit", self.root, *form],
                        capture_output=True,
                        env=os.environ | environment,
                        check=False,
                    )
                    for form in ((), ("--format", "json"))
                )
                self.assertEqual((text.returncode, text.stderr), (0, b""))
                self.assertIn(
                    f"sites-enabled/{name}.conf", json.dumps(written_out_document(document.stdout), ensure_ascii=False)
                )


class ReadingTest(TreeTest):
    def setUp(self) -> None:
        super().setUp()
        self.write_nginx(SITE)
        self.folder = self.root.parent

    def test_only_regular_files_within_their_bound_are_read(self) -> None:
        os.mkfifo(self.folder / "pipe")
        (self.folder / "extends.toml").write_text('name = "x"\nversion = "1"\ntitle = "x"\nextend = "/dev/zero"\n')
        bad = ("/dev/zero", "/dev/stdin", str(self.folder / "pipe"), "/proc/kmsg", "/", "/no/such/file")
        for option in ("--baseline", "--waivers", "--settings", "--manifest"):
            for name in bad:
                with self.subTest(option, name=name):
                    self.refused("audit", self.root, option, name)
        for name in bad:
            with self.subTest(name):
                self.refused("fleet", name)
                self.refused("report", name)
                self.refused("compare", name, name)
                self.refused("probe", "--names", name)
        self.refused("audit", self.root, "--baseline", self.folder / "extends.toml")
        self.assertRaisesRegex(RupexError, "more than 4 bytes", read_bounded, self.folder / "extends.toml", "it", 4)

    def refused(self, *arguments: str | Path) -> None:
        done = rupex(*arguments)
        self.assertEqual(done.returncode, 2, done)
        self.assertRegex(done.stderr, r"\Arupex: [^\n]+\n\Z")

    def test_options_are_not_abbreviated(self) -> None:
        (self.folder / "own.toml").write_text('format = "json"\n')
        for short in ("--setting", "--requ", "--form", "--verb"):
            with self.subTest(short):
                done = rupex("audit", self.root, short, "own.toml")
                self.assertEqual((done.returncode, done.stdout), (2, ""))
        for verb in (("probe",), ("history", "list"), ("baseline", "check"), ("collect",)):
            self.assertEqual(rupex(*verb, "x", "--hist", "y").returncode, 2)


if __name__ == "__main__":
    unittest.main()
