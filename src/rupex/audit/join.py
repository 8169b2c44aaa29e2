"""One host seen from both sides: what its tree says, and what its listeners answered."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime

from msgspec import structs

from rupex.audit.collect import Evidence
from rupex.host import HostTree
from rupex.host.facts.processes import find_running
from rupex.model import Endpoint, Host, Predicted, Provenance, bounds
from rupex.servers.contract import Request


def join(evidence: Evidence, tree: HostTree, observations: Iterable[Host]) -> Host:
    """The host of ``evidence`` with the endpoints of its ``observations``. A certificate that was sent and lies on disk too is
    judged once."""
    host = evidence.host
    wires = tuple(observations)
    endpoints = [endpoint for wire in wires for endpoint in wire.endpoints]
    on_disk = {file.leaf.sha256 for file in host.certificates if file.leaf is not None}
    only_sent = [
        structs.replace(
            wire, certificates=tuple(c for c in wire.certificates if c.leaf is None or c.leaf.sha256 not in on_disk)
        )
        for wire in wires
    ]
    return structs.replace(
        merge_observations((host, *only_sent)),
        partial=host.partial,
        lifetimes=host.lifetimes,
        predicted={e.id: found for e in endpoints if (found := _predicted(e, evidence)) is not None},
        running=find_running(tree),
        modified=dict(_modified(host, tree)),
    )


def merge_observations(observations: Sequence[Host]) -> Host:
    """Several looks at one host as one; what cannot be added up is that of the first."""
    first, *others = observations
    return structs.replace(
        first,
        sources=tuple(dict.fromkeys(source for one in observations for source in one.sources)),
        endpoints=tuple(endpoint for one in observations for endpoint in one.endpoints),
        certificates=tuple(file for one in observations for file in one.certificates),
        samples=tuple(dict.fromkeys(sample for one in observations for sample in one.samples)),
        problems=tuple(problem for one in observations for problem in one.problems)[: bounds.PROBLEMS],
        chains={path: chain for one in observations for path, chain in one.chains.items()},
        paths={path: way for one in observations for path, way in one.paths.items()},
        lifetimes=tuple(life for one in observations for life in one.lifetimes),
        partial=first.partial or next((one.partial for one in others if one.partial), ""),
    )


def _predicted(observed: Endpoint, evidence: Evidence) -> Predicted | None:
    """What the configuration says of the front page that was asked for; None where nothing listens there."""
    if observed.port is None or not observed.names:
        return None
    scheme = "http" if observed.transport == "plain" else "https"
    request = Request(scheme=scheme, name=observed.names[0], port=observed.port, path="/")
    found = evidence.answer(request)
    if found is None:
        return None
    configuration, answer = found
    place = answer.why[-1].provenance if answer.why else Provenance("explicit", configuration.main_path)
    unknown = "the connection is closed without an answer" if answer.closed else answer.unknown
    return Predicted(answer.endpoint, answer.scope, place, answer.status, answer.location, answer.headers, unknown)


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
