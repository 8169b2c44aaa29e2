"""Endpoints and answers as text: a readable account of what a server will do, and which lines decided it."""

from __future__ import annotations

from rupex.model import Endpoint, Provenance, Scope
from rupex.model.run import AnswerDocument, EffectiveDocument
from rupex.reports.page import Page


def render_answer(document: AnswerDocument, *, width: int = 100, colour: bool = False, verbose: bool = False) -> str:
    """What one request gets, then the lines that decided it in the order in which the server asks them."""
    page = Page(width)
    response = document.response
    page.line((document.url, "strong"))
    page.entry("meets", f"{document.endpoint}, {document.scope or 'no scope'} ({document.transport})", indent=2)
    if document.unknown is not None:
        page.entry("unknown", document.unknown, indent=2, style="doubt")
    if response.closed:
        page.entry("answer", "none: the connection is closed", indent=2)
    else:
        page.entry("status", "decided by the content" if response.status is None else str(response.status), indent=2)
        for name, value in response.headers:
            page.entry("", f"{name}: {value}", indent=2)
    page.blank()
    page.line(("Why", "strong"))
    for number, step in enumerate(document.why, 1):
        page.entry(f"{number:>2}", step.message, indent=1, column=6)
        page.entry("", _place(step.provenance), indent=1, column=6, style="quiet")
        for lost in step.provenance.overruled:
            page.entry("", f"overrules {_place(lost)}", indent=1, column=6, style="quiet")
    return page.render(colour=colour)


def render_endpoints(
    document: EffectiveDocument, *, width: int = 100, colour: bool = False, verbose: bool = False
) -> str:
    """Every endpoint with its scopes."""
    page = Page(width)
    for endpoint in document.endpoints:
        _render_endpoint(page, endpoint, verbose=verbose)
        page.blank()
    for problem in document.problems:
        where = problem.file or "host"
        page.entry(
            "problem",
            f"{where}:{problem.line}: {problem.message}" if problem.line else f"{where}: {problem.message}",
            indent=0,
            style="doubt",
        )
    if not document.endpoints:
        page.line("no endpoint found")
    return page.render(colour=colour)


def _render_endpoint(page: Page, endpoint: Endpoint, *, verbose: bool) -> None:
    where = endpoint.address if endpoint.port is None else f"{endpoint.address}:{endpoint.port}"
    names = ", ".join(endpoint.names) or "no name"
    words = f"  {endpoint.transport}, {names}" + ("; answers for unknown names too" if endpoint.default else "")
    page.line((where, "strong"), words)
    page.entry("by", _place(endpoint.provenance), indent=2, style="quiet")
    if endpoint.tls is not None:
        tls = endpoint.tls
        protocols = tls.protocols
        shown = ", ".join(protocols.value or ()) if protocols.is_known else protocols.why_unknown
        page.entry("versions", f"{shown or 'none'}  ({_place(protocols.provenance)})", indent=2)
        suites = tls.suites.value or ()
        count = f"{len(suites)} suites, {tls.preference.value} decides  ({_place(tls.suites.provenance)})"
        page.entry("suites", count, indent=2)
        if verbose:
            page.entry("", " ".join(suites), indent=2, style="quiet")
        for use in tls.certificates:
            page.entry("proves", f"{use.certificate} with {use.key}  ({_place(use.provenance)})", indent=2)
    for scope in endpoint.scopes:
        _render_scope(page, scope)


def _render_scope(page: Page, scope: Scope) -> None:
    if scope.undecided is not None:
        does = f"unknown: {scope.undecided}"
    elif scope.redirect is not None:
        does = f"redirects, {scope.redirect.status}, to {scope.redirect.location}"
    elif scope.refusal is not None:
        does = f"refuses, {scope.refusal.status}" if scope.refusal.status else "closes the connection"
    elif scope.upstream is not None:
        does = f"passes on to {scope.upstream.url}"
    else:
        does = "answers with content" + (", folders are listed" if scope.listing and scope.listing.enabled else "")
    page.entry(scope.id, f"{does}  ({_place(scope.provenance)})", indent=2, column=max(14, min(34, len(scope.id) + 4)))
    for header in scope.headers:
        on = "" if header.on == "all" else "  (not on errors)"
        page.entry("", f"{header.name}: {header.value}{on}", indent=2, column=16, style="quiet")
    for lost in scope.dropped:
        page.entry(
            "", f"drops {lost.name} of {_place(lost.provenance)}: {lost.because}", indent=2, column=16, style="doubt"
        )


def _place(provenance: Provenance | None) -> str:
    if provenance is None:
        return "unknown place"
    if provenance.file is None:
        return provenance.note or provenance.how
    how = "" if provenance.how == "explicit" else f", {provenance.how}"
    return f"{provenance}{how}"
