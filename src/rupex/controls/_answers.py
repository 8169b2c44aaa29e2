"""What several controls ask of an answer: which headers of a name it carries, and what it means when there are none."""

from __future__ import annotations

from rupex.model import Fail, Header, Judgement, Pass, Scope, Unknown

CONTENT_STATUS = 200


def answer_status(scope: Scope) -> int:
    """The status that answers here have: that of a redirect or refusal, else of content."""
    if scope.redirect is not None:
        return scope.redirect.status
    if scope.refusal is not None and scope.refusal.status is not None:
        return scope.refusal.status
    return CONTENT_STATUS


def headers_sent(scope: Scope, name: str, status: int = CONTENT_STATUS) -> list[Header] | Judgement:
    """The headers ``name`` of answers with ``status``, or the judgement that ends the matter: nobody can tell; or the
    site has the header, and a deeper block drops it, which is the business of ``header.everywhere`` alone."""
    if scope.undecided is not None:
        return Unknown(scope.undecided, scope.provenance)
    found = [header for header in scope.sent(name) if header.is_on(status)]
    for header in found:
        if isinstance(header.unknown, str):
            return Unknown(f"{header.name}: {header.unknown}", header.provenance)
    if found:
        return found
    if scope.may_come_from_upstream(name):
        return Unknown("it is not set here, and the upstream may send it", scope.provenance)
    if not scope.is_root and any(lost.name.lower() == name.lower() for lost in scope.dropped):
        return Pass(scope.provenance, "set for the site; header.everywhere tells that it is dropped here")
    return []


def missing(scope: Scope, name: str) -> Fail:
    """The failure of a header that is not there, in the block where it would be added."""
    for lost in scope.dropped:
        if lost.name.lower() == name.lower():
            words = f"no {name} here: the one of {lost.provenance} is dropped; {lost.because}"
            return Fail(words, scope.provenance, "missing")
    return Fail(f"no {name}", scope.provenance, "missing")
