"""How long an answer may be kept, as mod_expires says it: ``Cache-Control: max-age`` and ``Expires``."""

from __future__ import annotations

from typing import Final, Literal, NamedTuple

from rupex.model import Header
from rupex.model.numbers import whole_number
from rupex.servers.apache.exchange import Exchange
from rupex.servers.apache.load import all_of
from rupex.servers.apache.sections import Context, all_in, last_in
from rupex.servers.apache.syntax import Directive

_CARRYING: Final = (200, 201, 202, 203, 204, 205, 206, 207, 226, 301, 302, 303, 304, 307, 308)
"""The answers that carry them: all that are no errors (mod_expires.c, expires_filter)."""
_DAY: Final = 86_400
_UNITS: Final = (
    ("y", 365 * _DAY), ("mo", 30 * _DAY), ("w", 7 * _DAY), ("d", _DAY), ("h", 3600), ("mi", 60), ("s", 1),
)  # fmt: skip
"""How each unit of time begins, and its seconds; no more of it is looked at (check_code)."""


class Period(NamedTuple):
    """``seconds`` from the request, or from the time at which the file was changed."""

    counts_from: Literal["request", "file"]
    seconds: int


def expiry_headers(context: Context, exchange: Exchange, *, is_proxied: bool = False) -> tuple[Header, ...]:
    """What mod_expires adds to an answer that is no error: by the type of its content, else the default."""
    active = last_in(context, "expiresactive")
    if active is None or active.word != "on" or (exchange.status or 0) >= 400:
        return ()
    by_type = {directive.args[0].lower(): directive for directive in all_in(context, "expiresbytype") if directive.args}
    default = last_in(context, "expiresdefault")
    if is_proxied:
        likely = default or next(iter(by_type.values()), None)
        return () if likely is None else _headers(likely, "the server behind may send a time of its own, which holds")
    if by_type and exchange.content_type is None:
        doubt = f"it hangs on the type of the content ({', '.join(sorted(by_type))})"
        return _headers(default or next(iter(by_type.values())), doubt)
    kind = (exchange.content_type or "").partition(";")[0].strip().lower()
    wild = by_type.get(f"{kind.partition('/')[0]}/*", default) if _has_wildcards(context) else default
    chosen = by_type.get(kind, wild)
    return () if chosen is None else _headers(chosen, None)


def _has_wildcards(context: Context) -> bool:
    """Whether types with an asterisk count: only where the section merged last that says anything of mod_expires has one."""
    said = [list(all_of(a.directives, "expiresactive", "expiresdefault", "expiresbytype")) for a in context]
    last = next((lines for lines in reversed(said) if lines), [])
    return any(line.args[:1] and line.args[0].endswith("/*") for line in last if line.key == "expiresbytype")


def _headers(directive: Directive, doubt: str | None) -> tuple[Header, ...]:
    period = read_period(directive.args[-1] if directive.args else "")
    if period is None:
        doubt = doubt or f"{directive} names no time that is known here"
    elif period.counts_from == "file":
        doubt = doubt or "it counts from the time at which the file was changed"
    value = "max-age=…" if period is None or doubt is not None else f"max-age={period.seconds}"
    place = directive.provenance()
    return tuple(
        Header(name, text, _CARRYING, place) if doubt is None else Header(name, text, _CARRYING, place, doubt)
        for name, text in (("Cache-Control", value), ("Expires", "…"))
    )


def read_period(text: str) -> Period | None:
    """A time as ExpiresDefault takes it: ``A3600``, ``M60``, ``access plus 1 month 2 days``; None for what is none."""
    if text[:1] in ("A", "M") and (seconds := whole_number(text[1:])) is not None:
        return Period("request" if text[0] == "A" else "file", seconds)
    base, *words = text.lower().split() or [""]
    if base[:1] not in ("a", "n", "m"):
        return None
    if words[:1] and words[0].startswith("p"):
        words.pop(0)
    total = 0
    for number, unit in zip(words[::2], words[1::2], strict=False):
        count = whole_number(number)
        seconds = next((seconds for start, seconds in _UNITS if unit.startswith(start)), None)
        if count is None or seconds is None:
            return None
        total += count * seconds
    return None if len(words) % 2 else Period("file" if base.startswith("m") else "request", total)
