"""Who is let in: allow and deny, passwords, and how they go together (ngx_http_access_module, auth_basic, satisfy)."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Final

from rupex.model import Setting, unknown
from rupex.servers.common.addresses import is_in, parse_address, parse_network
from rupex.servers.common.patterns import UndeterminedError
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.syntax import Directive
from rupex.servers.nginx.variables import Exchange

_BY_ADDRESS: Final = "who is let in goes by the client's address (--source ADDRESS)"
_WIDEST_NAMED = {4: 4, 6: 8}
"""A shorter prefix than this names nobody: it is half of the internet."""


@dataclass(frozen=True)
class Access:
    """The access rules in force.

    ``rules``: those by address, in order.
    ``password``: the line that asks for one, where a file of ``users`` is named too.
    ``request``: the line that asks another server.
    ``any``: one of them is enough.
    """

    rules: tuple[Directive, ...]
    password: Directive | None
    request: Directive | None
    any: bool
    users: Directive | None = None

    @cached_property
    def stranger_denied_by(self) -> Directive | None:
        """The rule that denies an address nobody named; None when such an address is allowed."""
        for rule in self.rules:
            if _names_everybody(rule.args[0] if rule.args else ""):
                return rule if rule.name == "deny" else None
        return None

    @cached_property
    def lets_strangers_in(self) -> bool:
        """Whether a rule allows every address. Where no rule names an address, they neither refuse nor admit it
        (ngx_http_access_handler declines)."""
        named = (rule for rule in self.rules if _names_everybody(rule.args[0] if rule.args else ""))
        first = next(named, None)
        return first is not None and first.name == "allow"

    @cached_property
    def _denies(self) -> bool:
        return any(rule.name == "deny" for rule in self.rules)

    def _asks_password(self, exchange: Exchange) -> bool:
        """Whether a password is asked for: a realm that comes out as ``off`` asks nobody. Raises
        :class:`~rupex.servers.common.patterns.UndeterminedError`."""
        return self.password is not None and exchange.fill("".join(self.password.args[:1])) != "off"

    def closed(self, exchange: Exchange) -> Setting[bool] | None:
        """Whether strangers are kept out, and by which line; None where no rule says anything. ``exchange``: a request of one."""
        if self is NO_ACCESS_RULES:
            return None
        try:
            password = self.password if self._asks_password(exchange) else None
        except UndeterminedError as undetermined:
            return unknown(undetermined.why, None if self.password is None else self.password.provenance())
        checks = [by for by in (password, self.request) if by is not None]
        by_address = self.stranger_denied_by
        if self.any and checks and self.rules:
            if self.lets_strangers_in:  # one is enough, and every address is
                return Setting(False, self.rules[-1].provenance())
            return Setting(True, (by_address or checks[0]).provenance())
        first = by_address or (checks[0] if checks else None)
        if first is not None:
            return Setting(True, first.provenance())
        return Setting(False, self.rules[-1].provenance()) if self.rules else None

    def refusal(self, exchange: Exchange) -> tuple[tuple[int | None, Directive] | None, str | None]:
        """The status and line that refuse ``exchange``, or why that cannot be told. Raises
        :class:`~rupex.servers.common.patterns.UndeterminedError` where the realm is known at run time only."""
        verdicts: list[tuple[int | None, Directive] | str | None] = []
        if self.rules:
            found, decides = self._by_address(exchange)
            if decides or not self.any:
                verdicts.append(found)
        if self.password is not None and self._asks_password(exchange):
            verdicts.append(self._by_password(exchange, self.password))
        if self.request is not None:
            verdicts.append("auth_request asks another server")
        if not verdicts:
            return None, None
        if self.any and len(verdicts) > 1:
            if None in verdicts:
                return None, None
            unknown = next((v for v in verdicts if isinstance(v, str)), None)
            if unknown is not None:
                return None, unknown
            refused = next((v for v in verdicts if isinstance(v, tuple) and v[0] == 401), verdicts[0])
            return (refused if isinstance(refused, tuple) else None), None
        for verdict in verdicts:  # in the order of the phases: address, password, other server
            if isinstance(verdict, str):
                return None, verdict
            if verdict is not None:
                return verdict, None
        return None, None

    def _by_password(self, exchange: Exchange, asking: Directive) -> tuple[int | None, Directive] | str | None:
        """What becomes of a request that a password is asked for."""
        if exchange.account is None:
            sent = "authorization" in exchange.headers
            return "whether the password is right is known at run time only" if sent else (401, asking)
        try:
            name = exchange.fill("".join(self.users.args[:1])) if self.users is not None else ""
            is_known = exchange.accounts is not None and exchange.accounts.has_user(name, exchange.account)
        except UndeterminedError as undetermined:
            return undetermined.why
        return None if is_known else (401, asking)

    def _by_address(self, exchange: Exchange) -> tuple[tuple[int | None, Directive] | str | None, bool]:
        """What the first rule says that names the client's address, and whether any does: where none does, the rules neither
        refuse nor admit it (ngx_http_access_handler declines)."""
        for rule in self.rules:
            is_met = _names(rule, exchange)
            if is_met is None:
                return (_BY_ADDRESS if self._denies or (self.any and not self.lets_strangers_in) else None), True
            if is_met:
                return ((403, rule) if rule.name == "deny" else None), True
        return None, False

    def admitting(self, exchange: Exchange) -> Directive | None:
        """The rule that lets a client in whose address is known."""
        first = next((rule for rule in self.rules if _names(rule, exchange)), None) if exchange.source else None
        return first if first is not None and first.name == "allow" else None

    def asked_of(self, exchange: Exchange) -> Directive | None:
        """The line that asks a client for a password which has one. Raises as :meth:`refusal`."""
        is_asked = exchange.account is not None and self._asks_password(exchange)
        return self.password if is_asked else None


def _names(rule: Directive, exchange: Exchange) -> bool | None:
    """Whether a rule names the client's address; None where that is not known."""
    word = rule.args[0] if rule.args else ""
    address = None if exchange.source is None else parse_address(exchange.source)
    if word == "all" or (address is None and _names_everybody(word)):
        return True
    if word == "unix:":
        return exchange.address.startswith("unix:")
    if address is None:
        return None
    network = parse_network(word)
    return network is not None and is_in(address, network)


