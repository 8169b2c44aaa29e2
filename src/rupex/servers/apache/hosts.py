"""Listeners and virtual hosts: which one answers, by address and then by name (httpd's server/vhost.c)."""

from __future__ import annotations

import re
from collections.abc import Sequence
from fnmatch import translate
from functools import lru_cache
from typing import Final

from msgspec import Struct

from rupex.masking.quoting import quoted
from rupex.model import Problem
from rupex.model.budget import spend
from rupex.model.numbers import whole_number
from rupex.servers.apache.load import LoadedConfig, all_of, last_of, sections_of
from rupex.servers.apache.syntax import Block, Directive, split_words
from rupex.servers.common.samples import EVERY
from rupex.servers.common.templates import ReadOnce

_ADDRESS = re.compile(r"(?P<host>\[[^\]]*\]|[^:\[]*?)(?::(?P<port>\*|[0-9]{1,5}))?")
_HTTPS_PORT: Final = 443
_WILDCARDS: Final = ("*", EVERY, "[::]")
"""The addresses of a virtual host that stand for all."""
_SCHEME = re.compile(r"^[a-z][a-z0-9+.-]*://", re.IGNORECASE)


class Listen(Struct, frozen=True):
    """A ``Listen`` line: where the server accepts connections, and the protocol that they are taken to speak.

    ``address``: that of every address where none is given; ``written``: as the line has it, ``*`` for none.
    """

    address: str
    port: int
    protocol: str
    directive: Directive
    written: str

    def is_at(self, address: str, port: int | None) -> bool:
        """Whether an address and port of a virtual host are the same to the server (apr_sockaddr_equal): ``*`` is every address
        of either kind, ``Listen 80`` binds ``[::]``."""
        if port != self.port:
            return False
        if address == "*":
            return self.written in _WILDCARDS
        return address == ("[::]" if self.written == "*" else self.written)


class Names(Struct, frozen=True):
    """What a block gives as ServerName, without scheme and port and as it is ``written``, and as its aliases."""

    name: str | None
    aliases: tuple[str, ...]
    written: str = ""


class VirtualHost:
    """A virtual host, or the main server (``section`` None).

    ``names``: ServerName first, then its aliases; ``server_name``: the one in force, ``written_name`` with scheme and port.
    """

    def __init__(self, section: Directive | None, directives: Block, main: VirtualHost | None, said: Names) -> None:
        self.section, self.directives, self.main = section, directives, main
        own = () if said.name is None else (said.name,)
        self.names: tuple[str, ...] = tuple(dict.fromkeys((*own, *said.aliases)))
        self.server_name: str = own[0] if own else main.server_name if main is not None else ""
        self.written_name: str = said.written if own or main is None else main.written_name
        self.addresses = _addresses(section.raw) if section is not None else ()

    @property
    def chain(self) -> tuple[Block, ...]:
        """What is written in the main server, then what is in the virtual host."""
        return (self.directives,) if self.main is None else (self.main.directives, self.directives)

    def says(self, *names: str) -> Directive | None:
        """As :meth:`last`, where only what it says counts, not its place: of an instance that of its template."""
        found = last_of(self.directives.model, *names)
        return found if found is not None or self.main is None else last_of(self.main.directives, *names)

    def last(self, *names: str) -> Directive | None:
        """The directive in force of those that a virtual host takes over from the main server."""
        for directives in reversed(self.chain):
            found = last_of(directives, *names)
            if found is not None:
                return found
        return None

    def own_word(self, name: str) -> str:
        """What is written behind a directive that is not taken over from the main server, in lower case; empty for nothing."""
        found = last_of(self.directives, name)
        return "" if found is None else found.word


class Listener:
    """One address and port, and the virtual hosts that answer there, in order; the first for names that none has.

    ``listen``: the line that opens it; ``listens``: those of the whole server.
    """

    def __init__(
        self, address: str, port: int, listen: Listen, virtuals: list[VirtualHost], listens: Sequence[Listen]
    ) -> None:
        self.address, self.port, self.listen, self.virtuals, self.listens = address, port, listen, virtuals, listens
        self._place = {id(virtual): place for place, virtual in enumerate(virtuals)}
        self._by_name: dict[str, int] = {}
        self._by_pattern: list[tuple[int, re.Pattern[str]]] = []
        for place, virtual in enumerate(virtuals):
            spend(1 + len(virtual.names))
            for name in (virtual.server_name, *virtual.names):
                self._by_name.setdefault(name, place)
            self._by_pattern += [(place, _pattern(name)) for name in virtual.names if is_wildcard(name)]

    @property
    def default(self) -> VirtualHost:
        return self.virtuals[0]

    def select(self, name: str) -> VirtualHost:
        return self.virtuals[self._first(name) or 0]

    def knows(self, name: str) -> bool:
        """Whether a virtual host has the name, so that it is not only the first one that answers."""
        return self._first(name) is not None

    def shadowed(self, virtual: VirtualHost) -> bool:
        """Whether no request can reach a virtual host, since earlier ones take every name that it has."""
        own = self._place[id(virtual)]
        names = virtual.names or (virtual.server_name,)
        return own > 0 and not any(map(is_wildcard, names)) and all((self._first(name) or 0) < own for name in names)

    def _first(self, name: str) -> int | None:
        """The place of the first virtual host that has a name, or a pattern that it fits."""
        name = name.lower().rstrip(".")
        exact = self._by_name.get(name)
        spend(1 + len(self._by_pattern))
        for place, pattern in self._by_pattern:
            if exact is not None and place >= exact:
                break
            if pattern.match(name):
                return place
        return exact


