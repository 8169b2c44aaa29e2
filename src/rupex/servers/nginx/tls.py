"""What a TLS listener of nginx negotiates for one server block (ngx_http_ssl_module).

Several settings are fixed before the server name is looked at, and so are those of the listener's default server. The
table :data:`LISTENER_WIDE` says which; each is held against the real server in tests/test_nginx_tls_against_server.py.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import partial
from typing import Any, Final, NamedTuple

from rupex.host import TreeError
from rupex.model import (
    CertificateUse,
    ClientCertificate,
    DhParameters,
    Provenance,
    Setting,
    TicketKeys,
    Tls,
    bounds,
    default_of,
    unknown,
)
from rupex.model.endpoint import ProtocolVersion
from rupex.model.numbers import whole_number
from rupex.model.provenance import How
from rupex.servers.common.clients import verdict_of
from rupex.servers.common.inventory import affecting
from rupex.servers.common.openssl_settings import by_library, signatures
from rupex.servers.common.patterns import UndeterminedError
from rupex.servers.common.templates import ReadOnce
from rupex.servers.contract import HostContext
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.inventory import InventoryReader, may_come_first
from rupex.servers.nginx.listeners import Listener, VirtualHost
from rupex.servers.nginx.load import LoadedConfig
from rupex.servers.nginx.release import Release, default
from rupex.servers.nginx.syntax import Directive
from rupex.tls.dh import ParameterError, parse_dh_parameters
from rupex.tls.groups import negotiable_groups
from rupex.tls.negotiate import Abilities, negotiable, refusals, security_level
from rupex.tls.openssl import told_as_declared
from rupex.tls.suites import PROTOCOL_VERSIONS

LISTENER_WIDE: Final = frozenset({"protocols", "ciphersuites", "groups", "early_data"})
"""What the default server of a listener decides for every name (measured on 1.22.1 with OpenSSL 3.0). Tickets need both:
the default server must issue them, and the name's own block must not forbid it. All else is the name's own; since 1.29.2 so are
the versions, tickets and suites of TLS 1.3."""

OWN: Final = frozenset(
    "ssl_protocols ssl_ciphers ssl_conf_command ssl_ecdh_curve ssl_prefer_server_ciphers ssl_session_tickets"
    " ssl_session_ticket_key ssl_session_cache ssl_stapling ssl_stapling_file ssl_stapling_responder ssl_early_data"
    " ssl_dhparam ssl_verify_client http2 ssl_reject_handshake".split()
)

_CHANGED_BY_PROGRAMS: Final = ("protocols", "suites", "groups", "alpn", "client_certificate", "tickets")
"""What a program that sees the handshake may set."""

_RANGE: Final = ("minprotocol", "maxprotocol")

_WITHOUT_EFFECT: Final = ": without effect, the default server of the listener decides"


class Found(NamedTuple):
    """A value with the line that decides it; ``value`` is text as declared."""

    value: str
    provenance: Provenance


_OF_CLIENTS: Final = ("ssl_client_certificate", "ssl_trusted_certificate")
"""The directives that name the authorities of clients."""


def inherited(chain: Sequence[Block], name: str) -> tuple[Directive | None, Provenance | None]:
    """The directive ``name`` in force in the innermost block of ``chain``, with its provenance and what it overrules."""
    found: Directive | None = None
    lost: list[Directive] | None = None
    is_own = False
    for block in reversed(chain):
        if name not in block.by_name:
            continue
        here = block.last(name)
        if here is None:
            continue
        if found is None:
            found, is_own = here, block is chain[-1]
        else:
            lost = [*(lost or ()), here]
    if found is None:
        return None, None
    provenance = found.provenance("explicit" if is_own else "inherited")
    if lost:
        provenance = provenance.overruling(*(directive.as_overruled() for directive in lost))
    return found, provenance


def _read_certificates(config: LoadedConfig, http: Block, server: Block) -> tuple[CertificateUse, ...]:
    """The certificates of a server block with their keys, in order of declaration."""
    chain = (server, http)
    certificates = next((found for block in chain if (found := list(block.all("ssl_certificate")))), [])
    keys = next((found for block in chain if (found := list(block.all("ssl_certificate_key")))), [])
    return tuple(_use(config, c, keys[index] if index < len(keys) else None) for index, c in enumerate(certificates))


def _use(config: LoadedConfig, certificate: Directive, key: Directive | None) -> CertificateUse:
    return CertificateUse(
        _path(config, certificate),
        None if key is None else _path(config, key),
        certificate.provenance(),
        None if key is None else key.provenance(),
    )


def _path(config: LoadedConfig, directive: Directive) -> str | None:
    """The file that a directive names; None for one that only run time knows, or that is no file."""
    name = directive.args[0] if directive.args else ""
    if "$" in name or name.startswith(("data:", "engine:", "store:")) or not name:
        return None
    return config.path(name)


class TlsResolver:
    """Resolves TLS settings; chains are ``(http, server)``. Blocks that say the same share the same settings. ``where``: what
    the outer block is called, if not ``http``.

    ``certificates``: those of a server block with their keys, by order of declaration.
    """

    def __init__(
        self, config: LoadedConfig, http: Block, release: Release, host_context: HostContext, where: str = "http"
    ) -> None:
        self.config, self.http, self.release, self.host_context = config, http, release, host_context
        self._inventory = InventoryReader(where)
        self._goes_by_name = default("tls_by_name", release).value == "on"
        self._shared: dict[tuple[Any, ...], dict[str, Any]] = {}
        # no method of its own: a resolver that refers to itself, and with it all that was read, would stay in memory
        read = partial(_read_certificates, config, http)
        self.certificates: ReadOnce[Block, tuple[CertificateUse, ...]] = ReadOnce(read)

    # Certificates

    def kinds(self, server: Block) -> frozenset[str] | None:
        """The kinds of keys that the certificates of a server block have."""
        return self._kinds(self.certificates(server))

    def _kinds(self, uses: Iterable[CertificateUse]) -> frozenset[str] | None:
        return self.host_context.credentials.key_kinds(use.certificate for use in uses)

    # All settings of one endpoint

    def refuses(self, chain: Sequence[Block]) -> Provenance | None:
        """The line that makes a server block refuse every handshake, if one does (since 1.19.4)."""
        directive, provenance = inherited(chain, "ssl_reject_handshake")
        return provenance if directive is not None and directive.args == ("on",) else None

    def asks_certificate(self, chain: Sequence[Block]) -> tuple[str, Provenance] | None:
        """How a server block asks its clients for a certificate (``on``, ``optional``, ``optional_no_ca``), and by which line;
        None where it does not."""
        directive, provenance = inherited(chain, "ssl_verify_client")
        if directive is None or provenance is None or directive.args in ((), ("off",)):
            return None
        return directive.args[0], provenance

    def verdict_of(self, chain: Sequence[Block], certificate: ClientCertificate | None) -> str:
        """What a server block that asks for it makes of a client's certificate. Raises
        :class:`~rupex.servers.common.patterns.UndeterminedError`."""
        said = {name: inherited(chain, name)[0] for name in (*_OF_CLIENTS, "ssl_verify_depth", "ssl_crl", "ssl_ocsp")}
        revoking = said["ssl_crl"] or said["ssl_ocsp"]
        if certificate is not None and revoking is not None and revoking.args != ("off",):
            raise UndeterminedError(f"{revoking} may revoke the client's certificate")
        trusted = [
            self.config.path(one.args[0]) for name in _OF_CLIENTS if (one := said[name]) is not None and one.args
        ]
        depth = said["ssl_verify_depth"]
        most = whole_number("1" if depth is None else "".join(depth.args))
        return verdict_of(certificate, self.host_context.tree, trusted, 1 if most is None else most)

    def resolve(self, listener: Listener, virtual: VirtualHost) -> Tls:
        assert listener.default is not None
        http, uses = self.http, self.certificates(virtual.block)
        kinds = self._kinds(uses)
        first, own = listener.default.block, virtual.block
        key = (
            id(first) if first is not own and self._has_own(first) else 0,
            id(own) if self._has_own(own) else 0,
            first is own,
            kinds,
            id(listener.http2_by),
            listener.quic,
        )
        settings = self._shared.get(key)
        if settings is None:
            settings = self._shared[key] = self._settings(listener, (http, first), (http, own), kinds)
        if "ssl_stapling" in http.by_name or "ssl_stapling" in own.by_name:
            settings = settings | {"stapling": self._stapling((http, own), uses)}
        for one in affecting(self._inventory.of((http, own)), frozenset(("tls",))):
            place = one.provenance
            settings = settings | {name: unknown(str(one), place) for name in _CHANGED_BY_PROGRAMS}
            if "certificate" in one.name or may_come_first(one):
                uses = (CertificateUse(None, None, place, None),)
        return Tls(certificates=uses, **settings)

    @staticmethod
    def _has_own(block: Block) -> bool:
        return not OWN.isdisjoint(block.by_name)

    def _settings(
        self, listener: Listener, first: tuple[Block, Block], own: tuple[Block, Block], kinds: frozenset[str] | None
    ) -> dict[str, Any]:
        library = self.host_context.library
        declared, protocols_by = self._declared_protocols(first, own)
        ciphers = self._text(own, "ssl_ciphers", "CipherString")
        suites13 = self._command(own if self._goes_by_name else first, "Ciphersuites")
        dh = self._dh(own)
        abilities = Abilities(kinds, dh.value is not None or not dh.is_known)
        versions, suites = negotiable(
            declared, ciphers.value, library, abilities, suites13.value if suites13 else library.ciphersuites or ""
        )
        level = security_level(ciphers.value, library)
        tls12 = "TLSv1.2" in versions
        return {
            "protocols": Setting(versions, protocols_by.noted(self._note(" ".join(declared), protocols_by))),
            "suites": Setting(suites, ciphers.provenance.noted(self._note(ciphers.value, ciphers.provenance))),
            "groups": self._groups(first, own, level, "TLSv1.3" in versions),
            "preference": self._preference(own),
            "tickets": self._tickets(first, own),
            "stapling": Setting(False, default_of(f"nginx {self.release}")),
            "compression": Setting(
                False, default_of(f"nginx {self.release}", "never offered with OpenSSL 1.0.0 or newer")
            ),
            "alpn": self._alpn(listener, own),
            "dh": dh,
            "signatures": signatures(
                library,
                self._command(own, "SignatureAlgorithms"),
                level,
                kinds,
                tls12=tls12,
                any_version=tls12 or "TLSv1.3" in versions,
            ),
            "secure_renegotiation": by_library(library, (0, 9, 8), "acknowledges RFC 5746"),
            "client_renegotiation": Setting(False, default_of(f"nginx {self.release}", "refused since 0.8.23")),
            "fallback_signal": by_library(library, (1, 0, 1), "obeys RFC 7507 since 1.0.1j"),
            "master_secret": by_library(library, (1, 1, 0), "uses RFC 7627"),
            "early_data": self._switch(first, "ssl_early_data"),
            "ticket_keys": self._ticket_keys(own),
            "client_certificate": self._client_certificate(own),
            "refused": () if protocols_by.file is None else refusals(declared, versions, ciphers.value, library),
        }

    # One setting each

    def _text(self, chain: Sequence[Block], directive_name: str, command: str) -> Found:
        """A directive's first word; overruled by a command of ``ssl_conf_command``, which is applied last."""
        directive, provenance = inherited(chain, directive_name)
        if directive is None or provenance is None:
            setting = default(directive_name, self.release)
            assert setting.provenance is not None
            found = Found(str(setting.value), setting.provenance)
        else:
            found = Found(directive.args[0] if directive.args else "", provenance)
        over = self._command(chain, command)
        if over is None:
            return found
        lost = () if found.provenance.file is None else (found.provenance,)
        return Found(over.value, over.provenance.overruling(*lost))

    def _commands(self, chain: Sequence[Block]) -> list[tuple[str, Found]]:
        """The commands of ``ssl_conf_command`` in force (since 1.19.4), in order: those of the innermost block with any."""
        for block in reversed(chain):
            directives = list(block.all("ssl_conf_command"))
            if directives:
                how: How = "explicit" if block is chain[-1] else "inherited"
                return [
                    (d.args[0].lower(), Found(d.args[1], d.provenance(how))) for d in directives if len(d.args) == 2
                ]
        return []

    def _command(self, chain: Sequence[Block], *names: str) -> Found | None:
        lowered = {name.lower() for name in names}
        found = None
        for name, value in self._commands(chain):
            if name in lowered:
                found = value
        return found

    def _option(self, chain: Sequence[Block], name: str) -> tuple[bool, Provenance] | None:
        """Whether a command ``Options`` switches ``name`` on or off (SSL_CONF_cmd(3))."""
        found = None
        for command, value in self._commands(chain):
            if command == "options":
                for word in value.value.split(","):
                    bare = word.strip().lstrip("+-")
                    if bare.lower() == name.lower():
                        found = (not word.strip().startswith("-"), value.provenance)
        return found

    def _switch(self, chain: Sequence[Block], name: str) -> Setting[bool]:
        directive, provenance = inherited(chain, name)
        if directive is None:
            setting = default(name, self.release)
            return Setting(setting.value == "on", setting.provenance)
        return Setting(directive.args[:1] == ("on",), provenance)

    def _note(self, declared: str, provenance: Provenance) -> str:
        parts = [told_as_declared(declared, self.host_context.library)]
        if provenance.how == "default" and provenance.note:
            parts.insert(0, provenance.note)
        return "; ".join(parts)

    def _declared_protocols(
        self, first: tuple[Block, Block], own: tuple[Block, Block]
    ) -> tuple[tuple[ProtocolVersion, ...], Provenance]:
        """The versions that the default server enables, or since 1.29.2 the name's own within the former's lowest and highest
        one. A system's minimum does not count: nginx resets it."""
        deciding = own if self._goes_by_name else first
        directive, provenance = inherited(deciding, "ssl_protocols")
        if directive is None or provenance is None:
            setting = default("ssl_protocols", self.release)
            assert setting.provenance is not None
            words, provenance = set(setting.value or ()), setting.provenance
        else:
            words = set(directive.args)
        lowest, highest = 0, len(PROTOCOL_VERSIONS) - 1
        switches = [found for found in self._commands(deciding) if found[0] == "protocol"]
        for command, value in (*switches, *(found for found in self._commands(first) if found[0] in _RANGE)):
            if command in (*_RANGE, "protocol"):
                lost = () if provenance.file is None else (provenance,)
                provenance = value.provenance.overruling(*lost)
            if command == "minprotocol":
                lowest = PROTOCOL_VERSIONS.index(value.value) if value.value in PROTOCOL_VERSIONS else 0
            elif command == "maxprotocol" and value.value in PROTOCOL_VERSIONS:
                highest = PROTOCOL_VERSIONS.index(value.value)
            elif command == "protocol":
                words = _switched(words, value.value)
        if own[1] is not first[1] and not self._goes_by_name:
            stated, _ = inherited(own, "ssl_protocols")
            if stated is not None and stated is not directive:
                lost_here = stated.provenance(note=f"{stated}{_WITHOUT_EFFECT}")
                provenance = provenance.overruling(*provenance.overruled, lost_here)
        return tuple(v for v in PROTOCOL_VERSIONS[lowest : highest + 1] if v in words), provenance

    def _groups(
        self, first: tuple[Block, Block], own: tuple[Block, Block], level: int, newest: bool
    ) -> Setting[tuple[str, ...]]:
        curve = self._text(first, "ssl_ecdh_curve", "Groups")
        over = self._command(first, "Curves", "ECDHParameters")
        value, provenance = over or curve
        declared = "" if value == "auto" else value
        if not declared and self.host_context.library.groups is not None:
            declared = self.host_context.library.groups
            provenance = self.host_context.library.provenance or provenance
        if own[1] is not first[1]:
            stated, _ = inherited(own, "ssl_ecdh_curve")
            other, _ = inherited(first, "ssl_ecdh_curve")
            if stated is not None and stated is not other:
                lost = stated.provenance(note=f"{stated}{_WITHOUT_EFFECT}")
                provenance = provenance.overruling(lost)
        found = negotiable_groups(declared, self.host_context.library, level, newest)
        if found is None:
            return unknown("the crypto library's own list of groups, and its release is not known", provenance)
        return Setting(found, provenance.noted(self._note(value, provenance)))

    def _preference(self, own: Sequence[Block]) -> Setting[Any]:
        option = self._option(own, "ServerPreference")
        if option is not None:
            return Setting("server" if option[0] else "client", option[1])
        setting = self._switch(own, "ssl_prefer_server_ciphers")
        return Setting("server" if setting.value else "client", setting.provenance)

    def _tickets(self, first: Sequence[Block], own: Sequence[Block]) -> Setting[bool]:
        option = self._option(own, "SessionTicket")
        if option is not None and not option[0]:
            return Setting(False, option[1])
        for chain in (own,) if self._goes_by_name else (own, first):
            setting = self._switch(chain, "ssl_session_tickets")
            if not setting.value:
                return setting
        return self._switch(own, "ssl_session_tickets")

    def _ticket_keys(self, own: Sequence[Block]) -> Setting[TicketKeys]:
        directive, provenance = inherited(own, "ssl_session_ticket_key")
        if directive is not None and directive.args:
            path = self.config.path(directive.args[0])
            return Setting(TicketKeys(False, path, self.host_context.tree.modified(path)), provenance)
        cache, cache_by = inherited(own, "ssl_session_cache")
        shared = cache is not None and any(word.startswith("shared:") for word in cache.args)
        if shared and self.release.number >= (1, 23, 2):
            return Setting(TicketKeys(True), cache_by)
        return Setting(
            TicketKeys(False), default_of(f"nginx {self.release}", "keys are made at start and kept until the next")
        )

    def _dh(self, own: Sequence[Block]) -> Setting[DhParameters]:
        directive, provenance = inherited(own, "ssl_dhparam")
        if directive is None:
            setting = default("dh_parameters", self.release)
            built_in = DhParameters(1024, None, None) if setting.value == "on" else None
            return Setting(built_in, setting.provenance)
        path = _path(self.config, directive)
        if path is None:
            return unknown("the parameters are in no file", provenance)
        try:
            content = self.host_context.tree.read(path, bounds.CREDENTIAL_FILE_BYTES)
            return Setting(parse_dh_parameters(content), provenance)
        except TreeError as error:
            return unknown(f"{path}: {error.message}", provenance)
        except ParameterError as error:
            return unknown(f"{path}: {error}", provenance)

    def _client_certificate(self, own: Sequence[Block]) -> Setting[Any]:
        directive, provenance = inherited(own, "ssl_verify_client")
        if directive is None or directive.args[:1] == ("off",):
            return Setting("none", provenance or default_of(f"nginx {self.release}"))
        if directive.args[:1] != ("optional_no_ca",):
            return Setting("verified", provenance)
        uses = self._uses_of_verdict(own[-1])
        if "if" in uses or "map" in uses:
            return Setting("verified", provenance)
        if uses:
            return unknown("the result of the check is passed on; whether anybody reads it cannot be seen", provenance)
        return Setting("unverified", provenance)

    def _uses_of_verdict(self, block: Block) -> set[str]:
        """The directives of a block in which the outcome of the client's check stands."""
        found = set()
        waiting = [block]
        while waiting:
            for child in waiting.pop().children:
                if any("$ssl_client_verify" in word for word in child.args):
                    found.add(child.name)
                if isinstance(child, Block):
                    waiting.append(child)
        return found

    def _stapling(self, own: Sequence[Block], uses: Iterable[CertificateUse]) -> Setting[bool]:
        """Whether a response is stapled: asked for, and the certificate names a responder (or the configuration does),
        and its issuer is at hand (ngx_ssl_stapling)."""
        setting = self._switch(own, "ssl_stapling")
        if not setting.value or setting.provenance is None:
            return setting
        place = setting.provenance
        if inherited(own, "ssl_stapling_file")[0] is not None:
            return setting
        has_responder = inherited(own, "ssl_stapling_responder")[0] is not None
        has_anchors = inherited(own, "ssl_trusted_certificate")[0] is not None
        for use in uses:
            found = self.host_context.credentials.certificates(use.certificate) if use.certificate else "not a file"
            if isinstance(found, str):
                return unknown(f"{use.certificate}: {found}", place)
            if not has_responder and not found[0].ocsp_responders:
                return Setting(False, place.noted(f"{use.certificate} names no responder, so nothing is stapled"))
            if len(found) < 2 and not has_anchors:
                return Setting(False, place.noted(f"{use.certificate} comes without its issuer, so nothing is stapled"))
        return setting

    def _alpn(self, listener: Listener, own: Sequence[Block]) -> Setting[tuple[str, ...]]:
        if listener.quic:
            return Setting(("h3",), default_of(f"nginx {self.release}"))
        directive, provenance = inherited(own, "http2")
        if directive is not None and self.release.number >= (1, 25, 1) and directive.args == ("on",):
            return Setting(("h2", "http/1.1"), provenance)
        if listener.http2 and listener.http2_by is not None:
            return Setting(("h2", "http/1.1"), listener.http2_by)
        return Setting(("http/1.1",), provenance or default_of(f"nginx {self.release}"))


def _switched(words: set[str], value: str) -> set[str]:
    """What a command ``Protocol`` leaves of the enabled versions: each item switches one, ``-`` off (SSL_CONF_cmd(3))."""
    found = set(words)
    for item in value.split(","):
        name = item.strip().lstrip("+-")
        named = set(PROTOCOL_VERSIONS) if name.upper() == "ALL" else {name}
        found = found - named if item.strip().startswith("-") else found | named
    return found
