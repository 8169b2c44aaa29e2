"""Changes that would satisfy a control, in neutral words: between controls, which name them, and families, which know how each is
made in their language (``remedies.toml``)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final, Literal, NamedTuple

from msgspec import Struct

Effort = Literal["line", "block", "files", "certificate", "application"]
"""What a change takes, the least first: a line of the configuration; a block, with a thought about what it holds; files and
rights on the machine; a certificate from an authority; the application behind the server."""

EFFORTS: Final[tuple[Effort, ...]] = ("line", "block", "files", "certificate", "application")


class Kind(NamedTuple):
    """A kind of change: its ``effort``, and what it does, with its arguments in angle brackets."""

    effort: Effort
    words: str


KINDS: Final[Mapping[str, Kind]] = {
    # the TLS settings of a listener
    "protocol-versions": Kind("line", "offer the protocol versions <<versions>> only"),
    "suites": Kind("line", "offer the cipher suites <<suites>> only"),
    "groups": Kind("line", "offer the named groups <<groups>>"),
    "signatures": Kind("line", "sign handshakes with <<signatures>> only"),
    "dh-parameters": Kind("files", "use finite-field parameters of <<bits>> bits or more"),
    "suite-preference": Kind("line", "let the server choose the cipher suite"),
    "compression": Kind("line", "switch TLS compression off"),
    "renegotiation": Kind("line", "refuse renegotiation that a client starts"),
    "early-data": Kind("line", "switch early data off"),
    "tickets": Kind("line", "switch session tickets off"),
    "stapling": Kind("line", "staple OCSP responses"),
    "client-certificates": Kind("line", "verify client certificates"),
    "alpn": Kind("line", "offer the protocols <<protocols>>"),
    "crypto-library": Kind("files", "use a newer crypto library"),
    # transport and redirects
    "tls": Kind("block", "offer TLS on port <<port>>"),
    "redirect": Kind("block", "redirect plain requests to https, challenge paths of authorities kept"),
    "redirect-status": Kind("line", "redirect with status <<status>>"),
    "redirect-host": Kind("line", "redirect to the same host, with path and query"),
    # headers of answers
    "set-header": Kind("line", "send <<header>>: <<value>> with every answer"),
    "remove-header": Kind("line", "do not send <<header>>"),
    "repeat-header": Kind("line", "send the site's headers here too"),
    "cookie-flags": Kind("line", "add <<flags>> to cookies"),
    # what a server tells and serves
    "hide-version": Kind("line", "do not disclose the server version"),
    "hide-product": Kind("line", "do not disclose the product"),
    "plain-error-pages": Kind("line", "serve error pages without details"),
    "no-listing": Kind("line", "do not list folders"),
    "refuse-paths": Kind("block", "refuse requests for <<paths>>"),
    "restrict-path": Kind("block", "restrict <<path>> to <<networks>>"),
    "refuse-unknown-names": Kind("block", "refuse requests for unknown host names"),
    "refuse-methods": Kind("block", "answer the methods <<methods>> only"),
    "refuse-trace": Kind("line", "refuse TRACE"),
    "no-inode-etags": Kind("line", "make ETags of time and size only"),
    "limits": Kind("line", "limit time and size of requests"),
    "trusted-peers": Kind("line", "take the client's address from <<networks>> only"),
    # the way to upstreams
    "upstream-tls": Kind("block", "use TLS to the upstream, and verify its certificate"),
    "verify-upstream": Kind("line", "verify the upstream's certificate"),
    "fixed-upstream": Kind("block", "choose the upstream from a fixed list"),
    # files and rights
    "file-mode": Kind("files", "give <<file>> the mode <<mode>>"),
    "file-owner": Kind("files", "give <<file>> to <<owner>>"),
    "remove-file": Kind("files", "remove <<file>>"),
    "move-secret": Kind("files", "move the secret out of <<file>>"),
    "workers": Kind("line", "run workers as an account of their own"),
    "unload-module": Kind("line", "do not load the module <<module>>"),
    "disable-site": Kind("files", "take the packaged site or application out of service"),
    "no-overrides": Kind("line", "do not read override files"),
    "packet-filter": Kind("files", "close ports that serve nobody"),
    # certificates
    "certificate": Kind("certificate", "have a certificate issued: <<what>>"),
    "chain": Kind("files", "put the intermediate certificates into the chain"),
    "key": Kind("certificate", "make a new key, and have a certificate issued for it"),
    "renewal-job": Kind("files", "schedule the renewal of certificates"),
    "renewal-hook": Kind("files", "reload the server after a renewal"),
    # what only the application can do
    "application": Kind("application", "change the application"),
    "reload": Kind("files", "reload the server, and look again past every cache"),
}
"""What can be changed. A control whose failure none of them repairs has words of its own only."""


class Change(Struct, frozen=True):
    """A change that satisfies a control.

    ``kind``: one of :data:`KINDS`.
    ``arguments``: what the control knows of it, by the names in the kind's words.
    """

    kind: str
    arguments: Mapping[str, str] = {}

    @property
    def effort(self) -> Effort:
        return KINDS[self.kind].effort

    @property
    def words(self) -> str:
        """What it does, in neutral words; what the control does not know stays in angle brackets."""
        return filled(KINDS[self.kind].words, self.arguments)


def filled(block: str, arguments: Mapping[str, str]) -> str:
    """``block`` with what is known of its arguments."""
    for name, value in arguments.items():
        block = block.replace(f"<<{name}>>", value)
    return block
