"""What a TLS listener of nginx negotiates for one server block (ngx_http_ssl_module).

Measured on 1.22.1: the protocol versions are those of the listener's default server, since they are agreed before the
server name is looked at; suites, certificates and tickets are those of the block that the name selects.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Final

from rupex.model import CertificateUse, Provenance, Setting, Tls, default_of, unknown
from rupex.model.endpoint import ProtocolVersion
from rupex.servers.family import Surroundings
from rupex.servers.nginx.listeners import Listener, Virtual
from rupex.servers.nginx.load import Block, LoadedConfig
from rupex.servers.nginx.release import Release, default
from rupex.servers.nginx.syntax import Directive
from rupex.tls.negotiate import Abilities, negotiable
from rupex.tls.suites import PROTOCOL_VERSIONS

_KIND_TO_AUTHENTICATION: Final = {"RSA": "RSA", "ECDSA": "ECDSA", "DSA": "DSS", "Ed25519": "ECDSA", "Ed448": "ECDSA"}


def inherited(chain: Sequence[Block], name: str) -> tuple[Directive | None, Provenance | None]:
    """The directive ``name`` in force in the innermost block of ``chain``, with its provenance and what it overrules."""
    holders = [(depth, found) for depth, block in enumerate(chain) if (found := block.last(name)) is not None]
    if not holders:
        return None, None
    depth, directive = holders[-1]
    provenance = directive.provenance("explicit" if depth == len(chain) - 1 else "inherited")
    if len(holders) > 1:
        overruled = tuple(found.provenance(note=str(found)) for _, found in reversed(holders[:-1]))
        provenance = Provenance(provenance.how, provenance.file, provenance.line, provenance.column, None, overruled)
    return directive, provenance


def with_note(provenance: Provenance, note: str) -> Provenance:
    return Provenance(provenance.how, provenance.file, provenance.line, provenance.column, note, provenance.overruled)


class TlsResolver:
    """Resolves TLS settings; chains are ``(http, server)``."""

    def __init__(self, config: LoadedConfig, release: Release, around: Surroundings) -> None:
        self.config, self.release, self.around = config, release, around

    def setting(self, chain: Sequence[Block], name: str) -> Setting[Any]:
        """A directive's first word, or the release's default."""
        directive, provenance = inherited(chain, name)
        if directive is None:
            return default(name, self.release)
        return Setting(directive.args[0] if directive.args else "", provenance)

    def certificates(self, chain: Sequence[Block]) -> tuple[CertificateUse, ...]:
        """The certificates of a server block with their keys, by order of declaration."""
        for block in reversed(chain):
            certificates = list(block.all("ssl_certificate"))
            if certificates:
                keys = next(
                    (list(b.all("ssl_certificate_key")) for b in reversed(chain) if b.last("ssl_certificate_key")), []
                )
                return tuple(
                    self._use(c, keys[index] if index < len(keys) else None) for index, c in enumerate(certificates)
                )
        return ()

    def _use(self, certificate: Directive, key: Directive | None) -> CertificateUse:
        return CertificateUse(
            self._path(certificate),
            None if key is None else self._path(key),
            certificate.provenance(),
            None if key is None else key.provenance(),
        )

    def _path(self, directive: Directive) -> str | None:
        """The file that a directive names; None for one that only run time knows, or that is no file."""
        name = directive.args[0] if directive.args else ""
        if "$" in name or name.startswith(("data:", "engine:", "store:")) or not name:
            return None
        return self.config.path(name)

    def resolve(self, listener: Listener, virtual: Virtual, http: Block) -> Tls:
        assert listener.default is not None
        chain = (http, virtual.block)
        uses = self.certificates(chain)
        declared, protocol_provenance = self._declared_protocols((http, listener.default.block), listener, virtual)
        ciphers = self.setting(chain, "ssl_ciphers")
        expression = str(ciphers.value)
        abilities = Abilities(self._authentications(uses), self._has_dh(chain))
        versions, suites = negotiable(declared, expression, self.around.library, abilities)
        assert ciphers.provenance is not None
        groups = self.setting(chain, "ssl_ecdh_curve")
        return Tls(
            protocols=Setting(versions, with_note(protocol_provenance, self._note(" ".join(declared), protocol_provenance))),
            suites=Setting(suites, with_note(ciphers.provenance, self._note(expression, ciphers.provenance))),
            groups=Setting(tuple(str(groups.value).split(":")), groups.provenance) if groups.value != "auto"
            else unknown("the crypto library's own list of groups", groups.provenance),
            preference=_switch(self.setting(chain, "ssl_prefer_server_ciphers"), "server", "client"),
            tickets=_switch(self.setting(chain, "ssl_session_tickets"), True, False),
            stapling=_switch(self.setting(chain, "ssl_stapling"), True, False),
            compression=Setting(False, default_of(f"nginx {self.release}", "never offered with OpenSSL 1.0.0 or newer")),
            alpn=self._alpn(listener, chain),
            certificates=uses,
        )  # fmt: skip

    def _note(self, declared: str, provenance: Provenance) -> str:
        parts = [f"declared: {declared}", f"library: {self.around.library}"]
        if provenance.how == "default" and provenance.note:
            parts.insert(0, provenance.note)
        return "; ".join(parts)

    def _declared_protocols(
        self, chain: tuple[Block, Block], listener: Listener, virtual: Virtual
    ) -> tuple[tuple[ProtocolVersion, ...], Provenance]:
        directive, provenance = inherited(chain, "ssl_protocols")
        if directive is None or provenance is None:
            setting = default("ssl_protocols", self.release)
            assert setting.provenance is not None
            words, provenance = set(setting.value or ()), setting.provenance
        else:
            words = set(directive.args)
        if listener.default is not virtual:
            own, _ = inherited((chain[0], virtual.block), "ssl_protocols")
            if own is not None and own is not directive:
                lost = own.provenance(note=f"{own}: without effect, the default server of the listener decides")
                provenance = Provenance(
                    provenance.how, provenance.file, provenance.line, provenance.column, provenance.note,
                    (*provenance.overruled, lost),
                )  # fmt: skip
        return tuple(version for version in PROTOCOL_VERSIONS if version in words), provenance

    def _authentications(self, uses: tuple[CertificateUse, ...]) -> frozenset[str] | None:
        kinds = set()
        for use in uses:
            found = self.around.credentials.certificates(use.certificate) if use.certificate else "not a file"
            if isinstance(found, str) or found[0].key_type not in _KIND_TO_AUTHENTICATION:
                return None
            kinds.add(_KIND_TO_AUTHENTICATION[found[0].key_type])
        return frozenset(kinds) if kinds else None

    def _has_dh(self, chain: Sequence[Block]) -> bool:
        return inherited(chain, "ssl_dhparam")[0] is not None or default("dh_parameters", self.release).value == "on"

    def _alpn(self, listener: Listener, chain: Sequence[Block]) -> Setting[tuple[str, ...]]:
        directive, provenance = inherited(chain, "http2")
        if directive is not None and directive.args == ("on",):
            return Setting(("h2", "http/1.1"), provenance)
        if listener.http2 and listener.http2_by is not None:
            return Setting(("h2", "http/1.1"), listener.http2_by.provenance())
        return Setting(("http/1.1",), default_of(f"nginx {self.release}"))


def _switch(setting: Setting[Any], on: Any, off: Any) -> Setting[Any]:
    return Setting(on if setting.value == "on" else off, setting.provenance)
