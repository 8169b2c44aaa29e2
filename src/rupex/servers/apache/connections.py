"""What is asked of a client's connection before anything else: TLS, and a certificate (mod_ssl, ssl_hook_Access)."""

from __future__ import annotations

from typing import Final

from rupex.servers.apache.exchange import Exchange
from rupex.servers.apache.expressions import evaluate
from rupex.servers.apache.load import last_of
from rupex.servers.apache.outcome import OPEN, Decision
from rupex.servers.apache.sections import Context, all_in, last_in
from rupex.servers.apache.syntax import Directive
from rupex.servers.common.clients import NONE, SUCCESS

_OF_CLIENTS: Final = {"none": 0, "optional": 1, "optional_no_ca": 1, "require": 2}
"""How much more than the one before it a word of SSLVerifyClient asks."""


def asking(context: Context) -> Directive | None:
    """The SSLVerifyClient of a section or override file in force."""
    for applied in reversed(context):
        found = last_of(applied.directives, "sslverifyclient") if applied.kind != "server" else None
        if found is not None:
            return found
    return None


def verification(line: Directive | None) -> str:
    """The word of an SSLVerifyClient line, in small letters; ``none`` without a line."""
    return "none" if line is None else line.word


def is_asked_more(context: Context, exchange: Exchange) -> bool:
    """Whether a section asks more of the client's certificate than the handshake did. Over TLS 1.3 a client is refused then that
    does not offer to be asked again, as no browser does (ssl_hook_Access_modern); before, there is a new handshake."""
    word = verification(asking(context)) if exchange.scheme == "https" else "none"
    return _OF_CLIENTS.get(word, 0) > _OF_CLIENTS.get(exchange.asks_clients, 0)


def shows_enough(context: Context, exchange: Exchange) -> bool:
    """Whether the new handshake that a section asks for comes about."""
    is_optional = verification(asking(context)).startswith("optional")
    return exchange.could_show[0] == SUCCESS or (is_optional and exchange.could_show[0] == NONE)


def by_expressions(context: Context, exchange: Exchange) -> Decision:
    """What the SSLRequire lines of all sections say of a connection over TLS, which must all hold (ssl_hook_Access)."""
    for line in all_in(context, "sslrequire") if exchange.scheme == "https" else ():
        if not evaluate(line.raw, exchange, is_of_ssl=True):
            return Decision(False, 403, line)
    return OPEN


def by_certificate(context: Context, exchange: Exchange) -> Decision:
    """What is decided of a visitor without a certificate, where one must have one."""
    line = asking(context)
    if exchange.scheme == "https" and "require" in (verification(line), exchange.asks_clients):
        return Decision(False, 403, line or last_in(context, "sslverifyclient"))
    return by_expressions(context, exchange)