def is_wildcard(name: str) -> bool:
    """Whether ``*`` or ``?``, for any characters, are in a name."""
    return "*" in name or "?" in name


@lru_cache(maxsize=1024)
def _pattern(name: str) -> re.Pattern[str]:
    return re.compile(translate(name.replace("[", "[[]")))


def host_name(text: str) -> str:
    """A ServerName without scheme and port."""
    bare = _SCHEME.sub("", text).lower()
    return bare.rpartition(":")[0] if _has_port(bare) else bare


def canonical_name(virtual: VirtualHost) -> tuple[str, str, int | None] | None:
    """Scheme (empty for none), name and port that ServerName gives, where UseCanonicalName wants them; None where the client's
    word is taken."""
    directive = virtual.last("usecanonicalname")
    if directive is None or directive.word != "on":
        return None
    written = virtual.written_name
    scheme = written.partition("://")[0].lower() if "://" in written else ""
    return scheme, virtual.server_name, server_port(written)


def server_port(text: str) -> int | None:
    """The port that a ServerName gives."""
    return int(text.rpartition(":")[2]) if _has_port(text) else None


def _has_port(text: str) -> bool:
    return ":" in text and re.search(r":[0-9]{1,5}\Z", text) is not None


@lru_cache(maxsize=1024)
def _addresses(raw: str) -> tuple[tuple[str, int | None], ...]:
    """Address (``*`` for any) and port (None for any) of each argument of a VirtualHost section."""
    found: list[tuple[str, int | None]] = []
    for word in split_words(raw):
        match = _ADDRESS.fullmatch(word)
        if match is not None:
            host, port = match["host"], match["port"]
            is_any = host.lower() in ("*", "_default_", "")
            found.append(("*" if is_any else host.lower(), None if port in (None, "*") else int(port)))
    return tuple(found)


def read_listens(config: LoadedConfig, problems: list[Problem]) -> list[Listen]:
    """The ``Listen`` lines of the main server."""
    found = []
    for directive in all_of(config.main, "listen"):
        words = directive.args
        host, colon, port = words[0].rpartition(":") if words else ("", "", "")
        number = whole_number(port, most=65_535)
        if not number:
            problems.append(
                Problem(
                    "syntax", directive.path, directive.line, f"Listen {quoted(directive.raw)}: no port in it", True
                )
            )
            continue
        written = host.lower() if colon and host else "*"
        address = EVERY if written in _WILDCARDS else written
        protocol = words[1].lower() if len(words) > 1 else "https" if number == _HTTPS_PORT else "http"
        found.append(Listen(address, number, protocol, directive, written))
    return found


def read_virtuals(config: LoadedConfig) -> tuple[VirtualHost, list[VirtualHost]]:
    """The main server and the virtual hosts, in order."""
    names_of = ReadOnce(read_names)
    main = VirtualHost(None, config.main, None, names_of(config.main))
    sections = sections_of(config.main, "virtualhost")
    return main, [VirtualHost(section, section.inner, main, names_of(section.inner)) for section in sections]


def read_names(block: Block) -> Names:
    """The names that a block gives itself."""
    named = last_of(block, "servername")
    aliases = (word.lower() for alias in all_of(block, "serveralias") for word in alias.args)
    written = named.args[0] if named is not None and named.args else None
    return Names(None if written is None else host_name(written), tuple(aliases), written or "")


def listeners(listens: Sequence[Listen], main: VirtualHost, virtuals: list[VirtualHost]) -> list[Listener]:
    """Every address and port at which something else answers.

    A connection meets the virtual hosts of one ``<VirtualHost>`` argument only: that of its address and port, else of its
    address with any port, else of any address with its port, else of any with any (vhost.c, find_ipaddr and
    find_default_server); the main server answers where there is none.
    """
    found: dict[tuple[str, int], Listener] = {}
    for listen in listens:
        groups: dict[tuple[str, int | None], dict[VirtualHost, None]] = {}
        for virtual in virtuals:
            spend(len(virtual.addresses))
            for address, port in virtual.addresses:
                is_any = address in _WILDCARDS
                if (is_any or listen.address in (EVERY, address)) and port in (None, listen.port):
                    groups.setdefault(("*" if is_any else address, port), {})[virtual] = None
        for address in dict.fromkeys((*(address for address, _ in groups), listen.address)):
            own = listen.address if address == "*" else address
            if (own, listen.port) not in found:
                nearest = next((key for key in _by_precedence(own, listen.port) if key in groups), None)
                virtuals_there = [main] if nearest is None else list(groups[nearest])
                found[own, listen.port] = Listener(own, listen.port, listen, virtuals_there, listens)
    return list(found.values())


def _by_precedence(address: str, port: int) -> tuple[tuple[str, int | None], ...]:
    return (address, port), (address, None), ("*", port), ("*", None)
