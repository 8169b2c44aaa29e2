"""Variables of a request's environment.

SetEnvIf and its kin (mod_setenvif) set them early: the server's as soon as a request is read, those of sections before access
is looked at. SetEnv (mod_env) and mod_ssl set theirs after that, in the fixup phase, which a request that is refused or
redirected before never reaches. Held against the real server in tests/apache_cases/environment*.conf.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable
from typing import Final

from rupex.servers.apache.exchange import Exchange
from rupex.servers.apache.expressions import evaluate
from rupex.servers.apache.redirects import with_groups
from rupex.servers.apache.sections import Context, all_in
from rupex.servers.apache.syntax import Directive
from rupex.servers.common.patterns import UndeterminedError, search

EARLY: Final = ("setenvif", "setenvifnocase", "setenvifexpr", "browsermatch", "browsermatchnocase")

_LATE: Final = ("setenv", "unsetenv", "passenv")
OF_FIXUPS: Final = frozenset(("env", "ssl"))
"""The modules that set variables in the fixup phase."""

_SPECIAL = re.compile(r"[\\^$.\[\]()|*+?{}]")
_ADDRESS = re.compile(r"[0-9.]+|\[.*\]")
_RUN_TIME: Final = frozenset(("remote_host", "server_addr"))


_OF_TLS: Final = (
    "SSL_PROTOCOL", "SSL_CIPHER", "SSL_CIPHER_EXPORT", "SSL_CIPHER_USEKEYSIZE", "SSL_CIPHER_ALGKEYSIZE", "SSL_COMPRESS_METHOD",
    "SSL_VERSION_INTERFACE", "SSL_VERSION_LIBRARY", "SSL_SECURE_RENEG", "SSL_SESSION_RESUMED", "SSL_CLIENT_VERIFY",
    "SSL_SERVER_S_DN", "SSL_SERVER_I_DN", "SSL_SERVER_S_DN_CN", "SSL_SERVER_M_SERIAL", "SSL_SERVER_M_VERSION",
)  # fmt: skip
"""What ``SSLOptions +StdEnvVars`` sets for every connection (httpd's manual, mod_ssl, "Environment Variables")."""


def set_early(directives: Iterable[Directive], exchange: Exchange) -> None:
    """Do what SetEnvIf and its kin say, in order. What only run time knows is put down as unsettled."""
    for directive in directives:
        words = list(directive.args)
        if directive.key == "setenvifexpr":
            _set_by_expression(words, exchange)
            continue
        if directive.key.startswith("browsermatch"):
            words.insert(0, "User-Agent")
        if len(words) < 3:
            continue
        attribute, pattern, *settings = words
        try:
            subject = _subject(attribute, exchange)
            found = search(pattern, subject, ignore_case=directive.key.endswith("nocase"))
        except UndeterminedError:
            exchange.environment.unsettle(_name_of(setting) for setting in settings)
            continue
        # A pattern without anything special is looked for as a word, and then nothing is filled in (mod_setenvif).
        is_filled = _SPECIAL.search(pattern) is not None
        for setting in settings if found is not None else ():
            name, mark, value = setting.partition("=")
            if found is not None and is_filled:
                value = with_groups(value, found)
            _assign(name, value if mark else "1", exchange)


def _set_by_expression(words: list[str], exchange: Exchange) -> None:
    expression, *settings = words or [""]
    try:
        holds = evaluate(expression, exchange)
    except UndeterminedError:
        exchange.environment.unsettle(_name_of(setting) for setting in settings)
        return
    for setting in settings if holds else ():
        name, mark, value = setting.partition("=")
        _assign(name, value if mark else "1", exchange)
        if "$" in value and not name.startswith("!"):
            exchange.environment.unsettle((name,), are_set=True)


def _name_of(setting: str) -> str:
    return setting.partition("=")[0].removeprefix("!")


def _assign(name: str, value: str, exchange: Exchange) -> None:
    if name.startswith("!"):
        exchange.environment.unset(name[1:])
    else:
        exchange.environment.set(name, value)


def set_by_sections(context: Context, exchange: Exchange) -> None:
    """Do what SetEnvIf and its kin say in sections, which holds for no request of the server's own."""
    if not exchange.is_inner:
        set_early(all_in(tuple(applied for applied in context if applied.kind != "server"), *EARLY), exchange)


def set_in_fixups(
    context: Context, exchange: Exchange, loaded: Collection[str], modules: frozenset[str] = OF_FIXUPS
) -> None:
    """Set the variables of the fixup phase, as far as they are those of ``modules``. ``loaded``: the server's modules."""
    if "env" in modules:
        _set_late(all_in(context, *_LATE), exchange)
    if "ssl" in modules and exchange.scheme == "https" and "ssl" in loaded:
        _set_by_tls(all_in(context, "ssloptions"), exchange)


def set_by_patterns(context: Context, exchange: Exchange, file: str | None) -> None:
    """Set ``MATCH_NAME`` to what ``(?<name>…)`` in a section's pattern captured. ``file``: what the request is mapped to."""
    for applied in context:
        section = applied.section
        if section is None or not section.args or "(?<" not in section.args[-1]:
            continue
        subject = exchange.uri if applied.kind == "path" else file if applied.kind == "folder" else None
        found = search(section.args[-1], subject) if subject is not None else None
        for name, value in found.groupdict().items() if found is not None else ():
            exchange.environment.set(f"MATCH_{name}", value or "")


def _set_late(directives: Iterable[Directive], exchange: Exchange) -> None:
    """Do what SetEnv, UnsetEnv and PassEnv say, in order; what the server's own environment holds is unsettled. UnsetEnv takes
    away what these said before, and no variable of SetEnvIf or a rule (fixup_env_module)."""
    values: dict[str, str | None] = {}
    for directive in directives:
        words = directive.args
        if directive.key == "passenv":
            values |= dict.fromkeys(word.lower() for word in words)
        elif directive.key == "setenv" and words:
            values[words[0].lower()] = words[1] if len(words) > 1 else ""
        elif directive.key == "unsetenv":
            for name in words:
                values.pop(name.lower(), None)
    exchange.environment.complete(values)  # what was set before is found first (apr_table_overlay)


def _set_by_tls(options: Iterable[Directive], exchange: Exchange) -> None:
    """Do what mod_ssl does for a request over TLS (ssl_hook_Fixup). ``options``: the SSLOptions that hold for it, in order."""
    exchange.environment.set("HTTPS", "on")
    if not _ADDRESS.fullmatch(exchange.host):  # no browser sends an address as the name in its first message
        exchange.environment.set("SSL_TLS_SNI", exchange.host)
    words = [word.lower().lstrip("+") for directive in options for word in directive.args]
    standard = [word for word in words if word.lstrip("-") == "stdenvvars"]
    if standard and not standard[-1].startswith("-"):
        exchange.environment.unsettle(_OF_TLS, are_set=True)
        if exchange.client is not None:
            exchange.environment.set("SSL_CLIENT_VERIFY", exchange.client[0])
            certificate = exchange.client[1]
            if certificate is not None:
                shown = {"S_DN": certificate.subject, "I_DN": certificate.issuer, **certificate.parts}
                for part, value in shown.items():
                    exchange.environment.set(f"SSL_CLIENT_{part}", value)


def _subject(attribute: str, exchange: Exchange) -> str:
    """What a pattern is held against. Raises :class:`UndeterminedError` for what only run time knows."""
    lowered = attribute.lower()
    if lowered in _RUN_TIME:
        raise UndeterminedError(f"{attribute} is known at run time only")
    if lowered == "remote_addr":
        return exchange.source_text
    if lowered == "remote_user":
        return ""  # there is no login yet, early or late (header_parser comes before check_user_id)
    if lowered == "request_uri":
        return exchange.uri
    if lowered == "request_method":
        return exchange.method
    if lowered == "request_protocol":
        return "HTTP/1.1"
    if lowered == "host":
        return exchange.host_header
    if re.search("[^A-Za-z0-9_-]", attribute):  # the first header whose name it matches (is_header_regex)
        named = (name for name in exchange.headers if search(attribute, name, ignore_case=True))
        return exchange.header(next(named, ""))
    if lowered in exchange.headers:
        return exchange.header(lowered)
    return exchange.environment.value(attribute) or ""
