"""How long an answer may be kept: ExpiresFilter (Tomcat's manual, "Expires Filter"; org.apache.catalina.filters)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Final, NamedTuple

from rupex.model import Header
from rupex.model.numbers import whole_number
from rupex.servers.common.patterns import UndeterminedError
from rupex.servers.tomcat.syntax import Element

_SECONDS: Final = {"second": 1, "minute": 60, "hour": 3_600, "day": 86_400, "week": 604_800}
_BY_CALENDAR: Final = ("month", "year")
_FROM: Final = ("access", "now", "modification")
_SHORT = re.compile(r"([am])(\d+)", re.IGNORECASE)
_PREFIX: Final = "ExpiresByType"


class Expiring(NamedTuple):
    """An ExpiresFilter that holds for a request: what is ``given`` to it, and its ``element``."""

    given: Mapping[str, str]
    element: Element

    def header(self, content_type: str | None) -> Header | None:
        """The header that it sets on an answer of a type (None where it has none), None for no header. Raises
        :class:`~rupex.servers.common.patterns.UndeterminedError`."""
        if self.given.get("ExpiresActive", "true").strip().lower() == "false":
            return None
        by_type = {
            name[len(_PREFIX) :].strip().lower(): value
            for name, value in self.given.items()
            if name.startswith(_PREFIX)
        }
        whole = (content_type or "").lower()
        if any(key.partition(";")[0].strip() == whole and ";" in key for key in by_type):
            raise UndeterminedError("whether the type of the content has a charset is known at run time only")
        names = (whole, whole.partition("/")[0]) if whole else ()
        said = next((by_type[name] for name in names if name in by_type), self.given.get("ExpiresDefault"))
        if said is None:
            return None
        seconds = _seconds(said)
        return Header(
            "Cache-Control", f"max-age={'…' if seconds is None else seconds}", "all", self.element.provenance()
        )

    def holds(self, status: int | None, method: str, release: tuple[int, ...]) -> bool:
        """Whether it looks at an answer at all: of a page (200) or of a filter (403), not of an error or redirect of Tomcat's own
        (measured on 9.0.70 and 10.1.60, which leaves POST and OPTIONS alone)."""
        excluded = {word.strip() for word in self.given.get("ExpiresExcludedResponseStatusCodes", "304").split(",")}
        return status in (200, 403) and str(status) not in excluded and (method in ("GET", "HEAD") or release < (10,))


def _seconds(text: str) -> int | None:
    """For how long; None where the calendar or the age of a file decides. Raises
    :class:`~rupex.servers.common.patterns.UndeterminedError` for words with which the application does not start."""
    words = text.lower().split()
    short = _SHORT.fullmatch(words[0]) if words else None
    if short is not None and len(words) == 1:
        return int(short[2]) if short[1] == "a" else None
    if not words or words[0] not in _FROM:
        raise UndeterminedError(f'with "{text}" for ExpiresFilter the application does not start')
    pairs = words[1 + (words[1:2] == ["plus"]) :]
    numbers = [whole_number(word) for word in pairs[::2]]
    units = [word.removesuffix("s") for word in pairs[1::2]]
    is_known = all(unit in _SECONDS or unit in _BY_CALENDAR for unit in units)
    if not units or len(numbers) != len(units) or None in numbers or not is_known:
        raise UndeterminedError(f'with "{text}" for ExpiresFilter the application does not start')
    if words[0] == "modification" or any(unit in _BY_CALENDAR for unit in units):
        return None
    return sum((number or 0) * _SECONDS[unit] for number, unit in zip(numbers, units, strict=True))
