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

    def test_a_file_here_gives_defaults_and_the_run_says_so(self) -> None:
        text = 'baseline = "strict"\npatience = 3\n[audit]\nformat = "json"\nassume = ["nginx=1.20.0"]\n[probe]\ngentle = true\n'
        done = self.audit(text)
        document = valid_document(done.stdout)
        self.assertEqual(document["baseline"]["name"], "strict")
        self.assertEqual(document["hosts"][0]["sources"][0]["version"], "1.20.0")
        self.assertEqual(document["settings"]["file"], "rupex.toml")
        self.assertIn("settings of rupex.toml are in force: baseline, patience, format, assume", done.stderr)
        self.assertEqual(
            valid_document(self.audit(text, "--baseline", "internal").stdout)["baseline"]["name"], "internal"
        )

    def test_a_strangers_file_may_not_write_waive_or_gate(self) -> None:
        for key, value in (
            ("output", '["stolen.json"]'), ("history", '"stolen.sqlite"'), ("waivers", '"w.toml"'), ("require", "0"),
            ("refuse", '"low"'), ("suggest-waivers", '"w.toml"'),
        ):  # fmt: skip
            with self.subTest(key):
                done = self.audit(f"{key} = {value}\n")
                self.assertEqual((done.returncode, done.stdout), (2, ""))
                self.assertIn(f"rupex.toml: {key}: may be set only in a file that you name", done.stderr)
                self.assertEqual({file.name for file in self.here.iterdir()}, {"rupex.toml"})
        (self.here / "rupex.toml").unlink()
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
                done = self.audit(text)
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
