"""The snapshot as a plain POSIX shell script, made of ``collect.sh``, the program ``mask.awk`` and the same tables of what is
taken and what may leave."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from textwrap import wrap
from typing import Final

from rupex.families import all_facts
from rupex.masking.leaves import USUAL_CLASS, classes, keywords, shape_rows
from rupex.masking.secrets import FACTORY_WORDS
from rupex.masking.texts import words_of_code
from rupex.package_files import folder_of
from rupex.snapshot.plan import evidence_rows

_WIDTH: Final = 110
"""Characters of a row's words: people read the script before they run it."""


def render_script() -> str:
    """The whole script. It writes an archive in the form that ``rupex audit`` reads, with owners and modes in a manifest."""
    script = folder_of("rupex.snapshot").joinpath("collect.sh").read_text("utf-8")
    program = folder_of("rupex.masking").joinpath("mask.awk").read_text("utf-8")
    rows = "".join(f"{row.kind} {row.language} {row.pattern}\n" for row in evidence_rows())
    facts = all_facts()
    processes = dict.fromkeys(name for one in facts for name in one.processes)
    programs = [" ".join((one.name, program.path, *program.arguments)) for one in facts for program in one.programs]
    packages = "|".join(one.packages for one in facts if one.packages)
    for place, text in (
        ("@PROGRAM@\n", program),
        ("@TABLES@\n", render_tables()),
        ("@ROWS@\n", rows),
        ("@PACKAGES@", packages.replace(r"[\w.-]*", "[A-Za-z0-9_.-]*").replace(r"[\w.]*", "[A-Za-z0-9_.]*")),
        ("@PAGES@", "\n".join(page.words for one in facts for page in one.pages)),
        ("@PROGRAMS@", "\n".join(programs)),
        ("@FOLDERS@", " ".join(folder for one in facts for folder in one.folders)),
        ("@DEPLOYMENT@", " ".join(f"-o -name '{begin}*.y*ml'" for one in facts for begin in one.deployment_files)),
        ("@PROCESSES@", " | ".join(processes)),
    ):
        script = script.replace(place, text)
    return script


def render_tables() -> str:
    """The lists as the awk program reads them: rows of tab-separated columns, the first says what a row is."""
    return "".join(f"{row}\n" for row in _table_rows())


def _table_rows() -> Iterator[str]:
    named: dict[tuple[str, str], list[str]] = {}
    for (language, name), kinds in sorted(classes().items()):
        named.setdefault((language, " ".join(kinds)), []).append(name)
    for (language, kinds_of), names in named.items():
        yield from (f"class\t{language}\t{line}\t{kinds_of}" for line in _wrapped(names))
    for language, kind in USUAL_CLASS.items():
        yield f"usual\t{language}\t{kind}"
    yield from shape_rows()
    lists = {"keyword": keywords(), "factory": FACTORY_WORDS, **words_of_code()}
    for name, words in lists.items():
        yield from (f"word\t{name}\t{line}" for line in _wrapped(sorted(words)))


def _wrapped(words: Iterable[str]) -> list[str]:
    return wrap(" ".join(words), _WIDTH, break_long_words=False, break_on_hyphens=False)
