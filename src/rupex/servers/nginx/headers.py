"""Response headers that nginx adds, and those it was told to add but does not.

``add_header`` is inherited from the level above only when a block has none of its own (ngx_http_headers_module);
without ``always`` it is added to ten status codes only.
"""

from __future__ import annotations

from typing import Final

from rupex.model import Dropped, Header, Setting
from rupex.servers.nginx.load import Block
from rupex.servers.nginx.release import Release, default
from rupex.servers.nginx.syntax import Directive
from rupex.servers.nginx.tls import inherited
from rupex.servers.nginx.variables import is_constant

WITHOUT_ALWAYS: Final = (200, 201, 204, 206, 301, 302, 303, 304, 307, 308)


def added_headers(chain: tuple[Block, ...]) -> tuple[tuple[Header, ...], tuple[Dropped, ...]]:
    """The headers in force in the innermost block of ``chain``, and those of outer blocks that it drops."""
    levels = [(depth, list(block.all("add_header"))) for depth, block in enumerate(chain)]
    levels = [(depth, directives) for depth, directives in levels if directives]
    if not levels:
        return (), ()
    depth, own = levels[-1]
    how = "explicit" if depth == len(chain) - 1 else "inherited"
    headers = tuple(_header(d, how == "explicit") for d in own if len(d.args) >= 2 and d.args[1] != "")
    names = {header.name.lower() for header in headers}
    because = f"the block at {chain[depth].provenance()} has an add_header of its own, and so inherits none"
    dropped = tuple(
        Dropped(d.args[0], d.args[1], d.provenance(), because)
        for _, directives in reversed(levels[:-1])
        for d in directives
        if len(d.args) >= 2 and d.args[1] != "" and d.args[0].lower() not in names
    )
    return headers, dropped


def _header(directive: Directive, is_own: bool) -> Header:
    name, value = directive.args[:2]
    provenance = directive.provenance("explicit" if is_own else "inherited")
    on = "all" if directive.args[2:3] == ("always",) else WITHOUT_ALWAYS
    if is_constant(value):
        return Header(name, value, on, provenance)  # type: ignore[arg-type]
    return Header(name, value, on, provenance, "its value holds a variable")  # type: ignore[arg-type]


def server_header(chain: tuple[Block, ...], release: Release) -> Setting[str]:
    """What the Server header says, which is also what nginx's own error pages say."""
    directive, provenance = inherited(chain, "server_tokens")
    if directive is None:
        setting = default("server_tokens", release)
        word, provenance = str(setting.value), setting.provenance
    else:
        word = directive.args[0] if directive.args else "on"
    return Setting("nginx" if word == "off" else f"nginx/{release}", provenance)
