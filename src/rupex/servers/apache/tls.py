"""What a TLS listener of httpd negotiates for one virtual host (mod_ssl).

With OpenSSL 1.1.1 and newer a virtual host found by name has its own protocol versions too (since 2.4.42, by the ClientHello
callback); each statement here is held against the real server in tests/test_apache_against_server.py.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import partial
from typing import Any, Final

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
from rupex.servers.apache.connections import verification
from rupex.servers.apache.hosts import Listener, VirtualHost
from rupex.servers.apache.inventory import is_of_core
from rupex.servers.apache.load import LoadedConfig, all_of, last_of
from rupex.servers.apache.release import Release, default
from rupex.servers.apache.syntax import Block, Directive
from rupex.servers.common.clients import verdict_of
from rupex.servers.common.openssl_settings import by_library, signatures
from rupex.servers.common.patterns import UndeterminedError
from rupex.servers.common.templates import ReadOnce
from rupex.servers.contract import HostContext
from rupex.tls.dh import ParameterError, parse_dh_parameters
from rupex.tls.groups import negotiable_groups
from rupex.tls.negotiate import Abilities, negotiable, refusals, security_level
from rupex.tls.openssl import told_as_declared
from rupex.tls.suites import PROTOCOL_VERSIONS

_ALL: Final[tuple[ProtocolVersion, ...]] = ("TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3")
_NAMES: Final[dict[str, ProtocolVersion]] = {version.lower(): version for version in PROTOCOL_VERSIONS} | {
    "tlsv1.0": "TLSv1"
}


_OF_CLIENTS: Final = (
    "sslcacertificatefile", "sslcacertificatepath", "sslcarevocationfile", "sslcarevocationpath", "sslverifydepth",
)  # fmt: skip
"""What is said of clients' certificates beside SSLVerifyClient."""


def speaks_tls(config: LoadedConfig, listener: Listener) -> bool:
    """Whether a listener expects TLS: its first virtual host decides, whatever the others say (ssl_hook_pre_connection)."""
    return _has_engine(config, listener, listener.default)


def tls_host(config: LoadedConfig, listener: Listener, virtual: VirtualHost) -> VirtualHost:
    """Whose versions and certificate a virtual host has where its listener expects TLS: its own where its engine is on, else
    those of the first one (ssl_engine_kernel.c, init_vhost)."""
    return virtual if _has_engine(config, listener, virtual) else listener.default


def _has_engine(config: LoadedConfig, listener: Listener, virtual: VirtualHost) -> bool:
    """Whether a virtual host's engine is on: where it says so, or says nothing, has a certificate of its own, and is taken to
    speak https (ssl_init_Module; ``optional`` is plain HTTP; all measured on 2.4.71). One that says nothing of the core's own
    is taken to speak what the main server does."""
    if "ssl" not in config.modules:
        return False
    engine = virtual.says("sslengine")
    if engine is not None:
        return engine.word == "on"
    if last_of(virtual.directives.model, "sslcertificatefile") is None:
        return False
    protocol = virtual.says("protocol")
    if protocol is not None:
        return protocol.word == "https"
    listens = (listen for address in virtual.addresses for listen in listener.listens if listen.is_at(*address))
    found = next(listens, None)
    says_own = any(is_of_core(directive.key) for directive in virtual.directives.model)
    return says_own and found is not None and found.protocol == "https"


def _read_certificates(config: LoadedConfig, directives: Block) -> tuple[CertificateUse, ...]:
    """The certificates of a virtual host's directives with their keys, in order."""
    files = [d for d in all_of(directives, "sslcertificatefile") if d.args]
    keys = [d for d in all_of(directives, "sslcertificatekeyfile") if d.args]
    return tuple(_use(config, file, keys[index] if index < len(keys) else None) for index, file in enumerate(files))


def _use(config: LoadedConfig, certificate: Directive, key: Directive | None) -> CertificateUse:
    path = config.path(certificate.args[0])
    return CertificateUse(
        path,
        path if key is None else config.path(key.args[0]),
        certificate.provenance(),
        None if key is None else key.provenance(),
    )


