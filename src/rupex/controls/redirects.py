"""Redirects from plain HTTP to HTTPS, and what goes into them."""

from __future__ import annotations

from typing import Final

from rupex.controls.catalogue import control
from rupex.http.urls import Parts, split_url
from rupex.model import EXEMPT, PASS, Endpoint, Fail, Judgement, Pass, Redirect, Scope, Unknown
from rupex.model.change import Change

ACME_CHALLENGE: Final = "/.well-known/acme-challenge"  # RFC 8555, 8.3: fetched over plain HTTP


def _is_challenge(scope: Scope) -> bool:
    return scope.path.rstrip("/").startswith(ACME_CHALLENGE)


def _redirected(scope: Scope, name: str | None) -> tuple[Redirect, Parts, Parts] | Judgement:
    """The redirect of a plain request for ``name`` with the URLs asked and told; or the judgement that ends the matter,
    for a control that asks how a redirect is made where there is one."""
    if _is_challenge(scope):
        return EXEMPT
    if scope.undecided is not None:
        return Unknown(scope.undecided, scope.provenance)
    if scope.redirect is None:
        return PASS
    sample = scope.redirect.told(name)
    if sample is None or sample.location is None:
        return Unknown("where the redirect leads is known at run time only", scope.redirect.provenance)
    return scope.redirect, split_url(sample.url), split_url(sample.location)


@control(
    "redirect.present",
    title="Plain HTTP only redirects to HTTPS",
    place="name",
    severity="high",
    why="Whatever is answered in clear can be read and changed on the way, and so can the links in it.",
    references=("RFC 9325 3.2",),
    cwe=("CWE-319",),
    only="plain",
    local_exempt=True,
    change=Change("redirect"),
    remedy="Answer every plain request with a permanent redirect to the same URL on https.",
)
def redirect_present(endpoint: Endpoint, scope: Scope, name: str | None) -> Judgement:
    if _is_challenge(scope):
        return EXEMPT
    if scope.undecided is not None:
        return Unknown(scope.undecided, scope.provenance)
    if scope.refusal is not None:
        return Pass(scope.refusal.provenance, "refused")
    if scope.redirect is None:
        return Fail("content is answered over plain HTTP, without a redirect to https", scope.provenance)
    sample = scope.redirect.told(name)
    if sample is None or sample.location is None:
        return Unknown("where the redirect leads is known at run time only", scope.redirect.provenance)
    if split_url(sample.location).scheme == "https":
        return Pass(scope.redirect.provenance)
    return Fail(f"redirects to {sample.location}, which is not https", scope.redirect.provenance)


@control(
    "redirect.permanent",
    title="The redirect to HTTPS is permanent",
    place="name",
    severity="low",
    why="A temporary redirect is asked again each time, so each visit starts in clear.",
    references=("RFC 9110 15.4",),
    only="plain",
    local_exempt=True,
    refines="redirect.present",
    change=Change("redirect-status", {"status": "301"}),
    remedy="Redirect with status 301 or 308.",
)
def redirect_permanent(endpoint: Endpoint, scope: Scope, name: str | None) -> Judgement:
    if _is_challenge(scope):
        return EXEMPT
    if scope.undecided is not None:
        return Unknown(scope.undecided, scope.provenance)
    if scope.redirect is None or scope.redirect.status in (301, 308):
        return PASS
    return Fail(f"redirects with status {scope.redirect.status}, which is temporary", scope.redirect.provenance)


@control(
    "redirect.same-host",
    title="The first redirect keeps the host",
    place="name",
    severity="medium",
    why="A host that sends visitors to another one at once never gets to tell them its HSTS policy.",
    references=("RFC 6797 7.2", "RFC 6797 8.1"),
    cwe=("CWE-319",),
    only="plain",
    local_exempt=True,
    refines="redirect.present",
    change=Change("redirect-host"),
    remedy="Redirect to https on the same host first, and only from there to another.",
)
def redirect_same_host(endpoint: Endpoint, scope: Scope, name: str | None) -> Judgement:
    found = _redirected(scope, name)
    if not isinstance(found, tuple):
        return found
    redirect, request, target = found
    if request.host == target.host:
        return Pass(redirect.provenance)
    return Fail(f"{request.host} is sent to {target.host} at once", redirect.provenance)


