"""A run as a CycloneDX 1.6 cryptographic inventory (ECMA-424): protocols with their suites, certificates, and keys, each with
where it was seen."""

from __future__ import annotations

import json
from hashlib import sha256
from typing import Any, Final
from uuid import NAMESPACE_URL, uuid5

from rupex.documents.run import CertificateSeen, Run
from rupex.model import Endpoint
from rupex.reports.clean import clean_parts
from rupex.tls.suites import all_suites

_VERSIONS: Final = {
    "SSLv2": "2.0",
    "SSLv3": "3.0",
    "TLSv1": "1.0",
    "TLSv1.1": "1.1",
    "TLSv1.2": "1.2",
    "TLSv1.3": "1.3",
}


class _Inventory:
    """Collects assets, each once, with the places at which they were seen."""

    def __init__(self) -> None:
        self._assets: dict[str, dict[str, Any]] = {}
        self._places: dict[str, dict[str, None]] = {}

    def add(self, kind: str, name: str, properties: dict[str, Any], place: str) -> str:
        """The reference of an asset; two with the same properties are one."""
        identity = json.dumps([kind, name, properties], sort_keys=True)
        reference = f"{kind}:{sha256(identity.encode('utf-8', 'surrogatepass')).hexdigest()[:24]}"
        self._assets.setdefault(
            reference,
            {
                "type": "cryptographic-asset",
                "bom-ref": reference,
                "name": name,
                "cryptoProperties": {"assetType": kind, **properties},
            },
        )
        self._places.setdefault(reference, {})[place] = None
        return reference

    def components(self) -> list[dict[str, Any]]:
        return [
            {**asset, "evidence": {"occurrences": [{"location": place} for place in self._places[reference]]}}
            for reference, asset in self._assets.items()
        ]


def render_cyclonedx(run: Run) -> str:
    """The whole inventory. Its serial number follows from what is in it."""
    inventory = _Inventory()
    for host in run.hosts:
        for endpoint in host.endpoints:
            _add_protocols(inventory, f"{host.name}: {endpoint.id}", endpoint)
        for certificate in host.certificates:
            _add_certificate(inventory, host.name, certificate)
    components = inventory.components()
    serial = uuid5(NAMESPACE_URL, json.dumps([run.started, components], sort_keys=True))
    document = {
        "bomFormat": "CycloneDX",
        "specVersion": "1.6",
        "serialNumber": f"urn:uuid:{serial}",
        "version": 1,
        "metadata": {
            "timestamp": run.started,
            "tools": {"components": [{"type": "application", "name": run.tool.name, "version": run.tool.version}]},
        },
        "components": components,
    }
    return json.dumps(clean_parts(document), indent=2, ensure_ascii=False) + "\n"


def _add_protocols(inventory: _Inventory, place: str, endpoint: Endpoint) -> None:
    if endpoint.tls is None or endpoint.tls.protocols.value is None:
        return
    names = endpoint.tls.suites.value
    for version in endpoint.tls.protocols.value:
        suites = [name for name in names or () if ("_WITH_" not in name) is (version == "TLSv1.3")]
        properties: dict[str, Any] = {"type": "tls", "version": _VERSIONS[version]}
        if names is not None:
            properties["cipherSuites"] = [_suite(name) for name in suites]
        inventory.add("protocol", version, {"protocolProperties": properties}, place)


def _suite(name: str) -> dict[str, Any]:
    code = _CODES.get(name)
    return {"name": name, **({} if code is None else {"identifiers": [f"0x{code >> 8:02X}", f"0x{code & 0xFF:02X}"]})}


_CODES: Final = {suite.name: suite.code for suite in all_suites()}


def _add_certificate(inventory: _Inventory, host: str, one: CertificateSeen) -> None:
    place = f"{host}: {one.place}"
    signature = inventory.add(
        "algorithm", f"signature with {one.digest or 'an unnamed digest'}",
        {"algorithmProperties": {"primitive": "signature", "cryptoFunctions": ["sign", "verify"]}}, place,
    )  # fmt: skip
    size = {} if one.key_bits is None else {"size": one.key_bits}
    key = inventory.add(
        "related-crypto-material", f"{one.key_type} public key {one.public_sha256[:16]}",
        {"relatedCryptoMaterialProperties": {"type": "public-key", "id": one.public_sha256, **size}}, place,
    )  # fmt: skip
    properties = {
        "subjectName": one.subject, "issuerName": one.issuer, "notValidBefore": one.not_before,
        "notValidAfter": one.not_after, "signatureAlgorithmRef": signature, "subjectPublicKeyRef": key,
        "certificateFormat": "X.509",
    }  # fmt: skip
    inventory.add("certificate", one.subject, {"certificateProperties": properties}, place)
