"""Texts that go line by line, as they may leave a machine: settings, scripts, tables of cron, YAML, rules of packet filters."""

from __future__ import annotations

import re
from typing import Final

from rupex.masking.leaves import USUAL_CLASS, classes
from rupex.masking.values import Masker, has_shape, is_plain

_LONGEST_NAME: Final = 60
_ASSIGNMENT: Final = re.compile(
    r"([ \t]*(?:(?:export|ENV|ARG|set|:)[ \t]+)?[\"']?(?:\$\{)?)([A-Za-z_.][\w.-]*)([\"']?[ \t]*:?[=:][ \t]*)", re.ASCII
)
_SECTION: Final = re.compile(r"\[[\w. :-]{1,60}\]", re.ASCII)
_QUOTED: Final = re.compile(r"(\"[^\"\n]*\"|'[^'\n]*'|[ \t\r\n\\,]+)")
_IN_SHELL: Final = re.compile(r"([ \t\r\n;&|()\"'`<>]+)")
_NAME: Final = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_YAML_KEY: Final = re.compile(r"([\"']?)([A-Za-z_./][\w./-]*)\1[ \t]*:(?=[ \t\r\n]|\Z)", re.ASCII)
_YAML_BLOCK: Final = re.compile(r"[ \t]*[|>][+-]?[0-9]?[+-]?[ \t\r]*(?:#.*)?\n?")
_IN_YAML: Final = re.compile(r"([ \t\r\n,{}\[\]\"']+|:(?=[ \t]))")
_YAML_PAIR: Final = re.compile(r"[A-Z_][A-Z0-9_]*|--?[a-z][a-z0-9.-]*")
_IN_RULES: Final = re.compile(r"(\"[^\"\n]*\"|#[^\n]*|[ \t\r\n]+)")
NAMES_AN_INTERFACE: Final = frozenset("iifname oifname iif oif device include interface".split())
SAYS_SOMETHING: Final = frozenset("comment --comment prefix --log-prefix --nflog-prefix".split())


def mask_words(text: str, masker: Masker) -> str:
    """A file of the distribution's that is needed whole, but for comments."""
    return "".join(_comment(line) or masker.value(line, "all") for line in text.splitlines(keepends=True))


def mask_settings(text: str, masker: Masker) -> str:
    """``NAME = VALUE`` a line, with sections in brackets: units, settings of certificate clients, properties, environments."""
    made, name = [], ""
    for line in text.splitlines(keepends=True):
        bare, comment = line.strip(), _comment(line, "#;!")
        assignment = _ASSIGNMENT.match(line)
        if name:  # the value of the line above goes on
            made.append(_setting(name, line, masker))
        elif comment is not None:
            made.append(comment)
        elif bare.startswith("["):
            made.append(line if _SECTION.fullmatch(bare) else _quoted(line, "never", masker))
        elif re.match(r"[ \t]*\.include[ \t]", line):
            made.append(_quoted(line, "file", masker))
        elif assignment is not None and _may_be_named(assignment[2], masker):
            name = assignment[2]
            made += [assignment[0], _setting(name, line[assignment.end() :], masker)]
        elif assignment is not None:
            made.append(_quoted(line, "never", masker))
        else:
            made.append(_quoted(line, "kind" if masker.language == "environment" else "look", masker))
        if not line.rstrip("\r\n").endswith("\\"):
            name = ""
    return "".join(made)


def _may_be_named(name: str, masker: Masker) -> bool:
    """Whether the name of a setting may leave. Certificate clients also have domains, and what people call things, as names."""
    if masker.language == "ini":
        return ("ini", name.lower()) in classes() or masker.looks_safe(name)
    return len(name) <= _LONGEST_NAME


def _setting(name: str, text: str, masker: Masker) -> str:
    key = name.lower()
    if masker.language == "unit" and key.startswith("exec"):
        return _shell(text, masker)
    return _quoted(text, classes().get((masker.language, key), (USUAL_CLASS[masker.language],))[0], masker)


