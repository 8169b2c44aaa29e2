"""Modules of Apache httpd: their names, which are built in, and which directives are whose."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Final

STATIC: Final = frozenset(("core", "so", "http", "log_config", "logio", "version", "unixd", "watchdog"))
"""Built into Debian's and most others' httpd; where they are modules, a LoadModule says so."""

_FILE_NAMES: Final = {
    "mpm_event": "event",
    "mpm_worker": "worker",
    "mpm_prefork": "prefork",
    "core": "core",
    "http": "http_core",
}
"""Modules whose source file, the other name that IfModule takes, is not called mod_NAME.c."""

DIRECTIVES: Final = {
    "headers": "header requestheader",
    "rewrite": "rewriteengine rewriterule rewritecond rewritebase rewriteoptions rewritemap",
    "alias": "redirect redirectmatch redirecttemp redirectpermanent alias aliasmatch scriptalias scriptaliasmatch",
    "ssl": "sslengine sslprotocol sslciphersuite sslhonorcipherorder sslcertificatefile sslcertificatekeyfile sslcompression"
    " sslsessiontickets sslusestapling sslstaplingcache sslverifyclient sslopensslconfcmd sslinsecurerenegotiation sslrequiressl"
    " sslproxyengine sslproxyverify sslproxycheckpeername sslproxycheckpeercn sslsessioncache sslcertificatechainfile ssloptions"
    " sslcacertificatefile sslsessionticketkeyfile sslstrictsnivhostcheck",
    "proxy": "proxypass proxypassmatch proxypassreverse proxyrequests proxypreservehost proxyerroroverride proxyvia"
    " proxyaddheaders proxytimeout proxyset balancermember",
    "status": "extendedstatus",
    "info": "addmoduleinfo",
    "userdir": "userdir",
    "autoindex": "indexoptions indexignore addicon readmename headername indexstyleSheet",
    "dir": "directoryindex directoryslash fallbackresource directoryindexredirect",
    "expires": "expiresactive expiresdefault expiresbytype",
    "setenvif": "setenvif setenvifnocase browsermatch browsermatchnocase",
    "env": "setenv unsetenv passenv",
    "http2": "h2push h2direct h2upgrade h2moderntlsonly h2maxsessionstreams h2windowsize h2earlyhints h2serializeheaders",
    "remoteip": "remoteipheader remoteipinternalproxy remoteiptrustedproxy remoteipproxyprotocol",
    "reqtimeout": "requestreadtimeout",
    "access_compat": "order allow deny satisfy",
    "authz_core": "require authmerging",
    "auth_basic": "authbasicprovider",
    "authn_core": "authname authtype authnprovideralias",
    "macro": "use undefmacro",
    "include": "ssistarttag xbithack",
    "mime": "addtype addhandler addencoding addcharset typesconfig",
    "negotiation": "languagepriority forcelanguagepriority",
    "deflate": "addoutputfilterbytype deflatefilternote deflatecompressionlevel",
    "filter": "addoutputfilterbytype filterdeclare filterprovider filterchain",
    "cgid": "scriptsock scriptlog",
    "dav": "dav davdepthinfinity",
    "dav_fs": "davlockdb",
    "ldap": "ldaptrustedglobalcert ldapsharedcachesize",
    "speling": "checkspelling",
    "vhost_alias": "virtualdocumentroot virtualdocumentrootip virtualscriptalias virtualscriptaliasip",
    "session": "session sessionmaxage",
    "md": "mdomain mdcertificateagreement managedomain mdprivatekeys",
    "lua": "luahookaccesschecker luahandler luascope",
    "cache": "cacheenable cacherdisable cachelock",
    "security2": "secruleengine secrule secaction",
}
_OWNER: Final = {name: module for module, names in DIRECTIVES.items() for name in names.lower().split()}

_NEEDED_BY_OTHERS: Final = re.compile(
    r"mpm_.*|auth.*|access_compat|socache_.*|slotmem_.*|lbmethod_.*|proxy_.*|mime|filter|unixd|unique_id|systemd|request"
)
"""Modules that others use, or that work without a directive of their own; nobody can call them idle."""
_USED_UNSAID: Final = frozenset(
    ("dir", "negotiation", "deflate", "setenvif", "env", "alias", "reqtimeout", "log_config", "brotli")
)


def identifier(name: str) -> str:
    """``mod_ssl.c``, ``ssl_module`` or ``mod_ssl`` as ``ssl``."""
    for short, file in _FILE_NAMES.items():
        if name == f"{file}.c":
            return short
    name = name.removesuffix(".c").removesuffix("_module")
    return name.removeprefix("mod_")


def owner(directive: str) -> str | None:
    """The module that knows a directive (lower case); None for the core and for what is not in the table."""
    return _OWNER.get(directive)


def idle(loaded: Iterable[str], used: Iterable[str]) -> tuple[str, ...]:
    """Modules that are loaded and of which nothing in the configuration is used. ``used``: directives, lower case."""
    owners = {_OWNER[name] for name in used if name in _OWNER}
    return tuple(
        module
        for module in loaded
        if module in DIRECTIVES
        and module not in owners
        and module not in _USED_UNSAID
        and not _NEEDED_BY_OTHERS.fullmatch(module)
    )
