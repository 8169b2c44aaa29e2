"""When a job runs: sets of minutes, hours, days, months and weekdays, and the next time after another."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Final

from msgspec import Struct

_EVERY_DAY: Final = tuple(range(7))
_HORIZON_DAYS: Final = 366 * 8 + 2
"""The longest wait of a calendar: from one 29th of February to the next one but one, over a century without it."""


class Schedule(Struct, frozen=True):
    """Times at which a job runs, in UTC unless something says otherwise. ``weekdays``: 0 is Monday. ``either``: a day counts by
    its number or its weekday, as in crontab(5) where both are given; else by both. ``spread_seconds``: how much later it may
    run, by chance. ``others``: further times at which it runs too."""

    minutes: tuple[int, ...]
    hours: tuple[int, ...]
    days: tuple[int, ...]
    months: tuple[int, ...]
    weekdays: tuple[int, ...] = _EVERY_DAY
    either: bool = False
    spread_seconds: int = 0
    others: tuple[Schedule, ...] = ()

    def next(self, after: datetime) -> datetime | None:
        """The first time after ``after``, without the chance; None for one that never comes."""
        moments = [moment for one in (self, *self.others) if (moment := one.own_next(after)) is not None]
        return min(moments, default=None)

    def own_next(self, after: datetime) -> datetime | None:
        """:meth:`next` without the other times."""
        if not self.minutes or not self.hours:
            return None
        start = after.replace(second=0, microsecond=0) + timedelta(minutes=1)
        midnight = start.replace(hour=0, minute=0)
        for ahead in range(_HORIZON_DAYS):
            day = midnight + timedelta(days=ahead)
            if not self._is_on(day):
                continue
            for hour in self.hours:
                for minute in self.minutes:
                    moment = day.replace(hour=hour, minute=minute)
                    if moment >= start:
                        return moment
        return None

    def _is_on(self, day: datetime) -> bool:
        if day.month not in self.months:
            return False
        by_number, by_weekday = day.day in self.days, day.weekday() in self.weekdays
        return by_number or by_weekday if self.either else by_number and by_weekday
