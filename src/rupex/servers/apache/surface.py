"""How much of an httpd there is to attack: limits, whose word about clients is taken, idle modules, samples."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Final

from rupex.model import Limits, Sample, Setting, default_of
from rupex.model.numbers import whole_number
from rupex.servers.apache.hosts import VirtualHost
from rupex.servers.apache.load import LoadedConfig, all_of
from rupex.servers.apache.modules import idle
from rupex.servers.apache.release import Release, default

_READ_TIMEOUT = re.compile(r"(header|body)=(\d+)(?:-(\d+))?", re.IGNORECASE)
_PACKAGED_ROOTS: Final = ("/var/www/html", "/usr/local/apache2/htdocs", "/srv/www/htdocs")
_SAMPLE_ALIASES: Final = {"/manual": "the server's manual", "/manual/": "the server's manual"}
_TRUSTED_PEERS: Final = ("remoteipinternalproxy", "remoteiptrustedproxy")
_USUAL_READ: Final = {"header": 40, "body": 20}
"""RequestReadTimeout where mod_reqtimeout is loaded and says nothing else (its manual, since 2.3.15)."""


def limits(config: LoadedConfig, virtual: VirtualHost, release: Release) -> Limits:
    """The bounds of one virtual host."""
    timeout = _seconds(virtual, "timeout", "Timeout", release)
    read = dict.fromkeys(("header", "body"), timeout)
    if "reqtimeout" in config.modules:
        timeouts = virtual.last("requestreadtimeout")
        place = default_of(f"httpd {release}", "RequestReadTimeout") if timeouts is None else timeouts.provenance()
        read = {name: Setting(seconds, place) for name, seconds in _USUAL_READ.items()}
        for name, low, high in _READ_TIMEOUT.findall(timeouts.raw if timeouts is not None else ""):
            seconds = whole_number(high or low) or 0
            read[name.lower()] = Setting(seconds, place) if seconds else timeout
    keep = virtual.last("keepalive")
    idle_seconds = _seconds(virtual, "keepalivetimeout", "KeepAliveTimeout", release)
    if keep is not None and keep.word == "off":
        idle_seconds = Setting(0, keep.provenance())
    body = virtual.last("limitrequestbody")
    body_default = default("LimitRequestBody", release)
    said_size = None if body is None else whole_number(body.word)
    number = int(body_default.value or 0) if said_size is None else said_size
    size = Setting(number or None, body_default.provenance if body is None else body.provenance())
    return Limits(read["header"], read["body"], idle_seconds, size)


def _seconds(virtual: VirtualHost, key: str, name: str, release: Release) -> Setting[int]:
    directive = virtual.last(key)
    seconds = None if directive is None else whole_number(directive.word)
    if directive is not None and seconds is not None:
        return Setting(seconds, directive.provenance())
    setting = default(name, release)
    return Setting(int(setting.value or 0), setting.provenance)


def trusted_peers(config: LoadedConfig, virtual: VirtualHost) -> Setting[tuple[str, ...]] | None:
    """The networks whose word about the client's address is taken (mod_remoteip); everybody's where none is named."""
    header = virtual.last("remoteipheader")
    if header is None or "remoteip" not in config.modules:
        return None
    directives = [d for block in virtual.chain for d in all_of(block, *_TRUSTED_PEERS)]
    if any(next(all_of(block, *(f"{name}list" for name in _TRUSTED_PEERS)), None) for block in virtual.chain):
        return Setting(None, header.provenance(), "the proxies stand in a list of their own, which was not read")
    words = tuple(word for d in directives for word in d.args)
    return Setting(words or ("0.0.0.0/0",), directives[0].provenance() if directives else header.provenance())


def idle_modules(config: LoadedConfig) -> Setting[tuple[str, ...]]:
    """Loaded modules of which the configuration uses nothing."""
    loaded = [name for name, by in config.modules.items() if by is not None]
    found = idle(loaded, config.used)
    first = next((config.modules[name] for name in found), None)
    place = first.provenance() if first is not None else default_of("httpd")
    return Setting(found, place)


def packaged(virtual: VirtualHost) -> Iterator[Sample]:
    """What came with the package and is still served by a virtual host."""
    root = virtual.last("documentroot")
    if root is not None and root.args and root.args[0].rstrip("/") in _PACKAGED_ROOTS and not virtual.names:
        yield Sample("page", f"the packaged page in {root.args[0]}", root.provenance())
    for directives in virtual.chain:
        for directive in all_of(directives, "alias", "scriptalias"):
            if directive.args and directive.args[0] in _SAMPLE_ALIASES:
                yield Sample("page", _SAMPLE_ALIASES[directive.args[0]], directive.provenance())
