"""What a host says on disk against what it answers on the wire; and, where they differ, the likeliest cause."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import Final

from rupex.controls.catalogue import control
from rupex.families import facts_of
from rupex.http.urls import split_url
from rupex.model import EXEMPT, Endpoint, Fail, Host, Judgement, Pass, Predicted, Scope, Unknown
from rupex.model.change import Change

_PRODUCT = re.compile(r"[A-Za-z][\w.-]*")
_SHOWN: Final = 4


def _configured(host: Host, observed: Endpoint) -> Endpoint | Unknown | None:
    """The endpoint of the configuration that should answer where ``observed`` did; None where only one kind of evidence was
    asked for, or ``observed`` is itself of the configuration."""
    if observed.wire is None or not any(e.sources == ("config",) for e in host.endpoints):
        return None
    predicted = host.predicted.get(observed.id)
    found = None if predicted is None else next((e for e in host.endpoints if e.id == predicted.endpoint), None)
    if found is None:
        where = observed.names[0] if observed.names else observed.address
        return Unknown(f"nothing in the configuration listens on port {observed.port} for {where}", observed.provenance)
    return found


def _causes(host: Host, observed: Endpoint, configured: Endpoint, *, may_be_cached: bool) -> Iterator[str]:
    """What the evidence shows that may make the wire differ from the disk, the likeliest first."""
    assert observed.wire is not None
    if may_be_cached and observed.wire.cached:
        yield f"a cache answered ({', '.join(observed.wire.cached)})"
    newest = max((run.started for run in host.running if run.family == configured.family), default=None)
    if newest is not None:
        files = [
            configured.provenance.file,
            *(use.certificate for use in (configured.tls.certificates if configured.tls else ())),
        ]
        newer = [file for file in files if file and file in host.modified and host.modified[file] > newest]
        if newer:
            written = host.modified[newer[0]]
            yield (
                f"not reloaded: {newer[0]} was written on {written:%Y-%m-%d %H:%M}, and no process of {configured.family} is"
                f" younger than {newest:%Y-%m-%d %H:%M}"
            )
    server_header = next(
        (h.value for scope in observed.scopes for h in scope.headers if h.name.lower() == "server"), ""
    )
    named = _PRODUCT.match(server_header)
    expected = facts_of(configured.family).server_header
    is_said = any(name.lower() == "server" for name, _ in (host.predicted[observed.id].headers))
    if named is not None and expected and is_said and not named[0].lower().startswith(expected):
        yield f"another server or an edge in front answered (Server: {server_header[:60]})"
    yield from _others(host, observed, configured)


def _others(host: Host, observed: Endpoint, configured: Endpoint) -> Iterator[str]:
    """Another endpoint of the configuration whose certificate was seen."""
    sent = _leaves(host, observed)
    if not sent or sent <= _leaves(host, configured):
        return
    for other in host.endpoints:
        if other.sources == ("config",) and sent <= _leaves(host, other):
            yield f"{other.id} answered: another endpoint of this configuration has that certificate"
            return


def _leaves(host: Host, endpoint: Endpoint) -> frozenset[str]:
    uses = () if endpoint.tls is None else endpoint.tls.certificates
    return frozenset(leaf.sha256 for use in uses if (leaf := host.leaf_at(use.certificate)) is not None)


def _fail(words: str, host: Host, observed: Endpoint, configured: Endpoint, *, may_be_cached: bool = False) -> Fail:
    causes = list(_causes(host, observed, configured, may_be_cached=may_be_cached))
    why = (
        "; ".join(causes) or "why does not show here: the server was perhaps not reloaded, or something stands in front"
    )
    return Fail(f"{words}; {why}", configured.provenance, evidence=f"seen at {observed.provenance.note}")


def _listed(values: Iterable[str]) -> str:
    found = list(values)
    more = f" and {len(found) - _SHOWN} more" if len(found) > _SHOWN else ""
    return ", ".join(found[:_SHOWN]) + more


def _difference(expected: tuple[str, ...], observed: tuple[str, ...]) -> str:
    """What one list has and the other has not, for a person; empty where they have the same."""
    surplus = [value for value in observed if value not in expected]
    lacking = [value for value in expected if value not in observed]
    parts = [f"offers {_listed(surplus)}, which the configuration does not"] if surplus else []
    parts += [f"does not offer {_listed(lacking)}, which the configuration does"] if lacking else []
    return ", and ".join(parts)


@control(
    "drift.tls",
    title="The listener offers what the configuration says",
    place="endpoint",
    severity="high",
    why="A repaired file that the server has not read repairs nothing.",
    references=("operational: prove every change from outside",),
    only="tls",
    refusing=True,
    both_sides=True,
    change=Change("reload"),
    remedy="Test the configuration, reload the server, and look again past every cache.",
)
def drift_tls(endpoint: Endpoint, host: Host) -> Judgement:
    configured = _configured(host, endpoint)
    if configured is None or isinstance(configured, Unknown):
        return configured or EXEMPT
    if endpoint.refuses is not None or configured.refuses is not None:
        if endpoint.refuses is not None and configured.refuses is not None:
            return Pass(configured.provenance)
        words = (
            "refuses every handshake" if endpoint.refuses is not None else "finishes handshakes that it should refuse"
        )
        return _fail(f"the listener {words}", host, endpoint, configured)
    if endpoint.tls is None or configured.tls is None:
        return _fail("TLS was seen, and the configuration says plain HTTP", host, endpoint, configured)
    for expected, observed in (
        (configured.tls.protocols, endpoint.tls.protocols),
        (configured.tls.suites, endpoint.tls.suites),
    ):
        if expected.value is None or observed.value is None:
            return Unknown(
                expected.why_unknown if expected.value is None else observed.why_unknown, expected.provenance
            )
        difference = _difference(tuple(expected.value), tuple(observed.value))
        if difference:
            return _fail(f"the listener {difference}", host, endpoint, configured)
    return Pass(configured.provenance)


@control(
    "drift.certificate",
    title="The listener sends the certificate that lies on disk",
    place="endpoint",
    severity="high",
    why="A renewed certificate that the server has not read expires all the same.",
    references=("operational: renewal is done when the new certificate is served",),
    only="tls",
    both_sides=True,
    change=Change("reload"),
    remedy="Test the configuration, reload the server, and look again past every cache.",
)
def drift_certificate(endpoint: Endpoint, host: Host) -> Judgement:
    configured = _configured(host, endpoint)
    if configured is None or isinstance(configured, Unknown):
        return configured or EXEMPT
    observed, expected = _leaves(host, endpoint), _leaves(host, configured)
    if not observed:
        return Unknown("no certificate was seen", endpoint.provenance)
    if not expected:
        return Unknown("the configured certificate could not be read", configured.provenance)
    if observed <= expected:
        return Pass(configured.provenance)
    leaf = next(
        leaf for use in endpoint.tls.certificates if (leaf := host.leaf_at(use.certificate)) and leaf.sha256 not in expected
    ) if endpoint.tls else None  # fmt: skip
    newest = max(
        (
            found
            for use in (configured.tls.certificates if configured.tls else ())
            if (found := host.leaf_at(use.certificate))
        ),
        key=lambda found: found.not_before,
    )
    words = "another certificate than the one on disk is sent"
    if leaf is not None and leaf.not_before < newest.not_before and set(leaf.names) & set(newest.names):
        words = f"the certificate of {leaf.not_before:%Y-%m-%d} is sent, and that on disk is of {newest.not_before:%Y-%m-%d}"
    return _fail(words, host, endpoint, configured)


@control(
    "drift.redirect",
    title="The plain answer is the configured one",
    place="endpoint",
    severity="high",
    why="A redirect that only the file knows leaves visitors in clear.",
    references=("operational: prove every change from outside",),
    only="plain",
    both_sides=True,
    change=Change("reload"),
    remedy="Test the configuration, reload the server, and look again past every cache.",
)
def drift_redirect(endpoint: Endpoint, host: Host) -> Judgement:
    configured = _configured(host, endpoint)
    if configured is None or isinstance(configured, Unknown):
        return configured or EXEMPT
    predicted, scope = host.predicted[endpoint.id], _root(endpoint)
    if scope is None or scope.undecided is not None:
        return Unknown("the front page was not answered", endpoint.provenance)
    if predicted.unknown is not None:
        return Unknown(predicted.unknown, predicted.provenance)
    expected, observed = _told(predicted), _seen(scope)
    if expected == observed:
        return Pass(predicted.provenance)
    if predicted.status is None and scope.redirect is not None and (_passed_on(host, predicted) is not None):
        return Unknown("content decides the answer, and may redirect", predicted.provenance)
    return _fail(f"the front page is answered with {observed}, and the configuration says {expected}", host, endpoint, configured,
                 may_be_cached=True)  # fmt: skip


def _passed_on(host: Host, predicted: Predicted) -> Scope | None:
    """The configured scope of a prediction where an upstream or an application answers in it."""
    for endpoint in host.endpoints:
        if endpoint.id == predicted.endpoint:
            return next((s for s in endpoint.scopes if s.id == predicted.scope and s.upstream is not None), None)
    return None


def _root(endpoint: Endpoint) -> Scope | None:
    return next((scope for scope in endpoint.scopes if scope.match == "any"), None)


def _told(predicted: Predicted) -> str:
    if predicted.status is not None and predicted.location is not None:
        return f"{predicted.status} to {_origin(predicted.location)}"
    return "content" if predicted.status is None or predicted.status < 400 else f"status {predicted.status}"


def _seen(scope: Scope) -> str:
    if scope.redirect is not None:
        return f"{scope.redirect.status} to {_origin(scope.redirect.location)}"
    return "content" if scope.refusal is None else f"status {scope.refusal.status}"


def _origin(url: str) -> str:
    parts = split_url(url)
    return f"{parts.scheme}://{parts.host}{parts.path or '/'}" if parts.host else url


@control(
    "drift.headers",
    title="The security headers sent are the configured ones",
    place="scope",
    severity="medium",
    why="Headers that only the file knows protect nobody.",
    references=("operational: prove every change from outside",),
    only="tls",
    both_sides=True,
    change=Change("reload"),
    remedy="Test the configuration, reload the server, and look again past every cache.",
)
def drift_headers(endpoint: Endpoint, scope: Scope, host: Host, *, names: frozenset[str]) -> Judgement:
    configured = _configured(host, endpoint)
    if configured is None or scope.match != "any":
        return EXEMPT
    if isinstance(configured, Unknown):
        return configured
    predicted = host.predicted[endpoint.id]
    if scope.undecided is not None or predicted.unknown is not None:
        return Unknown(scope.undecided or predicted.unknown or "", scope.provenance)
    if _told(predicted).split()[0] != _seen(scope).split()[0]:
        return Unknown("the front page is answered otherwise than configured", scope.provenance)
    behind = _passed_on(host, predicted)
    expected = {name.lower(): value for name, value in predicted.headers if name.lower() in names}
    observed = {header.name.lower(): header.value for header in scope.headers if header.name.lower() in names}
    differs = [name for name in sorted(expected | observed) if expected.get(name) != observed.get(name)]
    if behind is not None:  # what the upstream adds, the configuration cannot know
        differs = [name for name in differs if name in expected or not behind.may_come_from_upstream(name)]
    if not differs:
        return Pass(predicted.provenance)
    name = differs[0]
    words = (
        f"{name} is configured, and not sent"
        if name not in observed
        else f"{name} is sent, and not configured"
        if name not in expected
        else f"{name} is sent as {observed[name][:60]!r}, and configured as {expected[name][:60]!r}"
    )
    more = f" (so do {_listed(differs[1:])} differ)" if differs[1:] else ""
    return _fail(words + more, host, endpoint, configured, may_be_cached=True)
