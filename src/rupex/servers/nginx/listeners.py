"""Listeners and server names: where a server block accepts, and which one a name meets.

Follows ``ngx_http_core_listen``, ``ngx_parse_url``, ``ngx_http_add_addresses`` and
``ngx_http_find_virtual_server`` of nginx 1.22 (src/http/).
"""

from __future__ import annotations

import ipaddress
import re
from dataclasses import dataclass, field

from msgspec import Struct

from rupex.masking.quoting import quoted
from rupex.model import Problem, Provenance
from rupex.model.budget import PER_MEMBER, spend
from rupex.servers.common.patterns import UndeterminedError, search
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.syntax import Directive

# The words that may follow the address (ngx_http_core_module, "listen"), those of older and newer releases among them.
_LISTEN_WORD = re.compile(
    r"default|default_server|bind|ssl|http2|spdy|quic|proxy_protocol|reuseport|deferred|multipath"
    r"|(?:setfib|fastopen|backlog|rcvbuf|sndbuf|accept_filter|ipv6only|so_keepalive)=.*"
)
_RANGE = re.compile(r"(|.*:)([0-9]{1,5})-([0-9]{1,5})")
_DIGITS = re.compile("[0-9]{1,5}")


class Listen(Struct, frozen=True):
    """One ``listen``, read. ``provenance`` None: the implicit one of a block without any."""

    address: str
    port: int | None
    ssl: bool
    http2: bool
    quic: bool
    default: bool
    proxy_protocol: bool
    provenance: Provenance | None

    @property
    def socket(self) -> tuple[str, int | None, bool]:
        """What listens: the same for every block that shares it. QUIC is a socket of its own (UDP)."""
        return self.address, self.port, self.quic


@dataclass(slots=True)
class VirtualHost:
    """A server block with its listeners and names (lower case, as declared otherwise)."""

    block: Block
    listens: tuple[Listen, ...]
    names: tuple[str, ...]


@dataclass(slots=True)
class Listener:
    """One address and port with the server blocks that share it, in order of declaration."""

    address: str
    port: int | None
    quic: bool
    ssl: bool = False
    http2: bool = False
    http2_by: Provenance | None = None
    default: VirtualHost | None = None
    default_is_explicit: bool = False
    members: list[tuple[VirtualHost, Listen]] = field(default_factory=list)
    _names: dict[str, VirtualHost] = field(default_factory=dict)
    _patterns: list[tuple[str, VirtualHost]] = field(default_factory=list)

    def add(self, virtual: VirtualHost, listen: Listen) -> None:
        spend(1 + len(virtual.names))
        self.members.append((virtual, listen))
        self.ssl = self.ssl or listen.ssl
        if listen.http2 and not self.http2:
            self.http2, self.http2_by = True, listen.provenance
        if self.default is None or (listen.default and not self.default_is_explicit):
            self.default, self.default_is_explicit = virtual, listen.default
        for name in virtual.names:
            if name.startswith("~"):
                self._patterns.append((name[1:], virtual))
            else:
                self._names.setdefault(name, virtual)
                if name.startswith("."):  # ".a.test" is "a.test" and "*.a.test"
                    self._names.setdefault(name[1:], virtual)
                    self._names.setdefault(f"*{name}", virtual)

    def select(self, name: str) -> VirtualHost:
        """The server block that a request for ``name`` meets: exact name, longest wildcard in front, longest behind,
        first pattern, default. Raises :class:`UndeterminedError` for a pattern that cannot be decided."""
        assert self.default is not None
        name = name.lower().rstrip(".")
        exact = self._names.get(name)
        if exact is not None:
            return exact
        labels = name.split(".")
        for cut in range(1, len(labels)):
            found = self._names.get("*." + ".".join(labels[cut:]))
            if found is not None:
                return found
        for cut in range(len(labels) - 1, 0, -1):
            found = self._names.get(".".join(labels[:cut]) + ".*")
            if found is not None:
                return found
        for pattern, virtual in self._patterns:
            if search(pattern, name, ignore_case=True) is not None:
                return virtual
        return self.default

    def shadows(self, virtual: VirtualHost) -> bool:
        """Whether every name of ``virtual`` already belongs to an earlier block here, so that nobody reaches it."""
        if virtual is self.default or not virtual.names:
            return False
        return all(not name.startswith("~") and self._names.get(name) is not virtual for name in virtual.names)