@control(
    "redirect.keeps-request",
    title="Path and query survive the redirect",
    place="name",
    severity="low",
    why="A link that lands on the front page is reported as broken, and people go back to the old scheme.",
    references=("RFC 9110 15.4",),
    only="plain",
    local_exempt=True,
    refines="redirect.present",
    change=Change("redirect-host"),
    remedy="Keep path and query in the redirect's target.",
)
def redirect_keeps_request(endpoint: Endpoint, scope: Scope, name: str | None) -> Judgement:
    found = _redirected(scope, name)
    if not isinstance(found, tuple):
        return found
    redirect, request, target = found
    if target.path.endswith(request.path) and (not request.query or request.query in target.query):
        return Pass(redirect.provenance)
    lost = "the path" if not target.path.endswith(request.path) else "the query"
    sample = redirect.told(name)
    assert sample is not None
    return Fail(f"{sample.url} becomes {sample.location}: {lost} is lost", redirect.provenance)


@control(
    "redirect.hops",
    title="Few hops, and none back to plain HTTP",
    place="endpoint",
    severity="low",
    why="Each hop is a round trip for the visitor; one back to plain HTTP undoes what the one before did.",
    references=("RFC 9325 3.2",),
    cwe=("CWE-319",),
    evidence=("wire",),
    change=Change("redirect-host"),
    remedy="Redirect to https on the same host, and from there straight to where the content is.",
)
def redirect_hops(endpoint: Endpoint, *, most: int) -> Judgement:
    exchanges = endpoint.wire.exchanges if endpoint.wire is not None else ()
    if endpoint.wire is None:
        return EXEMPT
    if not exchanges:
        return Unknown("the front page was not answered", endpoint.provenance)
    hops = exchanges[0]
    way = " to ".join(hop.url for hop in hops[:4])
    for hop in hops:
        to = split_url(hop.location or "").scheme
        if hop.location is not None and to not in ("http", "https"):
            return Fail(
                f"{hop.url} is redirected to {hop.location}, which no browser follows", endpoint.provenance, "back"
            )
        if split_url(hop.url).scheme == "https" and to == "http":
            words = f"{hop.url} is redirected back to plain HTTP, to {hop.location}"
            return Fail(words, endpoint.provenance, "back")
    redirects = [hop for hop in hops if hop.location is not None]
    if hops[-1].location in {hop.url for hop in hops}:
        return Fail(f"the redirects go in a circle: {way}", endpoint.provenance)
    if len(redirects) > most:
        return Fail(f"{len(redirects)} redirects before the answer: {way}", endpoint.provenance)
    if hops[-1].location is not None:
        why = f"leads to {hops[-1].location}, which was not asked for, or did not answer"
        return Unknown(why, endpoint.provenance)
    return Pass(endpoint.provenance, f"{len(redirects)} redirects")


@control(
    "redirect.target",
    title="Redirects do not go where the client says",
    place="endpoint",
    severity="low",
    why="A redirect to whatever Host header came along can be cached and served to others.",
    references=("RFC 9110 7.4",),
    cwe=("CWE-601",),
    local_exempt=True,
    change=Change("redirect-host"),
    remedy="Redirect to a fixed name where requests for unknown names are answered.",
)
def redirect_target(endpoint: Endpoint) -> Judgement:
    if not endpoint.default:
        return EXEMPT
    for scope in endpoint.scopes:
        stranger = scope.redirect.stranger if scope.redirect is not None and scope.names is None else None
        if stranger is None or stranger.location is None or scope.redirect is None:
            continue
        host_asked_for = split_url(stranger.url).host
        if split_url(stranger.location).host == host_asked_for:
            return Fail("a request for any name is redirected to that name", scope.redirect.provenance)
    return PASS


@control(
    "redirect.injection",
    title="No decoded request part gets into a header",
    place="scope",
    severity="high",
    why="A decoded line end in a header lets whoever makes the link write headers and pages of their own.",
    references=("operational: RFC 9112 11.1 describes response splitting",),
    cwe=("CWE-113",),
    local_exempt=True,
    change=Change("redirect-host"),
    remedy="Write the request's path into headers only as it was sent, escaped.",
)
def redirect_injection(endpoint: Endpoint, scope: Scope) -> Judgement:
    if scope.redirect is not None and scope.redirect.reflects is not None:
        return Fail(
            f"{scope.redirect.reflects} is decoded, and gets into Location unescaped",
            scope.redirect.provenance,
            evidence=scope.redirect.location,
        )
    for header in scope.headers:
        if isinstance(header.reflects, str):
            return Fail(f"{header.reflects} is decoded, and gets into {header.name} unescaped", header.provenance)
    if endpoint.sources == ("wire",):
        tried = None if scope.redirect is None else scope.redirect.tried
        if tried is None:
            return Unknown("no redirect was asked for with line ends in its path", scope.provenance)
        if not tried.is_known:
            return Unknown(tried.why_unknown, tried.provenance)
    return PASS
