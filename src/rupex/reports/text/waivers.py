"""A skeleton of waivers for what fails in a run, for a person to fill in."""

from __future__ import annotations

import json
from collections.abc import Iterable
from datetime import datetime, timedelta
from typing import Final

from rupex.documents.run import CheckDocument, HostDocument, PlaceDocument
from rupex.reports.clean import clean

_DAYS: Final = 90
"""How long a suggested waiver lasts; whoever fills it in changes that."""
_HEAD: Final = """# Failures that somebody accepts. Delete what is to be repaired; of what stays, fill in reason and owner,
# and set the last day (inclusive, UTC). host and place are shell patterns; a place goes by its file, its server name, or
# its path, as in "/map/*".

"""


def render_suggestions(hosts: Iterable[HostDocument], now: datetime) -> tuple[str, int]:
    """The document, and how many waivers it has: one for each failing place that has a name of its own."""
    until = (now + timedelta(days=_DAYS)).date().isoformat()
    parts = [_HEAD]
    count = 0
    for host in hosts:
        for check in host.checks:
            for place, message in _places(check):
                count += 1
                parts.append(
                    f"[[waivers]]  # {clean(message)}\n"
                    f"control = {_string(check.control)}\nhost = {_string(host.name)}\nplace = {_string(place)}\n"
                    f'reason = ""\nowner = ""\nuntil = {until}\n\n'
                )
    return "".join(parts), count


def _places(check: CheckDocument) -> list[tuple[str, str]]:
    found: dict[str, str] = {}
    for place in check.places:
        if place.verdict == "fail" and not place.folded:
            found.setdefault(_name_of(place), place.message)
    return list(found.items())


def _name_of(place: PlaceDocument) -> str:
    """What a waiver calls the place: what stays the same when lines move."""
    if place.endpoint is None:
        return place.file or "*"
    server = place.name or place.endpoint.partition("/")[2]
    if place.scope is None or not server:
        return place.endpoint
    return f"{server}{place.scope.partition(':')[2] or '/'}"


def _string(text: str) -> str:
    """``text`` as a TOML basic string, any pattern characters in it taken literally."""
    literal = "".join(f"[{c}]" if c in "*?[" and text != "*" else c for c in clean(text))
    return json.dumps(literal, ensure_ascii=False)