def _names_everybody(word: str) -> bool:
    if word == "all":
        return True
    network = parse_network(word)
    return network is not None and network.prefixlen <= _WIDEST_NAMED[network.version]


_NAMES: Final = frozenset({"allow", "deny", "auth_basic", "auth_basic_user_file", "auth_request", "satisfy"})
NO_ACCESS_RULES: Final = Access((), None, None, False)


class AccessReader:
    """Reads the access rules of blocks; each chain of those that have any once."""

    def __init__(self) -> None:
        self._known: dict[tuple[int, ...], Access] = {}

    def of(self, chain: tuple[Block, ...]) -> Access:
        """The rules of the innermost block of ``chain``."""
        saying = [block for block in chain if not _NAMES.isdisjoint(block.by_name)]
        if not saying:
            return NO_ACCESS_RULES
        key = tuple(map(id, saying))
        if key not in self._known:
            self._known[key] = _read_access(saying)
        return self._known[key]


def _read_access(chain: list[Block]) -> Access:
    """The access rules of the innermost block of ``chain``. A block with rules by address inherits none."""
    rules: tuple[Directive, ...] = ()
    password = users = request = satisfy = None
    for block in reversed(chain):
        names = block.by_name
        if not rules and ("allow" in names or "deny" in names):
            rules = tuple(c for c in block.children if isinstance(c, Directive) and c.name in ("allow", "deny"))
        if password is None and "auth_basic" in names:
            password = block.last("auth_basic")
        if users is None and "auth_basic_user_file" in names:
            users = block.last("auth_basic_user_file")
        if request is None and "auth_request" in names:
            request = block.last("auth_request")
        if satisfy is None and "satisfy" in names:
            satisfy = block.last("satisfy")
    if users is None or (password is not None and password.args == ("off",)):
        password = None  # without a file of users nobody is asked (ngx_http_auth_basic_handler)
    if request is not None and request.args == ("off",):
        request = None
    if not rules and password is None and request is None:
        return NO_ACCESS_RULES
    return Access(rules, password, request, satisfy is not None and satisfy.args == ("any",), users)


def realm_of(access: Access, exchange: Exchange) -> str | None:
    """The ``WWW-Authenticate`` value that goes with a 401; None where no password is asked for."""
    if access.password is None or not access.password.args:
        return None
    return f'Basic realm="{exchange.fill(access.password.args[0])}"'


def client_address(chain: tuple[Block, ...], exchange: Exchange) -> str | None:
    """The address that a request counts as coming from, where ``chain`` holds: that which a trusted peer names
    (ngx_http_realip_module). None where it is not known."""
    if exchange.source != exchange.peer:
        return exchange.source  # it is named already
    address = None if exchange.source is None else parse_address(exchange.source)
    words = next((found for block in reversed(chain) if (found := list(block.all("set_real_ip_from")))), ())
    if address is None or not words:
        return exchange.source
    networks = [network for word in words if word.args and (network := parse_network(word.args[0])) is not None]
    header, recursive = (_nearest(chain, name, word) for name, word in _HEADER_OF_ADDRESS)
    names_hosts = len(networks) < sum(word.args[:1] != ("unix:",) for word in words)
    if names_hosts or header.lower() == "proxy_protocol":
        return None  # what a host's addresses are, or what the PROXY protocol says
    rest = exchange.headers.get(header.lower(), "").strip(" ,")
    while rest and any(is_in(address, network) for network in networks):
        rest, _, last = rest.replace(" ", ",").rpartition(",")
        named = parse_address(last) or parse_address(last.rpartition(":")[0])
        if named is None:
            break
        address, rest = named, rest.rstrip(",") if recursive == "on" else ""
    return str(address)


_HEADER_OF_ADDRESS: Final = (("real_ip_header", "X-Real-IP"), ("real_ip_recursive", "off"))


def _nearest(chain: tuple[Block, ...], name: str, default: str) -> str:
    found = next((one for block in reversed(chain) if (one := block.last(name)) is not None), None)
    return found.args[0] if found is not None and found.args else default
