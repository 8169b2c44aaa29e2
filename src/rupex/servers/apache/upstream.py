"""Where requests are passed on to (mod_proxy), and how well that way is kept."""

from __future__ import annotations

import re
from typing import Final

from rupex.model import Backend, Provenance, Setting, Upstream, default_of
from rupex.model.budget import PER_MEMBER, spend
from rupex.servers.apache.headers import read_action
from rupex.servers.apache.hosts import VirtualHost
from rupex.servers.apache.load import LoadedConfig, all_of, sections_of
from rupex.servers.apache.release import Release
from rupex.servers.apache.sections import Context, all_in, last_in
from rupex.servers.apache.syntax import Directive

_URL = re.compile(
    r"(?P<scheme>[a-z][a-z0-9+.-]*)://(?P<host>\[[^\]]*\]|[^/:?]*)(?::(?P<port>[0-9]{1,5}))?", re.IGNORECASE
)
_SECURE: Final = frozenset(("https", "wss", "h2"))
_PORTS: Final = {
    "http": 80,
    "ws": 80,
    "h2c": 80,
    "https": 443,
    "wss": 443,
    "h2": 443,
    "ajp": 8009,
    "fcgi": 8000,
    "scgi": 4000,
}
_CLIENTS: Final = re.compile(r"%\{(?:HTTP_[A-Z_]+|HTTP:[^}]+|REQUEST_URI|QUERY_STRING)\}|\$\d", re.IGNORECASE)


class UpstreamReader:
    """Describes upstreams of one configuration."""

    def __init__(self, config: LoadedConfig, release: Release) -> None:
        self.config, self.release = config, release

    def of(self, url: str, by: Directive | None, context: Context, virtual: VirtualHost) -> Upstream:
        place = by.provenance() if by is not None else Provenance("explicit")
        declared = by.args[-1] if by is not None and by.args else url
        socket = url.startswith("unix:")
        found = _URL.match(url)
        backends: tuple[Backend, ...] = ()
        unknown: str | None = None
        chosen = _CLIENTS.search(declared.split("://", 1)[-1].split("/", 1)[0]) if by is not None else None
        if socket:
            backends = (Backend(url.partition("|")[0], False, place),)
        elif chosen is not None or found is None:
            unknown = f"{declared} is known at run time only"
        elif found["scheme"].lower() == "balancer":
            backends = tuple(self._members(f"balancer://{found['host']}", virtual))
            unknown = None if backends else f"the members of {found['host']} are nowhere in the configuration"
        else:
            backends = (_backend(found, place),)
        tls = any(backend.tls for backend in backends)
        override = last_in(context, "proxyerroroverride")
        return Upstream(
            url=declared,
            provenance=place,
            hidden=tuple(sorted(self._hidden(context))),
            backends=backends,
            unknown=unknown,
            verified=self._verified(virtual) if tls else None,
            chosen_by=None if chosen is None else chosen[0],
            keeps_errors=override is None or not override.word.startswith("on"),
        )

    def _members(self, name: str, virtual: VirtualHost) -> list[Backend]:
        found: list[Backend] = []
        for directives in virtual.chain:
            for section in sections_of(directives, "proxy"):
                if section.args and section.args[-1].rstrip("/").lower() == name.lower():
                    for member in all_of(section.inner, "balancermember"):
                        match = _URL.match(member.args[0]) if member.args else None
                        if match is not None:
                            spend(PER_MEMBER)
                            found.append(_backend(match, member.provenance()))
        return found

    def _verified(self, virtual: VirtualHost) -> Setting[bool]:
        """Certificate and name are checked: ``SSLProxyVerify require`` and the name's check, which is on unless said
        (since 2.4.5)."""
        verify = virtual.last("sslproxyverify")
        if verify is None or not verify.word.startswith("require"):
            place = (
                default_of(f"httpd {self.release}", "SSLProxyVerify none") if verify is None else verify.provenance()
            )
            return Setting(False, place)
        name = virtual.last("sslproxycheckpeername")
        if name is not None and name.word == "off":
            return Setting(False, name.provenance())
        return Setting(True, verify.provenance())

    @staticmethod
    def _hidden(context: Context) -> set[str]:
        """Headers of the upstream that are taken away or replaced: by actions on the table in which its answer is."""
        found = set()
        for directive in all_in(context, "header"):
            action = read_action(directive)
            if (
                action is not None
                and not action.always
                and action.verb in ("unset", "set")
                and action.condition is None
            ):
                found.add(action.name.lower())
        return found


def _backend(found: re.Match[str], place: Provenance) -> Backend:
    scheme = found["scheme"].lower()
    port = int(found["port"]) if found["port"] else _PORTS.get(scheme)
    return Backend(found["host"].strip("[]"), scheme in _SECURE, place, port)
