"""OpenSSL's configuration file (config(5)): the settings that apply to every program of a system.

What is read: sections, assignments, comments, line continuation, ``$variables`` of the same file, and ``.include``. From
the section that ``openssl_conf`` names, its ``ssl_conf``, and there ``system_default``.
"""

from __future__ import annotations

import re
from collections.abc import Callable

from rupex.model import Provenance, bounds

Read = Callable[[str], list[tuple[str, str]]]
"""A file or folder of an ``.include`` to the (path, text) of each file it stands for."""

_SECTION = re.compile(r"\[\s*([^\]]*?)\s*\]")
_VARIABLE = re.compile(r"\$(?:\{([A-Za-z0-9_.:]+)\}|\(([A-Za-z0-9_.:]+)\)|([A-Za-z0-9_]+))")

Assignment = tuple[str, Provenance]


def parse_system_default(path: str, text: str, read: Read) -> dict[str, Assignment]:
    """The system-wide TLS settings of the file at ``path``: command (``MinProtocol`` …, as written) to value and place.

    Never raises; what is no configuration gives nothing.
    """
    sections: dict[str, dict[str, Assignment]] = {"default": {}}
    _read_into(sections, path, text, read, "default", 0)

    def named(section: str, key: str) -> str:
        return sections.get(section, {}).get(key, ("", Provenance("explicit")))[0]

    start = named("default", "openssl_conf")
    return sections.get(named(named(start, "ssl_conf"), "system_default"), {})


def _read_into(
    sections: dict[str, dict[str, Assignment]], path: str, text: str, read: Read, section: str, depth: int
) -> str:
    """Add the assignments of one file; the section in which it ends."""
    lines = text.splitlines()
    number = 0
    while number < len(lines):
        line, first = lines[number], number + 1
        while line.endswith("\\") and number + 1 < len(lines):
            number += 1
            line = line[:-1] + lines[number]
        number += 1
        line = line.split("#", 1)[0].strip()
        found = _SECTION.fullmatch(line)
        if found is not None:
            section = found[1]
            sections.setdefault(section, {})
        elif line.startswith(".include"):
            target = line.removeprefix(".include").lstrip(" =").strip()
            for inner_path, inner in read(target) if depth < bounds.INCLUDE_DEPTH else ():
                section = _read_into(sections, inner_path, inner, read, section, depth + 1)
        elif "=" in line and not line.startswith("."):
            key, _, value = line.partition("=")
            value = _filled(value.strip(), sections, section)
            sections[section][key.strip()] = (value, Provenance("explicit", path, first, 1))
    return section


def _filled(value: str, sections: dict[str, dict[str, Assignment]], section: str) -> str:
    def look_up(match: re.Match[str]) -> str:
        name: str = match[1] or match[2] or match[3]
        place, _, key = name.rpartition("::")
        for where in (place,) if place else (section, "default"):
            if key in sections.get(where, {}):
                return sections[where][key][0]
        return ""

    return _VARIABLE.sub(look_up, value) if "$" in value else value.strip("\"'")