def read_listens(server: Block, *, stream: bool = False) -> tuple[tuple[Listen, ...], tuple[Problem, ...]]:
    """The ``listen`` directives of a server block, without one, port 80 of every address; and what is wrong with them.
    ``stream``: the block is one of ``stream``, which may listen on UDP (left out here) and has no listener of its own accord."""
    found: list[Listen] = []
    problems: list[Problem] = []
    for directive in server.all("listen"):
        if stream and "udp" in directive.args[1:]:
            continue
        listens = _listens(directive)
        odd = next((word for word in directive.args[1:] if _LISTEN_WORD.fullmatch(word) is None), None)
        if not listens or odd is not None:
            what = (
                "no address that Rupex can read"
                if not listens
                else f'"{quoted(odd or "")}" is no word of listen; is a ";" missing?'
            )
            line = directive.source.position(directive.start)[0]
            problems.append(
                Problem(
                    "syntax", directive.source.path, line, f'"{quoted(str(directive))}": {what}', hides_endpoints=True
                )
            )
        found += listens
    if not found and server.last("listen") is None and not stream:
        found = [Listen("0.0.0.0", 80, False, False, False, False, False, None)]  # noqa: S104  as root starts it
    return tuple(found), tuple(problems)


def _listens(directive: Directive) -> list[Listen]:
    """What one line opens: several where it gives a range of ports (since 1.15.10); nothing where it cannot be read."""
    text = directive.args[0] if directive.args else ""
    ports = _RANGE.fullmatch(text)
    if ports is None:
        return [_listen(directive, place)] if (place := _address(text)) is not None else []
    first, last = int(ports[2]), int(ports[3])
    if not 0 < first <= last < 65536:
        return []
    spend(PER_MEMBER * (last - first + 1))
    places = (_address(f"{ports[1]}{port}") for port in range(first, last + 1))
    return [_listen(directive, place) for place in places if place is not None]


def _listen(directive: Directive, place: tuple[str, int | None]) -> Listen:
    words = directive.args[1:]
    return Listen(
        *place,
        ssl="ssl" in words or "quic" in words,
        http2="http2" in words or "spdy" in words,
        quic="quic" in words,
        default="default_server" in words or "default" in words,
        proxy_protocol="proxy_protocol" in words,
        provenance=directive.provenance(),
    )


def _address(text: str) -> tuple[str, int | None] | None:
    if text.startswith("unix:"):
        return text, None
    if _DIGITS.fullmatch(text):
        return "0.0.0.0", int(text)  # noqa: S104  what nginx binds
    host, port = text, "80"
    if text.startswith("["):
        host, _, rest = text[1:].partition("]")
        port = rest[1:] if rest.startswith(":") else "80"
    elif ":" in text:
        host, _, port = text.rpartition(":")
    if not _DIGITS.fullmatch(port) or not 0 < int(port) < 65536:
        return None
    if host == "*":
        host = "0.0.0.0"  # noqa: S104
    try:
        host = str(ipaddress.ip_address(host))
    except ValueError:
        if not re.fullmatch(r"[A-Za-z0-9.\-_]+", host):
            return None
    return f"[{host}]" if ":" in host else host, int(port)


def read_names(server: Block) -> tuple[str, ...]:
    """All server names of a block in order, each once."""
    names = [name for directive in server.all("server_name") for name in directive.args]
    return tuple(dict.fromkeys(name if name.startswith("~") else name.lower() for name in names))


__all__ = ["Listen", "Listener", "UndeterminedError", "VirtualHost", "read_listens", "read_names"]