class TlsResolver:
    """Resolves TLS settings of virtual hosts."""

    def __init__(self, config: LoadedConfig, release: Release, host_context: HostContext) -> None:
        self.config, self.release, self.host_context = config, release, host_context
        self._said_certificates: ReadOnce[Block, tuple[CertificateUse, ...]] = ReadOnce(
            partial(_read_certificates, config)
        )
        self._parameters: dict[str, DhParameters | str | None] = {}

    # Certificates

    def certificates(self, virtual: VirtualHost) -> tuple[CertificateUse, ...]:
        """The certificates of a virtual host with their keys, in order; those of the main server where it has none."""
        own = self._said_certificates(virtual.directives)
        return own if own or virtual.main is None else self._said_certificates(virtual.main.directives)

    def kind(self, virtual: VirtualHost) -> tuple[object, ...] | None:
        """What the settings of a virtual host hang on in its certificates: the kinds of their keys, and the parameters for
        Diffie-Hellman; None where that is not known."""
        uses = self.certificates(virtual)
        kinds = self._kinds(uses)
        return None if kinds is None else (kinds, self._dh(uses).value)

    def _kinds(self, uses: Iterable[CertificateUse]) -> frozenset[str] | None:
        return self.host_context.credentials.key_kinds(use.certificate for use in uses)

    # All settings of one endpoint

    def resolve(self, listener: Listener, virtual: VirtualHost) -> Tls:
        library = self.host_context.library
        uses = self.certificates(virtual)
        kinds = self._kinds(uses)
        declared, protocols_by, words = self._protocols(listener, virtual)
        expression, ciphers_by = self._ciphers(virtual, "SSL")
        newest, _ = self._ciphers(virtual, "TLSv1.3")
        command = self._command(virtual, "Ciphersuites")
        versions, suites = negotiable(
            declared, expression, library, Abilities(kinds, True),
            command[0] if command else newest or library.ciphersuites or "",
        )  # fmt: skip
        level = security_level(expression, library)
        tls12, tls13 = "TLSv1.2" in versions, "TLSv1.3" in versions
        return Tls(
            protocols=Setting(versions, _noted(protocols_by, told_as_declared(words, library))),
            suites=Setting(suites, _noted(ciphers_by, told_as_declared(expression, library))),
            groups=self._groups(listener.default, level, newest=tls13),
            preference=self._preference(listener, virtual),
            tickets=self._tickets(listener, virtual),
            stapling=self._stapling(virtual, uses),
            compression=self._compression(virtual),
            alpn=self._alpn(virtual),
            certificates=uses,
            refused=() if protocols_by.file is None else refusals(declared, versions, expression, library),
            dh=self._dh(uses),
            signatures=signatures(
                library,
                self._command(virtual, "SignatureAlgorithms"),
                level,
                kinds,
                tls12=tls12,
                any_version=tls12 or tls13,
            ),
            secure_renegotiation=by_library(library, (0, 9, 8), "acknowledges RFC 5746"),
            client_renegotiation=Setting(False, default_of(f"httpd {self.release}", "refused since 2.2.15")),
            fallback_signal=by_library(library, (1, 0, 1), "obeys RFC 7507 since 1.0.1j"),
            master_secret=by_library(library, (1, 1, 0), "uses RFC 7627"),
            early_data=Setting(False, default_of(f"httpd {self.release}", "has no early data")),
            ticket_keys=self._ticket_keys(virtual),
            client_certificate=self._client_certificate(virtual),
        )

    # One setting each

    def _tickets(self, listener: Listener, virtual: VirtualHost) -> Setting[bool]:
        """Whether tickets are issued: what the listener's first virtual host or the name's own switches off stays off, since
        options are only added when the name is known (ssl_callback_ServerNameIndication)."""
        own = self._switch(virtual, "SSLSessionTickets", otherwise=True)
        first = self._switch(listener.default, "SSLSessionTickets", otherwise=True)
        return own if first.value or not own.value else first

    def _protocols(
        self, listener: Listener, virtual: VirtualHost
    ) -> tuple[tuple[ProtocolVersion, ...], Provenance, str]:
        """The versions that are switched on. A virtual host that says nothing has those of the listener's first one; and so
        has every other where the library has no callback for the first message (before OpenSSL 1.1.1) or httpd does not use
        it (before 2.4.42)."""
        library = self.host_context.library.release
        can_differ = self.release.number >= (2, 4, 42) and (library is None or library >= (1, 1, 1))
        if not can_differ or virtual.last("sslprotocol") is None:
            virtual = listener.default
        directive = virtual.last("sslprotocol")
        if directive is None:
            setting = default("SSLProtocol", self.release)
            words = str(setting.value)
            place = setting.provenance or Provenance("default")
        else:
            words, place = (
                directive.word,
                directive.provenance("explicit" if directive in virtual.directives else "inherited"),
            )
        enabled = switched_protocols(words, self.release.number)
        if library is None or library >= (1, 1, 0):
            enabled = unbroken(enabled)
        # What the first virtual host switches off stays off for all (SSL_set_options adds).
        off = frozenset[ProtocolVersion]()
        for host in dict.fromkeys((listener.default, virtual)):
            own_off = frozenset[ProtocolVersion]()
            for name, value, by in self._commands(host):
                if name == "protocol":
                    own_off, place = _switched_off(value, own_off), by
            off |= own_off
        for name, value, by in self._commands(virtual):
            if name in ("minprotocol", "maxprotocol") and value in PROTOCOL_VERSIONS:
                edge = PROTOCOL_VERSIONS.index(value)
                within = PROTOCOL_VERSIONS[edge:] if name == "minprotocol" else PROTOCOL_VERSIONS[: edge + 1]
                enabled, place = frozenset(v for v in enabled if v in within), by
        return tuple(v for v in PROTOCOL_VERSIONS if v in enabled - off), place, words

    def _ciphers(self, virtual: VirtualHost, which: str) -> tuple[str, Provenance]:
        """The cipher list for a protocol: ``SSL`` for TLS 1.2 and older, or ``TLSv1.3``."""
        if which == "SSL":
            command = self._command(virtual, "CipherString")
            if command is not None:
                return command
        for directives in reversed(virtual.chain):
            for directive in reversed(list(all_of(directives, "sslciphersuite"))):
                words = directive.args
                protocol, expression = (words[0], words[1]) if len(words) > 1 else ("SSL", words[0] if words else "")
                if protocol.upper() == which.upper():
                    if which == "SSL" and self.release.number >= (2, 4, 7):
                        expression += ":!aNULL:!eNULL:!EXP"  # added to every list (ssl_cmd_SSLCipherSuite)
                    return expression, directive.provenance(
                        "explicit" if directives is virtual.directives else "inherited"
                    )
        if which != "SSL":
            return "", Provenance("default")
        if self.host_context.library.ciphers is not None:
            return self.host_context.library.ciphers, self.host_context.library.provenance or Provenance("default")
        setting = default("SSLCipherSuite", self.release)
        return str(setting.value), setting.provenance or Provenance("default")

    def _commands(self, virtual: VirtualHost) -> list[tuple[str, str, Provenance]]:
        """The commands of ``SSLOpenSSLConfCmd``, the main server's first, in order."""
        return [
            (directive.args[0].lower(), directive.args[1], directive.provenance())
            for directives in virtual.chain
            for directive in all_of(directives, "sslopensslconfcmd")
            if len(directive.args) == 2
        ]

    def _command(self, virtual: VirtualHost, *names: str) -> tuple[str, Provenance] | None:
        lowered = {name.lower() for name in names}
        found = [(value, place) for name, value, place in self._commands(virtual) if name in lowered]
        return found[-1] if found else None

    def _switch(self, virtual: VirtualHost, name: str, *, otherwise: bool) -> Setting[bool]:
        directive = virtual.last(name.lower())
        if directive is None:
            return Setting(otherwise, default_of(f"httpd {self.release}"))
        return Setting(directive.word == "on", directive.provenance())

    def _preference(self, listener: Listener, virtual: VirtualHost) -> Setting[Any]:
        """Who decides the order. What the listener's first virtual host switches on stays on for all (SSL_set_options adds)."""
        found: Setting[Any] = Setting("client")
        for one in dict.fromkeys((listener.default, virtual)):
            for name, value, place in reversed(self._commands(one)):
                if name == "options" and "serverpreference" in value.lower():
                    return Setting("client" if "-serverpreference" in value.lower() else "server", place)
            setting = self._switch(one, "SSLHonorCipherOrder", otherwise=False)
            if setting.value:
                return Setting("server", setting.provenance)
            found = Setting("client", setting.provenance)
        return found

    def _compression(self, virtual: VirtualHost) -> Setting[bool]:
        directive = virtual.last("sslcompression")
        default_setting = default("SSLCompression", self.release)
        is_on = directive.word == "on" if directive is not None else default_setting.value == "on"
        place = default_setting.provenance if directive is None else directive.provenance()
        library = self.host_context.library.release
        if is_on and library is not None and library >= (1, 1, 0):
            return Setting(False, default_of(str(self.host_context.library), "built without compression"))
        if is_on and library is None:
            return unknown("whether the crypto library compresses", place)
        return Setting(is_on, place)

    def _groups(self, virtual: VirtualHost, level: int, *, newest: bool) -> Setting[tuple[str, ...]]:
        # Those of the listener's first virtual host hold for all: a context that is changed by name keeps its groups.
        command = self._command(virtual, "Groups", "Curves", "ECDHParameters")
        library = self.host_context.library
        value, place = command or (library.groups or "", library.provenance or default_of(str(library)))
        found = negotiable_groups("" if value.lower() in ("auto", "automatic") else value, library, level, newest)
        if found is None:
            return unknown("the crypto library's own list of groups, and its release is not known", place)
        return Setting(found, place)

    def _dh(self, uses: Sequence[CertificateUse]) -> Setting[DhParameters]:
        """Parameters in the first certificate file, else a group of RFC 3526 as large as the key (since 2.4.7)."""
        for use in uses[:1]:
            found = self._parameters_in(use.certificate or "")
            if isinstance(found, str):
                return unknown(f"{use.certificate}: {found}", use.provenance)
            if found is not None:
                return Setting(found, use.provenance)
        if self.release.number < (2, 4, 7):
            return Setting(DhParameters(1024, None, None), default_of(f"httpd {self.release}"))
        bits = self._size(uses)
        place = default_of(f"httpd {self.release}", "by the size of the key")
        return Setting(DhParameters(bits, f"modp{bits}" if bits > 1024 else None, True), place)

    def _parameters_in(self, path: str) -> DhParameters | str | None:
        """The parameters in a file of certificates, None where it has none; or why they cannot be read."""
        path = self.host_context.credentials.own_path(path)
        if path not in self._parameters:
            self._parameters[path] = None
            try:
                content = self.host_context.tree.read(path, bounds.CREDENTIAL_FILE_BYTES)
                if b"BEGIN DH PARAMETERS" in content:
                    self._parameters[path] = parse_dh_parameters(content)
            except ParameterError as error:
                self._parameters[path] = str(error)
            except TreeError:
                pass  # told where the certificate is read
        return self._parameters[path]

    def _size(self, uses: Sequence[CertificateUse]) -> int:
        """The bits of the parameters that httpd takes for its certificates: those of an RSA key, else 3072."""
        for use in uses:
            found = self.host_context.credentials.certificates(use.certificate or "")
            if not isinstance(found, str) and found[0].key_type == "RSA":
                size = found[0].key_bits or 0
                return next(
                    (bits for bits in (8192, 6144, 4096, 3072, 2048) if size >= bits), 2048 if size > 1024 else 1024
                )
        return 3072

    def _ticket_keys(self, virtual: VirtualHost) -> Setting[TicketKeys]:
        directive = virtual.last("sslsessionticketkeyfile")
        if directive is not None and directive.args:
            path = self.config.path(directive.args[0])
            return Setting(TicketKeys(False, path, self.host_context.tree.modified(path)), directive.provenance())
        return Setting(
            TicketKeys(False), default_of(f"httpd {self.release}", "keys are made at start and kept until the next")
        )

    def asks_certificate(self, listener: Listener, virtual: VirtualHost) -> tuple[str, Provenance] | None:
        """What the handshake asks of a client (the word of SSLVerifyClient), and by which line; None for nothing."""
        directive = tls_host(self.config, listener, virtual).last("sslverifyclient")
        word = verification(directive)
        return None if directive is None or word == "none" else (word, directive.provenance())

    def verdict_of(self, listener: Listener, virtual: VirtualHost, certificate: ClientCertificate | None) -> str:
        """What a virtual host that asks for it makes of a client's certificate. Raises
        :class:`~rupex.servers.common.patterns.UndeterminedError`."""
        host = tls_host(self.config, listener, virtual)
        said = {name: host.last(name) for name in _OF_CLIENTS}
        beyond = said["sslcarevocationfile"] or said["sslcarevocationpath"] or said["sslcacertificatepath"]
        if certificate is not None and beyond is not None:
            raise UndeterminedError(f"{beyond}: Rupex does not look there")
        authorities, depth = said["sslcacertificatefile"], said["sslverifydepth"]
        trusted = [] if authorities is None else [self.config.path(authorities.args[0])]
        most = whole_number("1" if depth is None else depth.word)
        # The authority itself counts (ssl_callback_SSLVerify).
        return verdict_of(certificate, self.host_context.tree, trusted, (1 if most is None else most) - 1)

    def _client_certificate(self, virtual: VirtualHost) -> Setting[Any]:
        directive = virtual.last("sslverifyclient")
        word = verification(directive)
        place = default_of(f"httpd {self.release}") if directive is None else directive.provenance()
        if word == "optional_no_ca":
            return Setting("unverified", place)
        return Setting("none" if word in ("none", "") else "verified", place)

    def _stapling(self, virtual: VirtualHost, uses: Sequence[CertificateUse]) -> Setting[bool]:
        """Whether a response is stapled: asked for, with a cache for it, and the certificate names a responder and comes
        with its issuer."""
        setting = self._switch(virtual, "SSLUseStapling", otherwise=False)
        if not setting.value or setting.provenance is None:
            return setting
        place = setting.provenance
        chain_file = virtual.last("sslcertificatechainfile")
        forced = virtual.last("sslstaplingforceurl") is not None
        for use in uses:
            found = self.host_context.credentials.certificates(use.certificate or "")
            if isinstance(found, str):
                return unknown(f"{use.certificate}: {found}", place)
            if not forced and not found[0].ocsp_responders:
                return Setting(False, _noted(place, f"{use.certificate} names no responder, so nothing is stapled"))
            if len(found) < 2 and chain_file is None:
                return Setting(
                    False, _noted(place, f"{use.certificate} comes without its issuer, so nothing is stapled")
                )
        return setting

    def _alpn(self, virtual: VirtualHost) -> Setting[tuple[str, ...]]:
        directive = virtual.last("protocols")
        has_h2 = "http2" in self.config.modules and "mpm_prefork" not in self.config.modules
        if directive is None:
            return Setting(("http/1.1",), default_of(f"httpd {self.release}"))
        protocols = (
            directive.args if "http/1.1" in directive.args else (*directive.args, "http/1.1")
        )  # that one is always there
        names = tuple(word for word in protocols if word == "http/1.1" or (word == "h2" and has_h2))
        honors_order = virtual.last("protocolshonororder")
        if honors_order is not None and honors_order.word == "off":
            names = tuple(sorted(names))  # the client's order counts, and none prefers the older one
        why = "module http2 is not loaded" if "http2" not in self.config.modules else "mpm_prefork cannot speak it"
        note = "" if has_h2 or "h2" not in directive.args else f"{why}, so h2 is not offered"
        return Setting(names or ("http/1.1",), _noted(directive.provenance(), note) if note else directive.provenance())


