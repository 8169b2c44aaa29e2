"""Response headers that nginx sends by configuration, and those it was told to send but does not.

``add_header`` is inherited from the level above only when a block has none of its own (ngx_http_headers_module); without
``always`` it is added to ten status codes only, and so is ``expires``. The headers-more module comes before all of
that: what it sets or clears, ``add_header`` can still add a second time.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterable, Iterator
from typing import Final, NamedTuple

from msgspec import UNSET, structs

from rupex.model import Dropped, Header, Provenance, Setting
from rupex.model.budget import spend
from rupex.model.numbers import whole_number
from rupex.servers.common.inventory import Unmodelled, affecting
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.inventory import InventoryReader
from rupex.servers.nginx.release import Release, default
from rupex.servers.nginx.syntax import Directive
from rupex.servers.nginx.tls import inherited
from rupex.servers.nginx.variables import DECODED, INTERNAL, Definitions, first_told, is_constant, names_in

WITHOUT_ALWAYS: Final = (200, 201, 204, 206, 301, 302, 303, 304, 307, 308)

_NAMES: Final = frozenset(
    "server_tokens add_header add_header_inherit more_set_headers more_clear_headers expires userid userid_name"
    " userid_domain userid_path userid_flags".split()
)

_UNITS: Final = {"": 1, "s": 1, "m": 60, "h": 3600, "d": 86400, "w": 604800, "M": 2592000, "y": 31536000}
_TIME = re.compile(r"(\d{1,10})(ms|[smhdwMy]?)\s*")
_MATCHES_LINE_END = re.compile(r"\[\^|\\[DWHN]|\(\?[a-z]*s")
_ADDRESS = re.compile(r"(?<![\d.])(\d{1,3}(?:\.\d{1,3}){3})(?![\d.])")


class SentHeaders(NamedTuple):
    """What a block sends, the Server header first, and what it drops of the blocks above."""

    sent: tuple[Header, ...]
    dropped: tuple[Dropped, ...]


class HeaderReader:
    """Reads the headers of blocks; each chain of blocks once."""

    def __init__(self, release: Release, definitions: Definitions, inventory: InventoryReader) -> None:
        self.release, self.definitions, self.inventory = release, definitions, inventory
        self._known: dict[tuple[object, ...], SentHeaders] = {}
        self._tokens: dict[int, Setting[str]] = {}

    def of(self, chain: tuple[Block, ...]) -> SentHeaders:
        """The headers in force in the innermost block of ``chain``."""
        # Blocks that say nothing about headers change nothing: locations without a word of their own share their server's.
        saying = [block for block in chain if not _NAMES.isdisjoint(block.by_name)]
        others = tuple(affecting(self.inventory.of(chain), frozenset(("headers",))))
        key = (
            *map(id, saying),
            bool(saying) and saying[-1] is chain[-1],
            *((one.name, one.provenance) for one in others),
        )
        found = self._known.get(key)
        if found is None:
            found = self._read(chain)
            for one in others:
                found = found._replace(sent=tuple(_doubted(found.sent, one)))
            self._known[key] = found
        return found

    def signature(self, chain: tuple[Block, ...]) -> Setting[str]:
        """What nginx's own error pages say about it, and its Server header where nothing else sets that."""
        directive, provenance = inherited(chain, "server_tokens")
        if directive is None or provenance is None:
            key, word = 0, str(default("server_tokens", self.release).value)
            provenance = default("server_tokens", self.release).provenance
        else:
            key, word = id(directive), directive.args[0] if directive.args else "on"
        found = self._tokens.get(key)
        if found is None or (directive is not None and found.provenance != provenance):
            found = Setting("nginx" if word == "off" else f"nginx/{self.release}", provenance)
            self._tokens[key] = found
        return found

    def _read(self, chain: tuple[Block, ...]) -> SentHeaders:
        more, cleared = self._headers_more(chain) if self._has_more(chain) else ([], [])
        added, dropped = self._added(chain)
        tokens = self.signature(chain)
        assert tokens.value is not None
        assert tokens.provenance is not None
        of_more = [header for header in more if header.name.lower() == "server"]
        server: tuple[Header, ...] = ()
        if of_more:
            server = (of_more[-1],)
        elif not any(_matches(name, "server") for name, on in cleared if on == "all"):
            server = (Header("Server", tokens.value, "all", tokens.provenance),)
        rest = tuple(header for header in more if header.name.lower() != "server")
        sent = (*server, *rest, *self._cookie(chain), *self._expires(chain), *added)
        spend(len(sent))
        return SentHeaders(sent, dropped)

    @staticmethod
    def _has_more(chain: tuple[Block, ...]) -> bool:
        return any("more_set_headers" in block.by_name or "more_clear_headers" in block.by_name for block in chain)

    # add_header

    def _added(self, chain: tuple[Block, ...]) -> tuple[tuple[Header, ...], tuple[Dropped, ...]]:
        levels = [
            (depth, list(block.all("add_header"))) for depth, block in enumerate(chain) if "add_header" in block.by_name
        ]
        levels = [(depth, directives) for depth, directives in levels if directives]
        if not levels:
            return (), ()
        depth, own = levels[-1]
        if len(levels) > 1 and self._merges(chain):  # since 1.29.3
            merged = [
                self._header(d, chain, position == len(chain) - 1)
                for position, ds in levels
                for d in ds
                if _says_something(d)
            ]
            return tuple(merged), ()
        is_own = depth == len(chain) - 1
        headers = tuple(self._header(d, chain, is_own) for d in own if _says_something(d))
        names = {header.name.lower() for header in headers}
        because = f"the block at {chain[depth].provenance()} has an add_header of its own, and so inherits none"
        dropped = tuple(
            Dropped(d.args[0], d.args[1], d.provenance(), because)
            for _, directives in reversed(levels[:-1])
            for d in directives
            if _says_something(d) and d.args[0].lower() not in names
        )
        return headers, dropped

    def _merges(self, chain: tuple[Block, ...]) -> bool:
        directive, _ = inherited(chain, "add_header_inherit")
        return directive is not None and directive.args == ("merge",)

    def _header(self, directive: Directive, chain: tuple[Block, ...], is_own: bool) -> Header:
        name, value = directive.args[:2]
        provenance = directive.provenance("explicit" if is_own else "inherited")
        on = "all" if directive.args[2:3] == ("always",) else WITHOUT_ALWAYS
        return self._made(name, value, on, provenance, chain)

    def _made(self, name: str, value: str, on: object, provenance: Provenance, chain: tuple[Block, ...]) -> Header:
        more: dict[str, str] = {}
        if not is_constant(value):
            more["unknown"] = "its value holds a variable"
            reflected = reflected_part(value, chain)
            if reflected is not None:
                more["reflects"] = reflected
            names = names_in(value)
            if len(names) == 1 and names[0].startswith("http_") and value in (f"${names[0]}", f"${{{names[0]}}}"):
                more["echoes"] = names[0][5:].replace("_", "-")
        inside = internal_part(value)
        if inside is not None:
            more["internal"] = inside
        return Header(name, value, on, provenance, **more)  # type: ignore[arg-type]

    # headers-more

    def _headers_more(self, chain: tuple[Block, ...]) -> tuple[list[Header], list[tuple[str, object]]]:
        """What ``more_set_headers`` sets (the last word for a name counts) and ``more_clear_headers`` takes out."""
        found: dict[tuple[str, object], Header] = {}
        cleared: list[tuple[str, object]] = []
        for block in chain:
            if "more_set_headers" not in block.by_name and "more_clear_headers" not in block.by_name:
                continue
            for child in block.children:
                if not isinstance(child, Directive):
                    continue
                if child.name == "more_set_headers":
                    on, types, words = _more_options(child.args)
                    for word in words:
                        name, _, value = word.partition(":")
                        name, value = name.strip(), value.strip()
                        if not value:
                            cleared.append((name.lower(), on))
                            found.pop((name.lower(), on), None)
                            continue
                        provenance = child.provenance("explicit" if block is chain[-1] else "inherited")
                        header = self._made(name, value, on, provenance, chain)
                        if types and not any("text/html" in kind for kind in types):
                            header = Header(
                                name, value, header.on, provenance, f"only with content of {', '.join(types)}"
                            )
                        found.pop((name.lower(), on), None)
                        found[name.lower(), on] = header
                elif child.name == "more_clear_headers":
                    on, _, words = _more_options(child.args)
                    for word in words:
                        for name in word.split():
                            cleared.append((name.lower(), on))
                            for key in [k for k in found if _matches(name.lower(), k[0])]:
                                del found[key]
        return list(found.values()), cleared

    # expires and cookies

    def _expires(self, chain: tuple[Block, ...]) -> Iterable[Header]:
        directive, provenance = inherited(chain, "expires")
        if directive is None or provenance is None or not directive.args or directive.args[0] == "off":
            return ()
        word = directive.args[-1]
        if not is_constant(word) and directive.args[0] != "modified":
            words = "its value holds a variable"
            return (Header("Cache-Control", f"{BY_EXPIRES}{word}", WITHOUT_ALWAYS, provenance, words),)
        value, doubt = (word, _BY_TIME) if directive.args[0] == "modified" else cache_control(word)
        return (Header("Cache-Control", value, WITHOUT_ALWAYS, provenance, doubt or UNSET),) if value else ()

    def _cookie(self, chain: tuple[Block, ...]) -> Iterable[Header]:
        """The cookie of ngx_http_userid_module."""
        directive, provenance = inherited(chain, "userid")
        if directive is None or provenance is None or directive.args[:1] not in (("on",), ("v1",)):
            return ()

        def word(name: str, default_name: str) -> str:
            found, _ = inherited(chain, name)
            return found.args[0] if found is not None and found.args else default_name

        flags, _ = inherited(chain, "userid_flags")
        parts = [f"{word('userid_name', 'uid')}=…"]
        if word("userid_domain", "none") != "none":
            parts.append(f"domain={word('userid_domain', '')}")
        parts.append(f"path={word('userid_path', '/')}")
        shown = {"secure": "secure", "httponly": "httponly", "samesite=strict": "samesite=strict"}
        for flag in flags.args if flags is not None else ():
            parts.append(shown.get(flag, flag))
        return (Header("Set-Cookie", "; ".join(part for part in parts if part != "off"), "all", provenance),)


