"""Modules of Apache httpd: their names, which are built in, and which are idle."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Final

from rupex.servers.apache.inventory import owners

STATIC: Final = frozenset(("core", "so", "http", "log_config", "logio", "version", "unixd", "watchdog"))
"""Built into Debian's and most others' httpd; where they are modules, a LoadModule says so."""

_USUAL: Final = frozenset(
    "access_compat alias auth_basic authn_core authn_file authz_core authz_host authz_user autoindex dir env filter mime"
    " negotiation reqtimeout setenvif status".split()
)
"""Those that Debian switches on, and a build without LoadModule has."""

_SOURCE_FILE = re.compile(r"mod_([a-z0-9_]+)\.c")
_FILE_NAMES: Final = {
    "mpm_event": "event",
    "mpm_worker": "worker",
    "mpm_prefork": "prefork",
    "core": "core",
    "http": "http_core",
    "ldap": "util_ldap",
}
"""Modules whose source file, the other name that IfModule takes, is not called mod_NAME.c."""

_USELESS_UNUSED: Final = frozenset(
    "headers rewrite alias ssl proxy status info userdir autoindex dir expires setenvif env http2 remoteip reqtimeout macro"
    " include mime negotiation deflate filter cgid dav dav_fs ldap speling vhost_alias session md lua cache security2".split()
)
"""Modules that do nothing where none of their directives stands."""
_NEEDED_BY_OTHERS: Final = re.compile(
    r"mpm_.*|auth.*|access_compat|socache_.*|slotmem_.*|lbmethod_.*|proxy_.*|mime|filter|unixd|unique_id|systemd|request"
)
"""Modules that others use, or that work without a directive of their own; nobody can call them idle."""
_USED_UNSAID: Final = frozenset(
    ("dir", "negotiation", "deflate", "setenvif", "env", "alias", "reqtimeout", "log_config", "brotli")
)


def identifier(name: str) -> str:
    """The module that LoadModule loads as ``ssl_module``, by its short name."""
    return name.removesuffix("_module").removeprefix("mod_")


def assumed(used: Iterable[str]) -> frozenset[str]:
    """The modules of a server of which no LoadModule line was seen: the usual ones, and those without which it would not start
    with the directives that stand in its configuration (``used``, lower case)."""
    found = (owners(name) for name in used)
    return _USUAL | {modules[0] for modules in found if len(modules) == 1}


def named_in_condition(name: str) -> str | None:
    """The module that IfModule means by a name, None for what names none: either ``ssl_module``, or the name of its source file
    (core.c, start_ifmod: ``mod_ssl.c``, but ``event.c``)."""
    if name.endswith("_module"):
        return name.removesuffix("_module")
    for module, file in _FILE_NAMES.items():
        if name == f"{file}.c":
            return module
    found = _SOURCE_FILE.fullmatch(name)
    return found[1] if found is not None and found[1] not in _FILE_NAMES else None


def idle(loaded: Iterable[str], used: Iterable[str]) -> tuple[str, ...]:
    """Modules that are loaded and of which nothing in the configuration is used. ``used``: directives, lower case."""
    at_work = {module for name in used for module in owners(name)}
    if "extendedstatus" in used:
        at_work.add("status")  # it is the core's directive, for that module
    return tuple(
        module
        for module in loaded
        if module in _USELESS_UNUSED
        and module not in at_work
        and module not in _USED_UNSAID
        and not _NEEDED_BY_OTHERS.fullmatch(module)
    )