def switched_protocols(words: str, release: tuple[int, ...]) -> frozenset[ProtocolVersion]:
    """The versions that ``SSLProtocol`` leaves: a bare word starts anew, ``+`` and ``-`` switch one (ssl_cmd_protocol_parse).
    ``all`` has no SSL 2, and SSL 3 only where the library still has it."""
    every = frozenset[ProtocolVersion](("SSLv3", *_ALL) if release < (2, 4, 16) else _ALL)
    found = frozenset[ProtocolVersion]()
    for word in words.split():
        sign, name = (word[0], word[1:].lower()) if word[0] in "+-" else ("", word.lower())
        meant = every if name == "all" else frozenset[ProtocolVersion]((_NAMES[name],) if name in _NAMES else ())
        found = found - meant if sign == "-" else found | meant if sign == "+" else meant
    return found


def unbroken(enabled: frozenset[ProtocolVersion]) -> frozenset[ProtocolVersion]:
    """What is left of the versions that are switched on where only a lowest and a highest one can be set (with OpenSSL 1.1.0 and
    newer): the highest one, and those below it without a gap (ssl_init_ctx_protocol)."""
    found = list[ProtocolVersion]()
    for version in reversed(PROTOCOL_VERSIONS):
        if version in enabled:
            found.append(version)
        elif found:
            break
    return frozenset(found)


def _switched_off(value: str, before: frozenset[ProtocolVersion]) -> frozenset[ProtocolVersion]:
    """The versions that the command ``Protocol`` switches off: what it names without a minus is only no longer off
    (SSL_CONF_cmd(3))."""
    found = before
    for word in (word.strip().lower() for word in value.split(",")):
        name = word.lstrip("+-")
        meant = frozenset(PROTOCOL_VERSIONS) if name == "all" else frozenset({_NAMES[name]} if name in _NAMES else ())
        found = found | meant if word.startswith("-") else found - meant
    return found


def _noted(provenance: Provenance, note: str) -> Provenance:
    notes = f"{provenance.note}; {note}" if provenance.note else note
    return provenance.noted(notes)
