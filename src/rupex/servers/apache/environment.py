"""Variables of a request's environment, set by SetEnvIf and its kin (mod_setenvif) and by SetEnv (mod_env)."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Final

from rupex.servers.apache.exchange import Exchange
from rupex.servers.apache.redirects import with_groups
from rupex.servers.apache.syntax import Directive
from rupex.servers.common.patterns import UndeterminedError, search

EARLY: Final = ("setenvif", "setenvifnocase", "browsermatch", "browsermatchnocase")
"""Set as soon as the request is read; SetEnv acts much later, before the headers."""

_SPECIAL = re.compile(r"[\\^$.\[\]()|*+?{}]")
_RUN_TIME: Final = frozenset(("remote_addr", "remote_host", "server_addr", "remote_user"))


def set_early(directives: Iterable[Directive], exchange: Exchange) -> None:
    """Do what SetEnvIf and its kin say, in order. What only run time knows is left out."""
    for directive in directives:
        words = list(directive.args)
        if directive.key.startswith("browsermatch"):
            words.insert(0, "User-Agent")
        if len(words) < 3:
            continue
        attribute, pattern, *settings = words
        subject = _subject(attribute, exchange)
        if subject is None:
            continue
        try:
            found = search(pattern, subject, ignore_case=directive.key.endswith("nocase"))
        except UndeterminedError:
            continue
        if found is None:
            continue
        for setting in settings:
            name, mark, value = setting.partition("=")
            if name.startswith("!"):
                exchange.environment.pop(name[1:], None)
            else:
                # A pattern without anything special is looked for as a word, and then nothing is filled in (mod_setenvif).
                if _SPECIAL.search(pattern):
                    value = with_groups(value, found)
                exchange.environment[name] = value if mark else "1"


def set_late(directives: Iterable[Directive], exchange: Exchange) -> None:
    """Do what SetEnv and UnsetEnv say."""
    for directive in directives:
        words = directive.args
        if directive.key == "setenv" and words:
            exchange.environment[words[0]] = words[1] if len(words) > 1 else ""
        elif directive.key == "unsetenv":
            for name in words:
                exchange.environment.pop(name, None)


def _subject(attribute: str, exchange: Exchange) -> str | None:
    """What a pattern is held against; None for what only run time knows."""
    lowered = attribute.lower()
    if lowered in _RUN_TIME:
        return None
    if lowered == "request_uri":
        return exchange.uri
    if lowered == "request_method":
        return exchange.method
    if lowered == "request_protocol":
        return "HTTP/1.1"
    if lowered == "host":
        return exchange.host_header
    if attribute in exchange.environment:
        return exchange.environment[attribute]
    return exchange.headers.get(lowered, "")
