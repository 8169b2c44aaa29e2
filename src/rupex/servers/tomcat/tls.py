"""What a TLS connector of Tomcat negotiates: by its own element of old style, or the SSLHostConfig of the name.

Two crypto libraries are possible. With Java's own (JSSE) the runtime has the last word: what its security file switches off
is not offered, and without that file nobody can say whether TLS 1.0 still is.
"""

from __future__ import annotations

import re
from typing import Any, Final

from rupex.model import CertificateUse, Provenance, Setting, TicketKeys, Tls, default_of, unknown
from rupex.model.endpoint import ProtocolVersion
from rupex.servers.contract import HostContext
from rupex.servers.tomcat.release import Java, Release, default
from rupex.servers.tomcat.syntax import Element
from rupex.tls.negotiate import Abilities, negotiable, signs
from rupex.tls.openssl import Library, expand, told_as_declared
from rupex.tls.suites import PROTOCOL_VERSIONS, suite_called

_ALL: Final[tuple[ProtocolVersion, ...]] = ("TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3")
_NAMES: Final[dict[str, ProtocolVersion]] = {version.lower(): version for version in PROTOCOL_VERSIONS}
_OF_JAVA = re.compile(r"AES_(?:128|256)_(?:GCM|CBC)|CHACHA20_POLY1305")
_SEPARATORS = re.compile(r"[,:\s]+")


