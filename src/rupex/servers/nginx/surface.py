"""How much of nginx there is to attack: loaded modules, packaged pages, limits, and whose word about clients is taken."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any, Final

from rupex.model import Limits, Sample, Setting, default_of, unknown
from rupex.servers.nginx.block import Block, models_in
from rupex.servers.nginx.headers import parse_seconds
from rupex.servers.nginx.inventory import directives_of
from rupex.servers.nginx.listeners import VirtualHost
from rupex.servers.nginx.release import Release, default
from rupex.servers.nginx.tls import inherited

_MODULE_NAME = re.compile(r"(?:.*/)?(?:ngx_)?(\w+?)(?:_module)?\.so$")

_PACKAGED_ROOTS: Final = ("/var/www/html", "/usr/share/nginx/html", "html")
_NO_NAMES: Final = frozenset({"_", "", "localhost"})

_SIZES: Final = {"": 1, "k": 1 << 10, "m": 1 << 20, "g": 1 << 30}


def idle_modules(main: Block) -> Setting[tuple[str, ...]]:
    """Loaded modules of which no directive stands anywhere in the configuration."""
    loads = list(main.all("load_module"))
    if not loads:
        return Setting((), default_of("nginx", "no module is loaded beside those built in"))
    used = {name for block in models_in(main) for name in block.by_name}
    idle, place = [], None
    for load in loads:
        found = _MODULE_NAME.match(load.args[0]) if load.args else None
        words = directives_of(found[1]) if found else frozenset()
        if found and words and used.isdisjoint(words):
            idle.append(f"{found[1]}_module")
            place = place or load.provenance()
    return Setting(tuple(idle), place or loads[0].provenance())


def packaged_page(virtual: VirtualHost) -> Sample | None:
    """The page that came with the package, where a server block without a name of its own has it."""
    if not _NO_NAMES.issuperset(virtual.names):
        return None
    root = virtual.block.last("root")
    if root is None or not root.args or root.args[0].rstrip("/") not in _PACKAGED_ROOTS:
        return None
    return Sample("page", f"the packaged page in {root.args[0]}", root.provenance())


class LimitReader:
    """Reads the limits of server blocks; those that say nothing share the settings of the http block."""

    NAMES: Final = ("client_header_timeout", "client_body_timeout", "keepalive_timeout", "client_max_body_size")

    def __init__(self, http: Block, release: Release) -> None:
        self.http, self.release = http, release
        self._shared: Limits | None = None

    def of(self, server: Block) -> Limits:
        if any(name in server.by_name for name in self.NAMES):
            return self._read((self.http, server))
        if self._shared is None:
            self._shared = self._read((self.http,))
        return self._shared

    def _read(self, chain: tuple[Block, ...]) -> Limits:
        header, body, idle = (self._setting(chain, name, parse_seconds) for name in self.NAMES[:3])
        return Limits(header, body, idle, self._setting(chain, self.NAMES[3], _parse_size))

    def _setting(self, chain: tuple[Block, ...], name: str, parse: Callable[[str], int | None]) -> Setting[int]:
        directive, provenance = inherited(chain, name)
        if directive is None or not directive.args:
            setting: Setting[Any] = default(name, self.release)
            return Setting(parse(str(setting.value)), setting.provenance)
        value = parse(directive.args[0])
        if value is None:
            return unknown(f"{directive} cannot be read", provenance)
        return Setting(None if value == 0 and parse is _parse_size else value, provenance)


def _parse_size(text: str) -> int | None:
    found = re.fullmatch(r"([0-9]{1,12})([kKmMgG]?)", text)
    return int(found[1]) * _SIZES[found[2].lower()] if found else None


def trusted_peers(chain: tuple[Block, ...]) -> Setting[tuple[str, ...]] | None:
    """The networks whose word about the client's address is taken (ngx_http_realip_module); None: nobody's."""
    for block in reversed(chain):
        found = list(block.all("set_real_ip_from"))
        if found:
            widest = next((d for d in found if d.args[:1] and d.args[0].endswith("/0")), found[0])
            return Setting(tuple(d.args[0] for d in found if d.args), widest.provenance())
    return None
