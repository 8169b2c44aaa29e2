"""Who is let in: allow and deny, passwords, and how they go together (ngx_http_access_module, auth_basic, satisfy)."""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass
from functools import cached_property
from typing import Final

from rupex.model import Setting
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.syntax import Directive
from rupex.servers.nginx.variables import Exchange, is_constant

_BY_ADDRESS: Final = "who is let in goes by the client's address"
_WIDEST_NAMED = {4: 4, 6: 8}
"""A shorter prefix than this names nobody: it is half of the internet."""


@dataclass(frozen=True)
class Access:
    """The rules in force: the ``rules`` by address in order, the line that asks for a ``password``, the one that asks
    another server (``request``), and whether ``any`` of them is enough."""

    rules: tuple[Directive, ...]
    password: Directive | None
    request: Directive | None
    any: bool

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

    def closed(self) -> Setting[bool] | None:
        """Whether strangers are kept out, and by which line; None where no rule says anything."""
        if self is NO_ACCESS_RULES:
            return None
        checks = [by for by in (self.password, self.request) if by is not None]
        by_address = self.stranger_denied_by
        if self.any and checks and self.rules:
            if self.lets_strangers_in:  # one is enough, and every address is
                return Setting(False, self.rules[-1].provenance())
            return Setting(True, (by_address or checks[0]).provenance())
        first = by_address or (checks[0] if checks else None)
        return Setting(True, first.provenance()) if first else Setting(False, self.rules[-1].provenance())

    def refusal(self, exchange: Exchange) -> tuple[tuple[int | None, Directive] | None, str | None]:
        """The status and line that refuse ``exchange``, or why that cannot be told. Its client's address is not known."""
        verdicts: list[tuple[int | None, Directive] | str | None] = []
        if self.rules:
            is_enough = not self.any or self.lets_strangers_in or self._denies
            verdicts.append(self._by_address() if is_enough else _BY_ADDRESS)
        if self.password is not None:
            sent = "authorization" in exchange.headers
            verdicts.append("whether the password is right is known at run time only" if sent else (401, self.password))
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

    def _by_address(self) -> tuple[int | None, Directive] | str | None:
        if not self._denies:
            return None
        first = self.rules[0]
        if _names_everybody(first.args[0] if first.args else ""):
            return (403, first) if first.name == "deny" else None
        return _BY_ADDRESS


def _names_everybody(word: str) -> bool:
    if word == "all":
        return True
    try:
        network = ipaddress.ip_network(word, strict=False)
    except ValueError:
        return False
    return network.prefixlen <= _WIDEST_NAMED[network.version]


_NAMES: Final = frozenset({"allow", "deny", "auth_basic", "auth_request", "satisfy"})
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
    password = request = satisfy = None
    for block in reversed(chain):
        names = block.by_name
        if not rules and ("allow" in names or "deny" in names):
            rules = tuple(c for c in block.children if isinstance(c, Directive) and c.name in ("allow", "deny"))
        if password is None and "auth_basic" in names:
            password = block.last("auth_basic")
        if request is None and "auth_request" in names:
            request = block.last("auth_request")
        if satisfy is None and "satisfy" in names:
            satisfy = block.last("satisfy")
    if password is not None and password.args == ("off",):
        password = None
    if request is not None and request.args == ("off",):
        request = None
    if not rules and password is None and request is None:
        return NO_ACCESS_RULES
    return Access(rules, password, request, satisfy is not None and satisfy.args == ("any",))


def realm_of(access: Access) -> str | None:
    """The ``WWW-Authenticate`` value that goes with a 401; None where it is not known."""
    if access.password is None or not access.password.args or not is_constant(access.password.args[0]):
        return None
    return f'Basic realm="{access.password.args[0]}"'
