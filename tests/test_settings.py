"""Defaults from a file: what a file that lies about may set, what only one that is named may, and how mistakes are told."""

from __future__ import annotations

import subprocess

from tests.support import TreeTest, rupex, valid_document


class SettingsTest(TreeTest):
    def setUp(self) -> None:
        super().setUp()
        self.write_nginx("server { listen 80; return 301 https://$host$request_uri; }")
        self.here = self.root.parent / "here"
        self.here.mkdir()

    def audit(self, text: str, *more: str, named: bool = False) -> subprocess.CompletedProcess[str]:
        (self.here / ("own.toml" if named else "rupex.toml")).write_text(text)
        options = ("--settings", "own.toml") if named else ()
        return rupex("audit", self.root, *options, *more, cwd=self.here)

    def test_a_named_file_gives_defaults_and_the_run_says_so(self) -> None:
        text = 'baseline = "strict"\npatience = 3\n[audit]\nformat = "json"\nassume = ["nginx=1.20.0"]\n[probe]\ngentle = true\n'
        done = self.audit(text, named=True)
        document = valid_document(done.stdout)
        self.assertEqual(document["baseline"]["name"], "strict")
        self.assertEqual(document["hosts"][0]["sources"][0]["version"], "1.20.0")
        self.assertEqual(document["settings"]["file"], "own.toml")
        self.assertEqual(document["settings"]["not_taken"], [])
        self.assertIn("settings of own.toml are in force: baseline, patience, format, assume", done.stderr)
        done = self.audit(text, "--baseline", "internal", named=True)
        self.assertEqual(valid_document(done.stdout)["baseline"]["name"], "internal")

    def test_a_file_that_was_not_named_sets_only_how_results_look(self) -> None:
        (self.here / "off.toml").write_text('name = "x"\nversion = "1"\ntitle = "x"\nextend = "public-web"\n')
        plain = rupex("audit", self.root, "--format", "json", cwd=self.here)
        wanted = valid_document(plain.stdout)
        decide = {
            "baseline": "'off.toml'", "root": "'/'", "wire": "['192.0.2.1']", "connect": "'192.0.2.1'", "now": "'2001-01-01'",
            "manifest": "'m.mtree'", "assume": "['nginx=1.4']", "as": "'apache'", "host": "'other'",
            "output": "['stolen.json']", "history": "'stolen.sqlite'", "waivers": "'w.toml'", "require": "0", "refuse": "'low'",
            "suggest-waivers": "'w.toml'", "patience": "600", "gentle": "true", "skip-paths": "true", "jobs": "64",
            "settings": "'off.toml'", "nonsense": "1", "verbose": "3",
        }  # fmt: skip
        for place in ("", "audit."):
            for rows in (decide, {"baseline": "'/dev/zero'"}):
                with self.subTest(place, rows=len(rows)):
                    done = self.audit("format = 'json'\n" + "".join(f"{place}{key} = {rows[key]}\n" for key in rows))
                    document = valid_document(done.stdout)
                    keys = [place + key for key in rows]
                    self.assertEqual(
                        document.pop("settings"), {"file": "rupex.toml", "options": ["format"], "not_taken": keys}
                    )
                    self.assertIn(
                        f"not taken, since rupex.toml was not named with --settings: {', '.join(keys)}", done.stderr
                    )
                    for run in (document, wanted):
                        run.pop("started", None), run.pop("seconds", None)
                    self.assertEqual((done.returncode, document), (plain.returncode, wanted))
                    self.assertEqual({file.name for file in self.here.iterdir()}, {"rupex.toml", "off.toml"})
        self.assertIn("host ", self.audit('format = "json"\nquiet = true\n', "--format", "text").stdout)

    def test_a_file_that_was_not_named_stops_nothing(self) -> None:
        for text in ("[", "a = " + "[" * 5000, "\0", 'format = "pdf"', "n = " + "9" * 5000, "x" * 70_000):
            with self.subTest(text[:20]):
                done = self.audit(text)
                self.assertEqual(done.returncode, 0)
                self.assertIn("host", done.stdout)
                self.assertIn("rupex.toml", done.stderr)

    def test_what_a_named_file_may_do(self) -> None:
        self.assertEqual(self.audit("require = 100\n", "--quiet", named=True).returncode, 1)
        self.assertEqual(self.audit('output = ["kept.json"]\n', "--quiet", named=True).returncode, 0)
        self.assertTrue((self.here / "kept.json").is_file())

    def test_a_mistake_is_told_with_its_key(self) -> None:
        for text, words in (
            ("colour = 1", "colour: no option of audit"), ("[audit]\ngentle = 1", "audit.gentle: true or false"),
            ('assume = "nginx=1"', "assume: a list of texts"), ('format = "pdf"', "format: 'pdf' is none of"),
            ('patience = "soon"', "patience: 'soon' is no time to wait"), ("audit = 3", "audit: a table"), ("[", "not TOML"),
            ("baseline = ['a']", "baseline: one value"),
        ):  # fmt: skip
            with self.subTest(text):
                done = self.audit(text, named=True)
                self.assertEqual(done.returncode, 2)
                self.assertIn(words, done.stderr)
        missing = rupex("audit", self.root, "--settings", "nowhere.toml", cwd=self.here)
        self.assertEqual((missing.returncode, "nowhere.toml" in missing.stderr), (2, True))

    def test_completion_scripts_know_the_verbs(self) -> None:
        for shell in ("bash", "zsh", "tcsh"):
            done = rupex("completion", shell)
            self.assertEqual(done.returncode, 0)
            self.assertIn("effective", done.stdout)
        bash = subprocess.run(["bash", "-n"], input=rupex("completion", "bash").stdout, text=True, check=False)
        self.assertEqual(bash.returncode, 0)
