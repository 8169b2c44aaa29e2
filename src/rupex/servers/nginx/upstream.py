"""Where a block passes requests on to: the machines, how the way there is protected, and what is taken out of answers."""

from __future__ import annotations

from typing import Final

from rupex.model import Backend, Setting, Upstream
from rupex.model.budget import PER_MEMBER, spend
from rupex.model.numbers import whole_number
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.locations import UPSTREAM_DIRECTIVES
from rupex.servers.nginx.release import Release, default
from rupex.servers.nginx.syntax import Directive
from rupex.servers.nginx.tls import inherited
from rupex.servers.nginx.variables import first_told

# Response headers that nginx takes out of an upstream's answer by itself (ngx_http_proxy_hide_headers and its kin).
_ALWAYS_HIDDEN: Final = {
    "proxy": ("date", "server", "x-pad"),
    "grpc": ("date", "server"),
    "fastcgi": ("status",),
    "uwsgi": (),
    "scgi": ("status",),
    "memcached": (),
}

# Parts of a request that a client can set to what it likes.
_CLIENTS: Final = ("http_", "arg_", "cookie_")


class UpstreamReader:
    """Reads where blocks pass requests on to. ``groups``: the upstream blocks by name."""

    def __init__(self, http: Block, release: Release) -> None:
        self.release = release
        self.groups = {block.args[0]: block for block in http.blocks("upstream") if block.args}
        self._known: dict[tuple[int, ...], Upstream | None] = {}

    def of(self, chain: tuple[Block, ...], takes_any_name: bool) -> Upstream | None:
        """The upstream of the innermost block; an ``if`` takes over its location's. ``takes_any_name``: requests for
        unknown names are answered here, so that the host name is the client's choice too."""
        directive = None
        for block in reversed(chain):
            directive = next((found for name in UPSTREAM_DIRECTIVES if (found := block.last(name)) is not None), None)
            if directive is not None or block.name not in ("if", "limit_except"):
                break
        if directive is None or not directive.args:
            return None
        key = (*map(id, chain), takes_any_name)
        if key not in self._known:
            self._known[key] = self._read(directive, chain, takes_any_name)
        return self._known[key]

    def _read(self, directive: Directive, chain: tuple[Block, ...], takes_any_name: bool) -> Upstream:
        kind = directive.name.removesuffix("_pass")
        word = directive.args[0]
        scheme, mark, rest = word.partition("://")
        url = word if mark else f"{kind}://{word}"
        if not mark:
            scheme, rest = kind, word
        place = directive.provenance()
        authority = rest if rest.startswith("unix:") else rest.split("/", 1)[0]
        tls = scheme in ("https", "grpcs")
        backends: tuple[Backend, ...] = ()
        unknown = chosen = None
        if "$" in authority or "$" in scheme:
            unknown = f"{authority if '$' in authority else scheme} is known at run time only"
            chosen = self._chosen_by(authority, chain, takes_any_name)
        else:
            backends = tuple(self.backends_at(authority, tls, directive))
        return Upstream(
            url=url,
            provenance=place,
            hidden=hidden_headers(kind, chain),
            backends=backends,
            unknown=unknown,
            verified=self.verified(kind, chain) if tls else None,
            chosen_by=chosen,
            keeps_errors=not self._intercepts(kind, chain),
        )

    def backends_at(self, authority: str, tls: bool, directive: Directive) -> list[Backend]:
        """The machines that ``authority``, the name of a group or an address, stands for in ``directive``."""
        group = self.groups.get(authority)
        if group is None:
            return [Backend(_host_of(authority), tls, directive.provenance(), _port_of(authority, 443 if tls else 80))]
        servers = [server for server in group.all("server") if server.args]
        spend(PER_MEMBER * len(servers))
        return [
            Backend(_host_of(server.args[0]), tls, directive.provenance(), _port_of(server.args[0], 80))
            for server in servers
        ]

    @staticmethod
    def _chosen_by(authority: str, chain: tuple[Block, ...], takes_any_name: bool) -> str | None:
        """The variable by which a client chooses the machine; a ``set`` or a capture is followed to its source."""

        def told(name: str) -> str | None:
            if name.startswith(_CLIENTS) or (name == "host" and takes_any_name):
                return f"${name}"
            return f"${name}, a part of the path" if whole_number(name) is not None else None

        return first_told(authority, chain, told)

    def verified(self, kind: str, chain: tuple[Block, ...]) -> Setting[bool]:
        """Whether a block has the certificates of those verified to whom it passes requests on."""
        directive, provenance = inherited(chain, f"{kind}_ssl_verify")
        if directive is None:
            return Setting(False, default("proxy_ssl_verify", self.release).provenance)
        return Setting(directive.args == ("on",), provenance)

    @staticmethod
    def _intercepts(kind: str, chain: tuple[Block, ...]) -> bool:
        directive, _ = inherited(chain, f"{kind}_intercept_errors")
        return directive is not None and directive.args == ("on",)


def may_send_server(handler: Directive, chain: tuple[Block, ...]) -> bool:
    """Whether the Server header of what a request is passed on to goes out in place of nginx's own. An interpreter behind
    FastCGI sends none."""
    kind = handler.name.removesuffix("_pass")
    return kind in _ALWAYS_HIDDEN and kind != "fastcgi" and "server" not in hidden_headers(kind, chain)


def hidden_headers(kind: str, chain: tuple[Block, ...]) -> tuple[str, ...]:
    """The headers, lower case, that a block takes out of the answers of what it passes requests on to."""
    hiding = next((list(b.all(f"{kind}_hide_header")) for b in reversed(chain) if b.last(f"{kind}_hide_header")), [])
    passing = next((list(b.all(f"{kind}_pass_header")) for b in reversed(chain) if b.last(f"{kind}_pass_header")), [])
    hidden = {d.args[0].lower() for d in hiding if d.args} | set(_ALWAYS_HIDDEN.get(kind, ()))
    cleared = {name.lower() for block in chain for d in block.all("more_clear_headers") for name in d.args}
    return tuple(sorted((hidden - {d.args[0].lower() for d in passing if d.args}) | cleared))


def _port_of(authority: str, default_port: int) -> int | None:
    """The port of ``host:port`` or ``[v6]:port``; a server of a group has port 80 unless it says (ngx_http_upstream_module)."""
    if authority.startswith("unix:"):
        return None
    port = authority.rpartition("]")[2].partition(":")[2]
    return whole_number(port, most=99_999) if port else default_port


def _host_of(authority: str) -> str:
    """The host of ``host:port``, ``[v6]:port`` or ``unix:PATH``, without user or port."""
    if authority.startswith("unix:"):
        return authority
    if authority.startswith("["):
        return authority[1:].partition("]")[0]
    return authority.partition(":")[0]
