"""Schedules as they are written: cron fields (crontab(5)) and calendar events of timers (systemd.time(7))."""

from __future__ import annotations

import re
from typing import Final

from msgspec import structs

from rupex.model import Schedule

_ALL: Final = Schedule(tuple(range(60)), tuple(range(24)), tuple(range(1, 32)), tuple(range(1, 13)))
_MIDNIGHT: Final = structs.replace(_ALL, minutes=(0,), hours=(0,))
_MONTHS: Final = {
    name: number for number, name in enumerate("jan feb mar apr may jun jul aug sep oct nov dec".split(), 1)
}
_DAYS: Final = {name: number for number, name in enumerate("mon tue wed thu fri sat sun".split())}

_WORDS: Final = {
    "minutely": _ALL,
    "hourly": structs.replace(_ALL, minutes=(0,)),
    "daily": _MIDNIGHT,
    "midnight": _MIDNIGHT,
    "weekly": structs.replace(_MIDNIGHT, weekdays=(0,)),
    "monthly": structs.replace(_MIDNIGHT, days=(1,)),
    "quarterly": structs.replace(_MIDNIGHT, days=(1,), months=(1, 4, 7, 10)),
    "semiannually": structs.replace(_MIDNIGHT, days=(1,), months=(1, 7)),
    "yearly": structs.replace(_MIDNIGHT, days=(1,), months=(1,)),
    "annually": structs.replace(_MIDNIGHT, days=(1,), months=(1,)),
}
SCRIPT_FOLDERS: Final = {  # when Debian's /etc/crontab has run-parts go through them
    "etc/cron.hourly": structs.replace(_ALL, minutes=(17,)),
    "etc/cron.daily": structs.replace(_ALL, minutes=(25,), hours=(6,)),
    "etc/cron.weekly": structs.replace(_ALL, minutes=(47,), hours=(6,), weekdays=(6,)),
    "etc/cron.monthly": structs.replace(_ALL, minutes=(52,), hours=(6,), days=(1,)),
}
_UNITS: Final = {
    "": 1,
    "s": 1,
    "sec": 1,
    "m": 60,
    "min": 60,
    "h": 3600,
    "hr": 3600,
    "d": 86400,
    "day": 86400,
    "w": 604800,
}


def parse_cron(line: str) -> Schedule | None:
    """The schedule at the start of a line of a cron table; None for ``@reboot`` and for what is none."""
    words = line.split()
    if not words:
        return None
    if words[0].startswith("@"):
        word = words[0][1:].lower()
        found = _WORDS.get(word)
        return (
            structs.replace(found, weekdays=(6,)) if found is not None and word == "weekly" else found
        )  # Sunday, there
    if len(words) < 6:
        return None
    minutes, hours, days, months = (
        _cron_field(words[position], low, high, names)
        for position, low, high, names in ((0, 0, 59, {}), (1, 0, 23, {}), (2, 1, 31, {}), (3, 1, 12, _MONTHS))
    )
    weekdays = _cron_field(words[4].lower(), 0, 7, {name: (number + 1) % 7 for name, number in _DAYS.items()})
    if minutes is None or hours is None or days is None or months is None or weekdays is None:
        return None
    either = not words[2].startswith("*") and not words[4].startswith("*")
    return Schedule(minutes, hours, days, months, tuple(sorted({(day - 1) % 7 for day in weekdays})), either)


def _cron_field(text: str, low: int, high: int, names: dict[str, int]) -> tuple[int, ...] | None:
    found: set[int] = set()
    for part in text.lower().split(","):
        span, slash, step = part.partition("/")
        first, dash, last = span.partition("-")
        start = low if span == "*" else _number(first, names)
        end = high if span == "*" or (slash and not dash) else _number(last, names) if dash else start
        by = int(step) if step.isdecimal() and len(step) < 4 else 1 if not slash else 0
        if start is None or end is None or not by or not low <= start <= end <= high:
            return None
        found.update(range(start, end + 1, by))
    return tuple(sorted(found))


def _number(text: str, names: dict[str, int]) -> int | None:
    return names[text[:3]] if text[:3] in names else int(text) if text.isdecimal() and len(text) < 5 else None


def parse_calendar(text: str) -> Schedule | None:
    """An ``OnCalendar=`` event; None for what is not read here: years, seconds other than none, time zones, days from the end."""
    words = text.lower().split()
    if words[1:] and words[-1] == "utc":
        del words[-1]
    if " ".join(words) in _WORDS:
        return _WORDS[" ".join(words)]
    found = _MIDNIGHT
    for word in words:
        if ":" in word:
            parts = word.split(":")
            hours, minutes = _calendar_field(parts[0], 0, 23), _calendar_field(parts[1], 0, 59)
            if hours is None or minutes is None or len(parts) > 3:
                return None
            found = structs.replace(found, hours=hours, minutes=minutes)
        elif re.match(r"[a-z]", word):
            weekdays = _weekdays(word)
            if weekdays is None:
                return None
            found = structs.replace(found, weekdays=weekdays)
        else:
            date = word.split("-")
            if len(date) not in (2, 3) or (len(date) == 3 and date[0] != "*"):
                return None
            months, days = _calendar_field(date[-2], 1, 12), _calendar_field(date[-1], 1, 31)
            if months is None or days is None:
                return None
            found = structs.replace(found, months=months, days=days)
    return found if words else None


def _calendar_field(text: str, low: int, high: int) -> tuple[int, ...] | None:
    found: set[int] = set()
    for part in text.split(","):
        span, slash, step = part.partition("/")
        first, dots, last = span.partition("..")
        start = low if first == "*" else int(first) if first.isdecimal() and len(first) < 3 else None
        end = high if first == "*" or (slash and not dots) else start
        if dots:
            end = int(last) if last.isdecimal() and len(last) < 3 else None
        by = int(step) if step.isdecimal() and len(step) < 3 else 1 if not slash else 0
        if start is None or end is None or not by or not low <= start <= end <= high:
            return None
        found.update(range(start, end + 1, by))
    return tuple(sorted(found))


def _weekdays(text: str) -> tuple[int, ...] | None:
    found: set[int] = set()
    for part in text.rstrip(",").split(","):
        first, dots, last = part.replace("-", "..").partition("..")
        start, end = _DAYS.get(first[:3]), _DAYS.get((last or first)[:3])
        if start is None or end is None or (dots and not last):
            return None
        found.update(range(start, end + 1) if start <= end else (*range(start, 7), *range(end + 1)))
    return tuple(sorted(found))


def parse_span(text: str) -> int:
    """A time span (``12h``, ``1h 30min``, ``43200``) in seconds; 0 for what is none."""
    parts = re.findall(r"(\d{1,9})\s*([a-z]*)", text.strip().lower())
    return sum(int(count) * _UNITS.get(unit, _UNITS.get(unit.rstrip("s"), 0)) for count, unit in parts)
