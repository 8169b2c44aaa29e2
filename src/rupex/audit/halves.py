"""A host judged whole, or in two halves at the same time, with the same result.

What is read of the configuration is shared with a child, which resolves and judges one half of the endpoints and brings back what
it found, and of its endpoints as much as the controls that look at the whole host need.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from datetime import datetime
from typing import Any, Final, Literal

import msgspec
from msgspec import Struct, structs

from rupex.audit.collect import LoadedHost, host_of
from rupex.audit.document import certificates_of, host_document
from rupex.audit.findings import Findings, findings_of
from rupex.audit.judge import judge
from rupex.audit.transfer import PackedFindings, pack_findings, unpack_findings
from rupex.baseline import Baseline, Waivers
from rupex.documents.compact import pack_endpoints
from rupex.documents.encoding import encode_msgpack
from rupex.documents.redaction import redacted_endpoint
from rupex.documents.run import CertificateSeen, HostDocument, PackedEndpoints, Site, SiteTemplate
from rupex.model import (
    CertificateLifetime,
    Endpoint,
    Group,
    Host,
    Instance,
    Problem,
    Sample,
    Scope,
    Setting,
    Tls,
    Words,
    unknown,
)
from rupex.parallel import both, has_two_cores
from rupex.servers.contract import Share

Written = Literal["full", "packed", "brief"]
"""What a document has of endpoints: each of them; each as a document is written, and those of a template once; or none."""

WORTH_SHARING: Final = 300
"""Configuration files from which on a second core saves more than it costs to bring its results back."""

PARENT_SHARE: Final = 0.52
"""The part that is worked on by the parent: what it shares is copied as soon as the child looks at it."""


class Assessment:
    """How a host is to be judged.

    ``keep_all``: list passed and exempt places too.
    ``waivers``: failures that are accepted.
    ``written``: what the document has of endpoints.
    """

    def __init__(
        self, baseline: Baseline, now: datetime, *, keep_all: bool, waivers: Waivers | None, written: Written
    ) -> None:
        self.baseline, self.now, self.keep_all, self.waivers, self.written = baseline, now, keep_all, waivers, written
        self._has_foreign = any(rule.control.is_foreign for rule in baseline.rules.values() if rule.off is None)

    @property
    def is_complete(self) -> bool:
        """Whether every endpoint has to be written out before it is judged: a control of a third party is shown all of it, and
        waivers and lists of what passed speak of each place."""
        return self.keep_all or self.waivers is not None or self._has_foreign

    def may_be_halved(self, loaded: LoadedHost) -> bool:
        """Whether a second core may and should be used: controls of a third party may look at more than a half brings back."""
        files = sum(len(one.files) for one in loaded.configurations)
        return has_two_cores() and files >= WORTH_SHARING and not self._has_foreign

    def findings(self, host: Host, *, whole_host: bool | None) -> dict[str, Findings]:
        judged = judge(
            host, self.baseline, self.now, keep_all=self.keep_all, whole_host=whole_host, waivers=self.waivers
        )
        return findings_of(judged, self.now)


class Half(Struct):
    """What a share of a host comes to.

    ``findings``: by control, of those that do not have to know the whole host.
    ``endpoints``: those that are written out, as a document has them; outlines where they are packed, or nobody needs them.
    ``packed``: those that are written out, as they are written.
    ``templates``, ``sites``: the others.
    ``samples``, ``problems``, ``lifetimes``, ``certificates``: of the share.
    ``spent``: steps of work that it took.
    """

    findings: dict[str, Findings]
    endpoints: tuple[Endpoint, ...]
    packed: tuple[PackedEndpoints, ...]
    templates: tuple[SiteTemplate, ...]
    sites: tuple[Site, ...]
    samples: tuple[Sample, ...]
    problems: tuple[Problem, ...]
    lifetimes: tuple[CertificateLifetime, ...]
    certificates: tuple[CertificateSeen, ...]
    spent: int

    @property
    def size(self) -> int:
        """How many endpoints it has."""
        return len(self.endpoints) + len(self.sites)


def judge_whole(loaded: LoadedHost, task: Assessment) -> HostDocument:
    """The document of a host, judged in one piece."""
    host = host_of(loaded, complete=task.is_complete)
    document = host_document(host, task.baseline, task.findings(host, whole_host=None))
    packed = task.written == "packed"
    return structs.replace(
        document,
        endpoints=tuple(map(redacted_endpoint, host.endpoints)) if task.written == "full" else (),
        packed=(pack_endpoints(map(redacted_endpoint, host.endpoints)),) if packed else (),
        templates=tuple(_templates(host, _outline if task.written == "brief" else redacted_endpoint)),
        sites=tuple(_sites(host)),
        certificates=() if task.written == "brief" else certificates_of(host),
    )


def judge_in_halves(loaded: LoadedHost, task: Assessment) -> HostDocument | None:
    """The document of a host, judged in two halves; None where these took more work than a host may make: in one piece it might
    have stopped elsewhere."""
    budget_left = loaded.budget.left
    (host, first), received = both(lambda: _half(loaded, task, 0), lambda: _sent(_half(loaded, task, 1)[1]))
    second, packed = msgspec.msgpack.decode(received, type=tuple[Half, PackedFindings])
    del received
    second.findings = unpack_findings(packed)
    if first.spent + second.spent > budget_left:
        return None
    behind = first.size
    sites = first.sites + tuple(structs.replace(site, at=site.at + behind) for site in second.sites)
    endpoints, templates = first.endpoints + second.endpoints, first.templates + second.templates
    joined = structs.replace(
        host,
        endpoints=endpoints,
        groups=tuple(_groups(templates, sites)),
        samples=first.samples + second.samples,
        problems=tuple(dict.fromkeys(first.problems + second.problems)),
        lifetimes=first.lifetimes + second.lifetimes,
    )
    findings = first.findings
    for control, more in second.findings.items():
        findings[control].add(more)
    document = host_document(joined, task.baseline, findings | task.findings(joined, whole_host=True))
    return structs.replace(
        document,
        endpoints=endpoints if task.written == "full" else (),
        packed=first.packed + second.packed,
        templates=templates,
        sites=sites,
        certificates=first.certificates + second.certificates,
    )


_SHARES: Final = (Share(0.0, PARENT_SHARE), Share(PARENT_SHARE, 1.0))


def _half(loaded: LoadedHost, task: Assessment, number: int) -> tuple[Host, Half]:
    """One of two halves of a host, and what it comes to."""
    before = loaded.budget.spent
    host = host_of(loaded, _SHARES[number], complete=task.is_complete)
    findings = task.findings(host, whole_host=False)
    is_brief = task.written == "brief"
    packed = (pack_endpoints(map(redacted_endpoint, host.endpoints), number, 2),) if task.written == "packed" else ()
    half = Half(
        findings,
        tuple(map(redacted_endpoint if task.written == "full" else _outline, host.endpoints)),
        packed,
        tuple(_templates(host, _outline if is_brief else redacted_endpoint)),
        tuple(_sites(host)),
        host.samples,
        host.problems,
        host.lifetimes,
        () if is_brief else certificates_of(host),
        loaded.budget.spent - before,
    )
    # what is not in the half is needed no more
    return structs.replace(host, endpoints=(), groups=()), half


def _sent(half: Half) -> bytes:
    """A half for another process."""
    return encode_msgpack((structs.replace(half, findings={}), pack_findings(half.findings)))


def _templates(host: Host, write: Callable[[Endpoint], Endpoint]) -> Iterator[SiteTemplate]:
    for group in host.groups:
        yield SiteTemplate(write(group.model), tuple(group.instances[0].words.own))


def _sites(host: Host) -> Iterator[Site]:
    for group in host.groups:
        for one in group.instances:
            yield Site(one.id, group.model.id, tuple(one.words.own.values()), one.at)


def _groups(templates: Iterable[SiteTemplate], sites: Iterable[Site]) -> Iterator[Group]:
    instances: dict[str, list[Instance]] = {template.endpoint.id: [] for template in templates}
    words = {template.endpoint.id: template.words for template in templates}
    for site in sites:
        own = Words(dict(zip(words[site.template], site.words, strict=True)))
        instances[site.template].append(Instance(site.id, own, site.at))
    for template in templates:
        yield Group(template.endpoint, instances[template.endpoint.id])


# What a control that has to know the whole host may look at, beside names, addresses and certificates

_LEFT_OUT: Final[Setting[Any]] = unknown("left out of an outline")


def _outline(endpoint: Endpoint) -> Endpoint:
    """``endpoint`` with as much of its scopes and TLS settings as controls need that have to know the whole host."""
    tls = endpoint.tls
    return structs.replace(
        endpoint,
        tls=None if tls is None else _outline_of_tls(tls),
        scopes=tuple(map(_outline_of_scope, endpoint.scopes)),
    )


def _outline_of_tls(tls: Tls) -> Tls:
    return Tls(
        protocols=_LEFT_OUT, suites=_LEFT_OUT, groups=_LEFT_OUT, preference=_LEFT_OUT, tickets=_LEFT_OUT,
        compression=_LEFT_OUT, alpn=_LEFT_OUT, stapling=tls.stapling, certificates=tls.certificates,
    )  # fmt: skip


def _outline_of_scope(scope: Scope) -> Scope:
    redirect = scope.redirect
    return Scope(
        id=scope.id, match=scope.match, path=scope.path, order=scope.order, provenance=scope.provenance,
        redirect=None if redirect is None else structs.replace(redirect, samples=(), stranger=None),
        refusal=scope.refusal, upstream=scope.upstream,
    )  # fmt: skip