class TlsResolver:
    """Resolves TLS settings of connectors."""

    def __init__(self, release: Release, java: Java, host_context: HostContext, base: str) -> None:
        self.release, self.java, self.host_context, self.base = release, java, host_context, base

    def path(self, name: str) -> str:
        bare = name.removeprefix("file:") if name.startswith(("/", "file:/")) else f"{self.base}/{name}"
        return self.host_context.tree.named(bare)

    def host_config(self, connector: Element, name: str) -> Element:
        """The SSLHostConfig for a server name, or the connector itself where it is written in the old style."""
        configs = list(connector.all("SSLHostConfig"))
        wild = "*." + name.partition(".")[2]
        default_name = connector.get("defaultSSLHostConfigName", "_default_").lower()
        for known in (name, wild, default_name):
            for config in configs:
                if config.get("hostName", "_default_").lower() == known:
                    return config
        return configs[0] if configs else connector

    def certificates(self, config: Element) -> tuple[CertificateUse, ...]:
        """The certificates of an SSLHostConfig, in files or key stores."""
        places = list(config.all("Certificate")) or [config]
        return tuple(use for place in places if (use := self._use(place)) is not None)

    def _use(self, place: Element) -> CertificateUse | None:
        element_place = place.provenance()
        file = place.get("certificateFile") or place.get("SSLCertificateFile")
        if file:
            key = place.get("certificateKeyFile") or place.get("SSLCertificateKeyFile")
            return CertificateUse(
                self.path(file), self.path(key) if key else self.path(file), element_place, element_place
            )
        store = place.get("certificateKeystoreFile") or place.get("keystoreFile")
        if not store:
            return None
        return CertificateUse(self.path(store), self.path(store), element_place, element_place)

    def resolve(self, connector: Element, config: Element) -> Tls:
        """``config``: the SSLHostConfig, or the connector itself where it is written in the old style."""
        uses = self.certificates(config)
        kinds = self.host_context.credentials.key_kinds(use.certificate for use in uses)
        declared, words, place = self._protocols(connector, config)
        protocols = self._spoken(declared, place, words)
        is_openssl = self.is_openssl(connector)
        spoken = (
            protocols.value if protocols.value is not None else tuple(v for v in PROTOCOL_VERSIONS if v in declared)
        )
        suites = self._suites(connector, config, spoken, kinds, is_openssl=is_openssl)
        if (
            suites.value is not None
            and protocols.value is not None
            and not any(name in _NEWEST for name in suites.value)
        ):
            protocols = Setting(tuple(v for v in protocols.value if v != "TLSv1.3"), protocols.provenance)
        h2 = any("http2" in upgrade.get("className").lower() for upgrade in connector.all("UpgradeProtocol"))
        java = "OpenSSL decides" if is_openssl else "the Java runtime decides"
        honour = config.attributes.get(
            "honorCipherOrder", connector.attributes.get("useServerCipherSuitesOrder", "false")
        )
        verification = asked_of_clients(connector, config)
        return Tls(
            protocols=protocols,
            suites=suites,
            groups=unknown(f"{java} which groups are offered", place),
            preference=Setting("server" if honour.lower() == "true" else "client", config.provenance()),
            tickets=Setting(not config.flag("disableSessionTickets"), config.provenance()),
            stapling=Setting(False, default_of(f"Tomcat {self.release}", "staples nothing with JSSE"))
            if not is_openssl
            else unknown(java),
            compression=Setting(
                False, default_of(f"Tomcat {self.release}", "has no TLS compression with a library of today")
            ),
            alpn=Setting(("h2", "http/1.1") if h2 else ("http/1.1",), connector.provenance())
            if h2
            else Setting((), connector.provenance()),
            certificates=uses,
            refused=self._refused(declared, protocols.value),
            secure_renegotiation=Setting(True, default_of(f"Tomcat {self.release}", "RFC 5746")),
            client_renegotiation=None,
            early_data=Setting(False, default_of(f"Tomcat {self.release}", "has no early data")),
            ticket_keys=Setting(TicketKeys(not is_openssl), default_of(f"Tomcat {self.release}", java)),
            client_certificate=Setting(_verified(verification), config.provenance()),
        )

    def _refused(
        self, declared: frozenset[ProtocolVersion], spoken: tuple[ProtocolVersion, ...] | None
    ) -> tuple[str, ...]:
        """Why versions that are configured are not spoken, where the Java runtime switches them off."""
        lost = [v for v in PROTOCOL_VERSIONS if v in declared and v.lower() in (self.java.refused or ())]
        if spoken is None or not lost:
            return ()
        verb = "are" if len(lost) > 1 else "is"
        return (f"{' and '.join(lost)} {verb} configured and switched off in Java by jdk.tls.disabledAlgorithms",)

    def is_openssl(self, connector: Element) -> bool:
        name = connector.get("sslImplementationName") + connector.get("protocol")
        return "OpenSSL" in name or "Apr" in name or bool(connector.get("SSLCertificateFile"))

    def _protocols(self, connector: Element, config: Element) -> tuple[frozenset[ProtocolVersion], str, Provenance]:
        for element, name in (
            (config, "protocols"),
            (config, "sslEnabledProtocols"),
            (config, "SSLProtocol"),
            (connector, "sslEnabledProtocols"),
            (connector, "SSLProtocol"),
        ):
            if name in element.attributes:
                return switched(element.attributes[name]), element.attributes[name], element.provenance()
        setting = default("protocols", self.release)
        return switched(str(setting.value)), str(setting.value), setting.provenance or Provenance("default")

    def _spoken(
        self, declared: frozenset[ProtocolVersion], place: Provenance, words: str
    ) -> Setting[tuple[ProtocolVersion, ...]]:
        """What is left when the runtime has had its word."""
        versions = tuple(version for version in PROTOCOL_VERSIONS if version in declared)
        noted = place.noted(told_as_declared(words))
        if self.java.refused is None:
            old = [version for version in versions if version in ("SSLv3", "TLSv1", "TLSv1.1")]
            if old:
                why = f"whether the Java runtime still speaks {old[0]}: its security file is not in the tree (--assume java=17)"
                return unknown(why, place)
            return Setting(versions, noted)
        return Setting(tuple(version for version in versions if version.lower() not in self.java.refused), noted)

    def _suites(
        self,
        connector: Element,
        config: Element,
        protocols: tuple[ProtocolVersion, ...],
        kinds: frozenset[str] | None,
        *,
        is_openssl: bool,
    ) -> Setting[tuple[str, ...]]:
        text = config.attributes.get("ciphers", connector.attributes.get("ciphers"))
        setting = default("ciphers", self.release)
        place = (
            (config if "ciphers" in config.attributes else connector).provenance()
            if text is not None
            else setting.provenance
        )
        text = str(setting.value) if text is None else text
        if is_openssl:
            _, suites = negotiable(protocols, text, self.host_context.library, Abilities(kinds, True))
            return Setting(suites, place)
        if not text:
            return unknown("the Java runtime's own list", place)
        newest = max((PROTOCOL_VERSIONS.index(v) for v in protocols), default=-1)
        lowest = min((PROTOCOL_VERSIONS.index(v) for v in protocols), default=99)
        found = []
        for name in _named(text, config.get("cipherSuites"), self.release):
            suite = suite_called(name)
            if suite is None or not _OF_JAVA.match(suite.encryption) or PROTOCOL_VERSIONS.index(suite.version) > newest:
                continue
            is_spoken = suite.version in protocols if suite.version in ("TLSv1.2", "TLSv1.3") else lowest <= 4
            if is_spoken and (suite.version == "TLSv1.3" or _can_sign(suite.authentication, suite.key_exchange, kinds)):
                found.append(suite.name)
        return Setting(tuple(dict.fromkeys(found)), place)


