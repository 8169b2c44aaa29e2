"""Whether headers reach where they should: deeper scopes, error answers, browsers; and whether they agree."""

from __future__ import annotations

from typing import Final

from rupex.controls._answers import answer_status
from rupex.controls.catalogue import control
from rupex.model import EXEMPT, PASS, Endpoint, Fail, Header, Judgement, Scope, Unknown
from rupex.model.change import Change

_SINGLE: Final = frozenset(
    {
        "strict-transport-security",
        "x-frame-options",
        "x-content-type-options",
        "cross-origin-opener-policy",
        "cross-origin-embedder-policy",
        "cross-origin-resource-policy",
        "access-control-allow-origin",
        "access-control-allow-credentials",
        "location",
        "content-type",
    }
)
_NOT_FOR_ASSETS: Final = frozenset({"content-security-policy", "x-frame-options", "permissions-policy"})
_OFTEN_ANOTHER_KIND: Final = frozenset({"set-cookie", "cache-control", "expires", "server", "vary", "link"})


def _site(endpoint: Endpoint, names: frozenset[str]) -> dict[str, Header]:
    """The headers of ``names`` that the site itself sends with its content, by lower-case name."""
    for scope in endpoint.scopes:
        if scope.is_root and scope.serves_content:
            found = {h.name.lower(): h for h in scope.headers if h.is_on(200)}
            return {name: header for name, header in found.items() if name in names}
    return {}


@control(
    "header.everywhere",
    title="The site's headers reach deeper parts and errors",
    place="scope",
    severity="medium",
    why="An error page or a forgotten folder without them is as good a way in as the front page.",
    references=("operational: a server adds headers by block and by status, and drops them without a word",),
    cwe=("CWE-693",),
    only="tls",
    change=Change("repeat-header"),
    remedy="Set the headers for every status, and again wherever a deeper block sets any.",
)
def everywhere(endpoint: Endpoint, scope: Scope, *, names: frozenset[str]) -> Judgement:
    if scope.refusal is not None and scope.refusal.status is None:
        return EXEMPT
    if scope.undecided is not None:
        return Unknown(scope.undecided, scope.provenance)
    site_headers = _site(endpoint, names)
    if scope.content == "assets":
        site_headers = {name: header for name, header in site_headers.items() if name not in _NOT_FOR_ASSETS}
    if not site_headers:
        return PASS
    status = answer_status(scope)
    sent = {header.name.lower() for header in scope.headers if header.is_on(status)}
    lost = [header for name, header in site_headers.items() if name not in sent]
    if not scope.serves_content:  # a redirect or refusal needs HSTS only
        lost = [header for header in lost if header.name.lower() == "strict-transport-security"]
    if lost:
        return _judgement_of_lost(scope, lost)
    on_errors = {header.name.lower() for header in scope.on_errors}
    silent = [header for name, header in site_headers.items() if name in sent and name not in on_errors]
    if scope.serves_content and silent:
        return Fail(f"{_names(silent)} {_are(silent)} not sent with errors", silent[0].provenance)
    return PASS


def _judgement_of_lost(scope: Scope, lost: list[Header]) -> Judgement:
    """What is said of headers of the site that a scope does not set."""
    if all(scope.may_come_from_upstream(header.name) for header in lost):
        return Unknown(f"{_names(lost)} {_are(lost)} not set here, and the upstream may send it", scope.provenance)
    because = next((d.because for d in scope.dropped if d.name.lower() == lost[0].name.lower()), "")
    verb = "do" if lost[1:] else "does"
    return Fail(f"{_names(lost)} {verb} not reach here" + (f": {because}" if because else ""), scope.provenance)


def _names(headers: list[Header]) -> str:
    return ", ".join(header.name for header in headers)


def _are(headers: list[Header]) -> str:
    return "are" if headers[1:] else "is"


@control(
    "header.effective",
    title="Every declared header has an effect",
    place="scope",
    severity="medium",
    why="Whoever wrote the line believes that the site is protected by it.",
    references=("operational: a line without effect misleads everybody who reads it",),
    cwe=("CWE-1164",),
    only="tls",
    evidence=("config",),
    remedy="Move the header to where the server reads it.",
)
def effective(endpoint: Endpoint, scope: Scope) -> Judgement:
    for lost in scope.dropped:
        if lost.name.lower() in _OFTEN_ANOTHER_KIND:
            continue
        place = (lost.provenance.file, lost.provenance.line, lost.provenance.column)
        reaches = any(
            (header.provenance.file, header.provenance.line, header.provenance.column) == place
            for other in endpoint.scopes
            for header in other.headers
        )
        if not reaches:
            return Fail(f"{lost.name} is declared, and no answer here carries it: {lost.because}", lost.provenance)
    return PASS


@control(
    "header.conflict",
    title="No header twice with different values",
    place="scope",
    severity="medium",
    why="Browsers take one of two values, or none, and not all the same one.",
    references=("RFC 9110 5.3",),
    cwe=("CWE-436",),
    only="tls",
    change=Change("remove-header"),
    remedy="Send the header once; take the other line out.",
)
def conflict(endpoint: Endpoint, scope: Scope) -> Judgement:
    seen: dict[str, Header] = {}
    status = answer_status(scope)
    for header in scope.headers:
        name = header.name.lower()
        if name not in _SINGLE or not header.is_on(status):
            continue
        other = seen.setdefault(name, header)
        if other is not header and other.value.strip().lower() != header.value.strip().lower():
            words = f"{header.name} is sent as {other.value!r} ({other.provenance}) and as {header.value!r}"
            return Fail(words, header.provenance)
    return PASS


@control(
    "header.cors",
    title="Answers with credentials go to named origins",
    place="scope",
    severity="high",
    why="An origin that is repeated unchecked, with credentials, lets every site read what the visitor may read.",
    references=("Fetch standard 3.2",),
    cwe=("CWE-942",),
    remedy="Send Access-Control-Allow-Origin for origins from a fixed list only.",
)
def cors(endpoint: Endpoint, scope: Scope) -> Judgement:
    origins = scope.sent("Access-Control-Allow-Origin")
    credentials = any(h.value.strip().lower() == "true" for h in scope.sent("Access-Control-Allow-Credentials"))
    if not origins or not credentials:
        return PASS
    header = origins[0]
    if header.echoes == "origin":
        return Fail("whatever origin asks is allowed, with credentials", header.provenance, evidence=header.value)
    if isinstance(header.unknown, str):
        return Unknown(f"{header.name}: {header.unknown}", header.provenance)
    if header.value.strip().lower() == "null":
        return Fail("the origin null, which any page can take, is allowed", header.provenance, evidence=header.value)
    if header.value.strip() == "*":
        words = "every origin with credentials is what browsers refuse, so it does not work as meant"
        return Fail(words, header.provenance, "wildcard", header.value)
    return PASS
