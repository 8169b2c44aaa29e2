"""OpenSSL's configuration file (config(5)): the settings that apply to every program of a system.

What is read: sections, assignments, comments, line continuation, ``$variables`` of the same file, and ``.include``. From
the section that ``openssl_conf`` names, its ``ssl_conf``, and there ``system_default``.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Literal

from rupex.model import Provenance, bounds
from rupex.model.budget import UndeterminedError, filled, spend, work_at

Read = Callable[[str], list[tuple[str, str]]]
"""A file or folder of an ``.include`` to the (path, text) of each file it stands for."""

_SECTION = re.compile(r"\[\s*([^\]]*?)\s*\]")
_VARIABLE = re.compile(r"\$(?:\{([A-Za-z0-9_.:]+)\}|\(([A-Za-z0-9_.:]+)\)|([A-Za-z0-9_]+))")

Assignment = tuple[str, Provenance]
Sections = dict[str, dict[str, Assignment]]


class RefusedFileError(Exception):
    """A file that OpenSSL does not take, so that none of its settings hold; ``line`` counts from 1."""

    def __init__(self, kind: Literal["bound", "loop"], path: str, line: int, message: str) -> None:
        super().__init__(message)
        self.kind, self.path, self.line, self.message = kind, path, line, message


def parse_system_default(path: str, text: str, read: Read) -> dict[str, Assignment]:
    """The system-wide TLS settings of the file at ``path``: command (``MinProtocol`` …, as written) to value and place; nothing
    of what is no configuration. Raises :class:`RefusedFileError`, and :class:`~rupex.model.budget.ExhaustedError`."""
    reader = _Reader(read)
    reader.add(path, text, "default", ())
    sections = reader.sections

    def named(section: str, key: str) -> str:
        return sections.get(section, {}).get(key, ("", Provenance("explicit")))[0]

    start = named("default", "openssl_conf")
    return sections.get(named(named(start, "ssl_conf"), "system_default"), {})


class _Reader:
    def __init__(self, read: Read) -> None:
        self.read = read
        self.sections: Sections = {"default": {}}
        self.files = 0

    def add(self, path: str, text: str, section: str, above: tuple[str, ...]) -> str:
        """Add the assignments of one file, in which ``section`` holds at first; the section in which it ends. ``above``: the
        files that include it."""
        work_at(path)
        lines = text.splitlines()
        spend(1 + len(lines))
        number = 0
        while number < len(lines):
            first = number + 1
            pieces = [lines[number]]
            while pieces[-1].endswith("\\") and number + 1 < len(lines):
                number += 1
                pieces[-1] = pieces[-1][:-1]
                pieces.append(lines[number])
            number += 1
            line = "".join(pieces).split("#", 1)[0].strip()
            found = _SECTION.fullmatch(line)
            if found is not None:
                section = found[1]
                self.sections.setdefault(section, {})
            elif line.startswith(".include"):
                section = self._include(line, path, first, section, above)
            elif "=" in line and not line.startswith("."):
                key, _, value = line.partition("=")
                try:
                    value = self._filled(value.strip(), section)
                except UndeterminedError as undetermined:
                    words = f"the value of {key.strip()}: {undetermined.why}, so that OpenSSL does not take the file"
                    raise RefusedFileError("bound", path, first, words) from None
                self.sections[section][key.strip()] = (value, Provenance("explicit", path, first, 1))
        return section

    def _include(self, line: str, path: str, number: int, section: str, above: tuple[str, ...]) -> str:
        target = line.removeprefix(".include").lstrip(" =").strip()
        for inner_path, inner in self.read(target):
            self.files += 1
            if inner_path in (*above, path):
                raise RefusedFileError("loop", path, number, f"{inner_path}: files that include each other")
            if len(above) >= bounds.INCLUDE_DEPTH or self.files > bounds.LIBRARY_FILES:
                raise RefusedFileError("bound", path, number, f"{inner_path}: too many files that include each other")
            section = self.add(inner_path, inner, section, (*above, path))
        return section

    def _filled(self, value: str, section: str) -> str:
        """``value`` with its variables replaced. Raises :class:`UndeterminedError` for what is longer than OpenSSL takes
        (MAX_CONF_VALUE_LENGTH, 65536; crypto/conf/conf_def.c)."""

        def look_up(match: re.Match[str]) -> str:
            name: str = match[1] or match[2] or match[3]
            place, _, key = name.rpartition("::")
            for where in (place,) if place else (section, "default"):
                if key in self.sections.get(where, {}):
                    return self.sections[where][key][0]
            return ""

        return filled(_VARIABLE, look_up, value) if "$" in value else value.strip("\"'")