def _quoted(text: str, kind: str, masker: Masker) -> str:
    """What stands between blanks, and in quotes with its blanks, each by ``kind``."""
    made = []
    for part in _QUOTED.split(text):
        if not part.strip(" \t\r\n\\,"):
            made.append(part)
        elif part[:1] in ('"', "'") and len(part) > 1:
            made.append(part[0] + masker.value(part[1:-1], kind) + part[0])
        else:
            made.append(masker.value(part, kind))
    return "".join(made)


def mask_script(text: str, masker: Masker) -> str:
    """Shell scripts, tables of cron, and the texts of rewrite maps."""
    return "".join(
        line if (comment := _comment(line)) is None and not line.strip() else comment or _shell(line, masker)
        for line in text.splitlines(keepends=True)
    )


def _shell(line: str, masker: Masker) -> str:
    made = []
    for part in _IN_SHELL.split(line):
        name, equals, value = part.partition("=")
        if equals and _NAME.fullmatch(name) and len(name) <= _LONGEST_NAME:
            made.append(f"{name}={masker.value(value, 'setting')}")
        else:
            made.append(masker.value(part, USUAL_CLASS[masker.language]))
    return "".join(made)


def mask_yaml(text: str, masker: Masker) -> str:
    made: list[str] = []
    block: int | None = None  # the indent of the key whose block of text goes on
    for line in text.splitlines(keepends=True):
        indent = len(line) - len(line.lstrip(" "))
        if block is not None and (not line.strip() or indent > block):
            made.append(_quoted(line, "never", masker))
            continue
        block = None
        lead = re.match(r"[ \t]*(?:- +)*", line)
        head = "" if lead is None else lead[0]
        rest = line[len(head) :]
        key = _YAML_KEY.match(rest)
        if rest.startswith("#"):
            made.append(head + (_comment(rest) or ""))
        elif key is None or len(key[2]) > _LONGEST_NAME:
            made.append(head + _yaml_value("", rest, masker))
        else:
            made += [head, key[0], _yaml_value(key[2].lower(), rest[key.end() :], masker)]
            if _YAML_BLOCK.fullmatch(rest[key.end() :]):
                block = indent
    return "".join(made)


def _yaml_value(key: str, text: str, masker: Masker) -> str:
    kind = classes().get(("yaml", key), (USUAL_CLASS["yaml"],))[0]
    comment = re.search(r"(?:\A|[ \t])#", text)
    if comment is not None and all(text.count(quote, 0, comment.start()) % 2 == 0 for quote in "\"'"):
        text = text[: comment.start()] + "\n" * text.endswith("\n")
    made = []
    for part in _IN_YAML.split(text):
        name, equals, value = part.partition("=")
        if equals and _YAML_PAIR.fullmatch(name) and len(name) <= _LONGEST_NAME:
            made.append(f"{name}={masker.value(value, 'kind')}")
        elif has_shape(part, "option"):
            made.append(part)
        else:
            made.append(masker.value(part, kind))
    return "".join(made)


def mask_rules(text: str, masker: Masker) -> str:
    """Rules of a packet filter: everything but comments and texts for a log."""
    made, before = [], ""
    for part in _IN_RULES.split(text):
        if not part.strip():
            made.append(part)
            continue
        if part.startswith("#"):
            made.append("#")
        elif part.startswith('"'):
            is_named = before in NAMES_AN_INTERFACE or before.endswith(("{", ","))
            made.append(f'"{masker.value(part[1:-1], "name" if is_named else "never")}"')
        else:
            made.append(masker.value(part, "never" if before in SAYS_SOMETHING else "all"))
        before = part
    return "".join(made)


def _comment(line: str, marks: str = "#") -> str | None:
    """What stays of a line that is a comment; None for any other line."""
    bare = line.lstrip()
    if bare[:1] not in marks or (is_plain(bare) and not bare):
        return None
    return bare[0] + "\n" * line.endswith("\n")