BY_EXPIRES: Final = "expires "
"""How the value of a Cache-Control header begins that comes from ``expires`` with a variable, until that is filled in."""
_BY_TIME: Final = "its value goes by the time of day"


def cache_control(word: str) -> tuple[str, str]:
    """The Cache-Control value that ``expires`` makes of a word, empty where it sends none; and why that is not known, or an empty
    text (ngx_http_parse_expires)."""
    if word in ("epoch", "max"):
        return ("no-cache" if word == "epoch" else "max-age=315360000"), ""
    if word in ("off", ""):
        return "", ""
    if word.startswith("@"):
        return word, _BY_TIME
    seconds = parse_seconds(word.lstrip("+-"))
    if seconds is None:
        return "", ""  # a variable with such a value sends nothing
    return ("no-cache" if word.startswith("-") and seconds else f"max-age={seconds}"), ""


def _doubted(sent: tuple[Header, ...], changing: Unmodelled) -> Iterator[Header]:
    """``sent`` as it may be after a directive that may change, or send, some of its headers."""
    names = {name.lower(): name for name in changing.headers}
    for header in sent:
        is_changed = names.pop(header.name.lower(), None) is not None or header.name == "Server"
        if not is_changed:
            yield header
            continue
        value = header.value if is_constant(header.value) else "…"  # one that no request fills in
        yield structs.replace(header, value=value, unknown=str(changing))
    for name in names.values():
        yield Header(name, "…", "all", changing.provenance, str(changing))


