"""One host seen from both sides: what its tree says, and what its listeners answered."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime

from msgspec import structs

from rupex.gather import Evidence
from rupex.host import HostTree
from rupex.host.processes import find_running
from rupex.model import CertificateFile, Endpoint, Host, Predicted, Provenance, bounds
from rupex.servers.family import Configured, Request


def join(evidence: Evidence, tree: HostTree, seen: Iterable[Host]) -> Host:
    """The host of ``evidence`` with the endpoints that were ``seen`` of it. A certificate that was sent and lies on disk too is
    judged once."""
    host = evidence.host
    wires = list(seen)
    endpoints = [endpoint for wire in wires for endpoint in wire.endpoints]
    return structs.replace(
        host,
        sources=(*host.sources, *(source for wire in wires for source in wire.sources)),
        endpoints=(*host.endpoints, *endpoints),
        certificates=tuple(_certificates(host, wires)),
        samples=tuple(dict.fromkeys((*host.samples, *(sample for wire in wires for sample in wire.samples)))),
        problems=(*host.problems, *(problem for wire in wires for problem in wire.problems))[: bounds.PROBLEMS],
        chains={**host.chains, **{path: chain for wire in wires for path, chain in wire.chains.items()}},
        paths={**host.paths, **{path: way for wire in wires for path, way in wire.paths.items()}},
        predicted={e.id: found for e in endpoints if (found := _predicted(e, evidence.configurations)) is not None},
        running=find_running(tree),
        modified=dict(_modified(host, tree)),
    )


def _certificates(host: Host, wires: Sequence[Host]) -> Iterator[CertificateFile]:
    on_disk = {file.leaf.sha256 for file in host.certificates if file.leaf is not None}
    yield from host.certificates
    for wire in wires:
        for sent in wire.certificates:
            if sent.leaf is None or sent.leaf.sha256 not in on_disk:
                yield sent


def _predicted(seen: Endpoint, configurations: Sequence[Configured]) -> Predicted | None:
    """What the configuration says of the front page that was asked for; None where nothing listens there."""
    if seen.port is None or not seen.names:
        return None
    scheme = "http" if seen.transport == "plain" else "https"
    request = Request(scheme=scheme, name=seen.names[0], port=seen.port, path="/")
    for configuration in configurations:
        answer = configuration.answer(request)
        if answer is not None:
            place = answer.why[-1].provenance if answer.why else Provenance("explicit", configuration.main_path)
            unknown = "the connection is closed without an answer" if answer.closed else answer.unknown
            return Predicted(
                answer.endpoint, answer.scope, place, answer.status, answer.location, answer.headers, unknown
            )
    return None


def _modified(host: Host, tree: HostTree) -> Iterator[tuple[str, datetime]]:
    """When the files were written that endpoints of the configuration are declared in, and their certificates."""
    files: dict[str, None] = {}
    for endpoint in host.endpoints:
        if endpoint.provenance.file:
            files[endpoint.provenance.file] = None
        for use in endpoint.tls.certificates if endpoint.tls else ():
            if use.certificate:
                files[use.certificate] = None
    for file in files:
        when = tree.modified(file)
        if when is not None:
            yield file, when
