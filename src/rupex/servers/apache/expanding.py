"""References in rules, ``$1 %1 %{NAME} ${map:key|default}``, and the maps they look into (mod_rewrite.c, do_expand and
lookup_map, httpd 2.4)."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Final, NamedTuple
from urllib.parse import quote, unquote

from rupex.host import HostTree, TreeError
from rupex.model import bounds
from rupex.model.budget import joined
from rupex.servers.apache.exchange import Exchange, escaped
from rupex.servers.apache.syntax import Directive
from rupex.servers.common.patterns import UndeterminedError

_FUNCTIONS: Final[dict[str, Callable[[str], str]]] = {
    "toupper": str.upper,
    "tolower": str.lower,
    "escape": escaped,
    "unescape": unquote,
}
_DEEPEST: Final = 20
"""Maps in each other."""


class Captured(NamedTuple):
    """What the pattern of a rule captured, and that of its last condition, each with the whole match first."""

    rule: list[str]
    condition: list[str]


class RewriteMaps:
    """The maps that ``directives`` (``RewriteMap``) name. ``path``: from a file name to a path in ``tree``."""

    def __init__(self, directives: Iterable[Directive], tree: HostTree, path: Callable[[str], str]) -> None:
        self.tree, self.path = tree, path
        self._sources = {d.args[0]: d.args[1] for d in directives if len(d.args) > 1}
        self._texts: dict[str, dict[str, str]] = {}

    def look_up(self, name: str, key: str) -> str | None:
        """The value of ``key``, None for none, or where there is no such map. Raises :class:`UndeterminedError` for one that
        only run time knows."""
        source = self._sources.get(name)
        if source is None:
            return None
        kind, colon, rest = source.partition(":")
        if not colon or kind.startswith("/"):
            kind, rest = "txt", source
        if kind == "int":
            function = _FUNCTIONS.get(rest)
            return None if function is None else function(key)
        if kind not in ("txt", "rnd"):
            raise UndeterminedError(f"the map {name} ({kind}) is read at run time only")
        value = self._text(name, rest).get(key)
        if kind == "rnd" and value is not None and "|" in value:
            raise UndeterminedError(f"the map {name} chooses at random")
        return value

    def _text(self, name: str, file: str) -> dict[str, str]:
        """A map in a text: a key and a value on each line, the first of a key holds (lookup_map_txtfile)."""
        if name not in self._texts:
            try:
                text = self.tree.read(self.path(file), bounds.CONFIG_FILE_BYTES).decode("utf-8", "surrogateescape")
            except TreeError as error:
                raise UndeterminedError(f"the map {name} cannot be read: {error.message}") from None
            found: dict[str, str] = {}
            for line in text.split("\n"):
                words = line.split(maxsplit=2)
                if len(words) > 1 and not line.startswith("#") and not line[0].isspace():
                    found.setdefault(words[0], words[1])
            self._texts[name] = found
        return self._texts[name]


def expanded(
    text: str,
    captured: Captured,
    exchange: Exchange,
    maps: RewriteMaps,
    escape: Callable[[str], str] = str,
    depth: int = 0,
) -> str:
    """``text`` with its references filled in; ``escape``: what is made of a part that the rule's pattern captured. Raises
    :class:`UndeterminedError`."""
    if depth > _DEEPEST or len(text) > bounds.PATTERN_CHARACTERS:
        raise UndeterminedError("its references are too many, or lie too deep in each other")
    return joined(_expanded(text, captured, exchange, maps, escape, depth))


def _expanded(
    text: str, captured: Captured, exchange: Exchange, maps: RewriteMaps, escape: Callable[[str], str], depth: int
) -> Iterator[str]:
    position = 0
    while position < len(text):
        one, following = text[position], text[position + 1 : position + 2]
        if one == "\\" and following:
            yield following
            position += 2
        elif one in "$%" and following.isdecimal() and following.isascii():
            groups = captured.rule if one == "$" else captured.condition
            value = groups[int(following)] if int(following) < len(groups) else ""
            yield escape(value) if one == "$" else value
            position += 2
        elif one in "$%" and following == "{" and (end := _closing(text, position + 2)) is not None:
            inner = text[position + 2 : end]
            if one == "%":
                yield _variable(inner, exchange)
            elif (colon := _outside(inner, ":")) is not None:
                key, default = inner[colon + 1 :], ""
                if (bar := _outside(key, "|")) is not None:
                    key, default = key[:bar], key[bar + 1 :]
                looked = maps.look_up(inner[:colon], expanded(key, captured, exchange, maps, escape, depth + 1))
                yield expanded(default, captured, exchange, maps, escape, depth + 1) if looked is None else looked
            else:
                yield text[position : end + 1]
            position = end + 1
        else:
            yield one
            position += 1


def _closing(text: str, at: int) -> int | None:
    """Where the bracket closes that was opened before ``at`` (find_closing_curly)."""
    depth = 1
    while at < len(text):
        if text[at] == "\\":
            at += 1
        else:
            depth += {"{": 1, "}": -1}.get(text[at], 0)
            if depth == 0:
                return at
        at += 1
    return None


def _outside(text: str, sign: str) -> int | None:
    """The first ``sign`` that stands in no brackets (find_char_in_curlies)."""
    depth = position = 0
    while position < len(text):
        if text[position] == "\\":
            position += 1
        elif text[position] == sign and depth == 0:
            return position
        else:
            depth += {"{": 1, "}": -1}.get(text[position], 0)
        position += 1
    return None


def _variable(name: str, exchange: Exchange) -> str:
    if name.upper().startswith(("LA-U:", "LA-F:")):
        raise UndeterminedError(f"%{{{name}}} is known at run time only")
    return exchange.variable(name)


def escaped_capture(text: str, *, space: str) -> str:
    """A captured part as the flag ``B`` escapes it; ``space``: what stands for one."""
    return quote(text, safe="").replace("%20", space)