def _says_something(directive: Directive) -> bool:
    return len(directive.args) >= 2 and directive.args[1] != ""


def _matches(pattern: str, name: str) -> bool:
    """Names of ``more_clear_headers`` may end in a star."""
    return name.startswith(pattern[:-1]) if pattern.endswith("*") else pattern == name


def _more_options(args: tuple[str, ...]) -> tuple[object, list[str], list[str]]:
    """Status codes, content types, and the rest, of a headers-more directive."""
    statuses: list[int] = []
    types: list[str] = []
    words: list[str] = []
    waiting = iter(args)
    for word in waiting:
        if word == "-s":
            statuses += [code for part in next(waiting, "").split() if (code := whole_number(part)) is not None]
        elif word == "-t":
            types += next(waiting, "").split()
        elif word not in ("-r", "-a"):
            words.append(word)
    return (tuple(statuses) if statuses else "all"), types, words


def parse_seconds(text: str) -> int | None:
    """A time such as ``1h30m`` in whole seconds (ngx_parse_time); None when it is none."""
    total, position = 0, 0
    while position < len(text):
        found = _TIME.match(text, position)
        if found is None:
            return None
        total += 0 if found[2] == "ms" else int(found[1]) * _UNITS[found[2]]
        position = found.end()
    return total if text else None


def reflected_part(text: str, chain: tuple[Block, ...]) -> str | None:
    """The decoded part of the request that ``text`` holds unescaped, as it is written there; or None.

    A capture counts where its pattern can match a line end: a negated class does, a dot does not.
    """

    def told(name: str) -> str | None:
        if name in DECODED:
            return f"${name}"
        if whole_number(name) is None:
            return None
        inner = next((block for block in reversed(chain) if block.name == "location" and len(block.args) == 2
                      and block.args[0] in ("~", "~*")), None)  # fmt: skip
        return f"${name} of {inner.args[1]}" if inner is not None and _MATCHES_LINE_END.search(inner.args[1]) else None

    return first_told(text, chain, told)


def internal_part(text: str) -> str | None:
    """What ``text`` tells of the inside: a variable that does, or a private address; or None."""
    if "$" in text:
        for name in names_in(text):
            if name in INTERNAL:
                return f"${name}"
    if "." in text:
        for address in _ADDRESS.findall(text):
            try:
                parsed = ipaddress.ip_address(address)
            except ValueError:
                continue
            if parsed.is_private and not parsed.is_loopback and not parsed.is_unspecified:
                return str(address)
    return None