def _can_sign(authentication: str | None, exchange: str | None, kinds: frozenset[str] | None) -> bool:
    return exchange in ("ECDHE", "DHE", "RSA") and signs(authentication, kinds)


_MEASURE: Final = Library((1, 1, 1), 0)
"""Tomcat expands OpenSSL's language itself, whatever is installed: as of 1.1.1, without a security level."""


_NEWEST: Final = ("TLS_AES_256_GCM_SHA384", "TLS_CHACHA20_POLY1305_SHA256", "TLS_AES_128_GCM_SHA256")
_SELECTS_NEWEST = re.compile(
    r"(?:^|[:, ])\+?(?:ALL|HIGH|DEFAULT|AES|AESGCM|AES128|AES256|CHACHA20|COMPLEMENTOFDEFAULT)(?=$|[:, ])"
)


def _named(text: str, newest: str, release: Release) -> list[str]:
    """The suites that a ``ciphers`` attribute names, in order: names of Java's, or an expression of OpenSSL's language. Those
    of TLS 1.3 are chosen by ``cipherSuites`` (``newest``, empty for all) since 10.1.43, and by this one before; an expression
    that means them still brings them all (measured on 10.1.60)."""
    apart: list[str] = []
    if _is_apart(release):
        apart = [word for word in _SEPARATORS.split(newest) if word] or [*_NEWEST]
    if re.search(r"\b(?:TLS|SSL)_\w+_WITH_|\bTLS_(?:AES|CHACHA)", text):
        return [*apart, *(re.sub("^SSL_", "TLS_", word) for word in _SEPARATORS.split(text) if word)]
    selected = [suite.name for suite in expand(text, _MEASURE).suites]
    return [*apart, *(_NEWEST if _SELECTS_NEWEST.search(text) else ()), *selected]


def _is_apart(release: Release) -> bool:
    """Whether the suites of TLS 1.3 are chosen by ``cipherSuites``."""
    return release.number >= (10, 1, 43) or (9, 0, 107) <= release.number < (10,)


_MUST: Final = ("required", "true", "yes")


def asked_of_clients(connector: Element, config: Element) -> str:
    """What a connector asks of its clients' certificates, in lower case; ``none`` where nothing is said."""
    said = config.get("certificateVerification") or config.get("clientAuth") or connector.get("clientAuth") or "none"
    return said.lower()


def must_show_certificate(word: str) -> bool:
    return word in _MUST


def _verified(word: str) -> Any:
    if word in (*_MUST, "optional", "want"):
        return "verified"
    return "unverified" if word in ("optionalnoca", "optional_no_ca") else "none"


def switched(words: str) -> frozenset[ProtocolVersion]:
    """The versions that ``protocols`` names: ``+`` and ``-`` switch one, a comma or a blank stands between, ``all`` is all that
    the implementation has (SSLHostConfig.setProtocols)."""
    found = frozenset[ProtocolVersion]()
    for sign, name in re.findall(r"([+-]?)\s*([A-Za-z0-9.]+)", words):
        meant = frozenset[ProtocolVersion](
            _ALL if name.lower() == "all" else (_NAMES[name.lower()],) if name.lower() in _NAMES else ()
        )
        found = found - meant if sign == "-" else found | meant
    return found
