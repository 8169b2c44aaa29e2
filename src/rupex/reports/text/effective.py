"""Endpoints and answers as text: a readable account of what a server will do, and which lines decided it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any, Final

from msgspec import structs

from rupex.documents.inspection import AnswerDocument, EffectiveDocument, LineDocument
from rupex.model import Endpoint, Provenance, Scope, Setting, Tls
from rupex.reports.text.text_layout import Page

_SHOWN_PLACES: Final = 8


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
        open_words = "decided by the content" if document.unknown is None else "not known"
        page.entry("status", open_words if response.status is None else str(response.status), indent=2)
        for name, value in response.headers:
            page.entry("", f"{name}: {value}", indent=2)
        for header in response.uncertain:
            page.entry("uncertain", f"{header.name}: {header.value}", indent=2, style="doubt")
            page.entry("", header.why, indent=2, style="quiet")
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
    for alike in _grouped(document.endpoints):
        _render_endpoint(page, alike, verbose=verbose)
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


def render_line(document: LineDocument, *, width: int = 100, colour: bool = False, verbose: bool = False) -> str:
    """What a line governs: each setting with the endpoints and scopes where it decides it."""
    page = Page(width)
    page.line((f"{document.file}:{document.line}", "strong"))
    page.entry("", document.text, indent=2, column=2)
    page.blank()
    if not document.governs:
        words = "decides nothing that Rupex knows of, on any endpoint"
        page.entry(
            "", words if document.because is None else f"decides nothing: {document.because}", indent=2, column=2
        )
        return page.render(colour=colour)
    if document.because is not None:
        page.entry("", f"not in force: {document.because}", indent=2, column=2, style="doubt")
    by_setting: dict[str, list[str]] = {}
    for found in document.governs:
        where = found.endpoint if found.scope is None else f"{found.endpoint} {found.scope}"
        for setting in found.settings:
            by_setting.setdefault(setting, []).append(where)
    for setting, places in by_setting.items():
        count = f"{len(places)} places" if len(places) > 1 else "1 place"
        page.entry("", f"{setting}: {count}", indent=2, column=2, style="strong")
        shown = places if verbose else places[:_SHOWN_PLACES]
        for place in shown:
            page.entry("", place, indent=4, column=4)
        if len(places) > len(shown):
            page.entry("", f"and {len(places) - len(shown)} more (--verbose lists them)", indent=4, column=4)
    return page.render(colour=colour)


def _grouped(endpoints: Iterable[Endpoint]) -> list[list[Endpoint]]:
    """The endpoints, those together that differ in their address alone: of one block that listens on several."""
    groups: dict[tuple[int | None, tuple[str, ...], str], list[list[Endpoint]]] = {}
    found: list[list[Endpoint]] = []
    for endpoint in endpoints:
        known = groups.setdefault((endpoint.port, endpoint.names, endpoint.transport), [])
        bare = _without_address(endpoint)
        group = next((group for group in known if _without_address(group[0]) == bare), None)
        if group is None:
            group = []
            known.append(group)
            found.append(group)
        group.append(endpoint)
    return found


def _without_address(endpoint: Endpoint) -> Endpoint:
    return structs.replace(endpoint, id="", address="", provenance=Provenance("explicit"))


def _render_endpoint(page: Page, alike: Sequence[Endpoint], *, verbose: bool) -> None:
    """Endpoints that differ in their address alone."""
    endpoint = alike[0]
    where = ", ".join(one.address if one.port is None else f"{one.address}:{one.port}" for one in alike)
    names = ", ".join(endpoint.names) or "no name"
    words = f"  {endpoint.transport}, {names}" + ("; answers for unknown names too" if endpoint.default else "")
    page.line((where, "strong"), words)
    page.entry("by", ", ".join(dict.fromkeys(_place(one.provenance) for one in alike)), indent=2, style="quiet")
    if endpoint.refuses is not None:
        page.entry("refuses", f"every TLS handshake  ({_place(endpoint.refuses)})", indent=2)
    if endpoint.tls is not None and endpoint.refuses is None:
        _render_tls(page, endpoint.tls, verbose=verbose)
    if isinstance(endpoint.backends, tuple):
        backends = [f"{one.address}:{one.port}" if one.port else one.address for one in endpoint.backends]
        page.entry("goes on", f"to {', '.join(backends) or 'a server known at run time only'}", indent=2)
    for scope in endpoint.scopes:
        _render_scope(page, scope, verbose=verbose)


def _render_tls(page: Page, tls: Tls, *, verbose: bool) -> None:
    _setting(page, "versions", tls.protocols, lambda value: ", ".join(value) or "none")
    for refused in tls.refused:
        page.entry("", refused, indent=2, style="doubt")
    _setting(page, "suites", tls.suites, lambda value: f"{len(value)} suites, {tls.preference.value} decides")
    if verbose:
        page.entry("", " ".join(tls.suites.value or ()), indent=2, style="quiet")
    _setting(page, "groups", tls.groups, lambda value: ", ".join(value) or "none")
    _setting(page, "alpn", tls.alpn, lambda value: ", ".join(value) or "none")
    for use in tls.certificates:
        page.entry("proves", f"{use.certificate} with {use.key}  ({_place(use.provenance)})", indent=2)
    if not verbose:
        return
    _setting(page, "order", tls.preference, str)
    _setting(page, "tickets", tls.tickets, _on_off)
    _setting(page, "stapling", tls.stapling, _on_off)
    _setting(page, "dh", tls.dh, lambda value: f"{value.bits} bits, {value.group or 'no known group'}")
    _setting(page, "signs", tls.signatures, " ".join)
    _setting(page, "0-RTT", tls.early_data, _on_off)
    _setting(page, "clients", tls.client_certificate, lambda value: f"certificate {value}")


def _on_off(value: bool) -> str:
    return "on" if value else "off"


def _setting(page: Page, label: str, setting: Setting[Any] | None, shown: Callable[[Any], str]) -> None:
    """One setting with the line that decides it, and those that it overrules."""
    if setting is None or (setting.is_known and setting.value is None):
        return
    words = shown(setting.value) if setting.is_known else f"unknown: {setting.why_unknown}"
    page.entry(label, f"{words}  ({_place(setting.provenance)})", indent=2)
    for lost in setting.provenance.overruled if setting.provenance is not None else ():
        note = f" ({lost.note})" if lost.note else ""
        page.entry("", f"overrules {_place(lost)}{note}", indent=2, style="quiet")


def _render_scope(page: Page, scope: Scope, *, verbose: bool) -> None:
    if scope.undecided is not None:
        does = f"unknown: {scope.undecided}"
    elif scope.redirect is not None:
        does = f"redirects, {scope.redirect.status}, to {scope.redirect.location}"
    elif scope.refusal is not None:
        does = f"refuses, {scope.refusal.status}" if scope.refusal.status else "closes the connection"
    elif scope.upstream is not None:
        does = f"passes on to {scope.upstream.url}"
    elif scope.role is not None:
        does = "is a management page" if scope.role == "admin" else f"is a {scope.role} page"
    else:
        does = "answers with content" + (", folders are listed" if scope.listing and scope.listing.enabled else "")
    if scope.closed is not None and scope.serves_content:
        does += f", {_admission(scope.closed)}"
    page.entry(scope.id, f"{does}  ({_place(scope.provenance)})", indent=2, column=max(14, min(34, len(scope.id) + 4)))
    for header in scope.headers:
        on = "" if header.on == "all" else "  (not on errors)" if not header.is_on(404) else "  (some answers only)"
        page.entry("", f"{header.name}: {header.value}{on}", indent=2, column=16, style="quiet")
        if isinstance(header.unknown, str):
            page.entry("", f"not certain: {header.unknown}", indent=2, column=18, style="doubt")
        if verbose:
            page.entry("", _place(header.provenance), indent=2, column=18, style="quiet")
    reasons: dict[str, list[str]] = {}
    for lost in scope.dropped:
        reasons.setdefault(lost.because, []).append(f"{lost.name} of {_place(lost.provenance)}")
    for because, lost_ones in reasons.items():
        page.entry("", f"drops {', '.join(lost_ones)}: {because}", indent=2, column=16, style="doubt")


def _admission(closed: Setting[bool]) -> str:
    """Who is let in."""
    if not closed.is_known:
        return f"whether strangers are let in is not known: {closed.why_unknown}"
    return "closed to strangers" if closed.value else "open to strangers"


def _place(provenance: Provenance | None) -> str:
    if provenance is None:
        return "unknown place"
    if provenance.file is None:
        return provenance.note or provenance.how
    how = "" if provenance.how == "explicit" else f", {provenance.how}"
    return f"{provenance}{how}"
