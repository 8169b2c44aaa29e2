"""Security headers in answers that carry content."""

from __future__ import annotations

from datetime import timedelta

from rupex.controls.catalogue import control
from rupex.http import csp, hsts
from rupex.http.names import is_address
from rupex.model import EXEMPT, Endpoint, Fail, Header, Judgement, Pass, Scope, Unknown

_CONTENT_STATUS = 200


def _answer_status(scope: Scope) -> int:
    if scope.redirect is not None:
        return scope.redirect.status
    if scope.refusal is not None and scope.refusal.status is not None:
        return scope.refusal.status
    return _CONTENT_STATUS


def _sent(scope: Scope, name: str, status: int = _CONTENT_STATUS) -> list[Header] | Unknown:
    """The headers ``name`` of answers with ``status``; or why nobody can tell."""
    if scope.undecided is not None:
        return Unknown(scope.undecided, scope.provenance)
    found = [header for header in scope.sent(name) if header.is_on(status)]
    for header in found:
        if isinstance(header.unknown, str):
            return Unknown(header.unknown, header.provenance)
    if not found and scope.may_come_from_upstream(name):
        return Unknown(f"no {name} is set here, and the upstream may send one", scope.provenance)
    return found


def _days(count: int) -> str:
    return f"{count} day" if count == 1 else f"{count} days"


def _missing(scope: Scope, name: str) -> Fail:
    for lost in scope.dropped:
        if lost.name.lower() == name.lower():
            return Fail(
                f"no {name} here: the one of {lost.provenance} is dropped; {lost.because}", scope.provenance, "missing"
            )
    return Fail(f"no {name}", scope.provenance, "missing")


@control(
    "header.hsts",
    title="HSTS is sent, for a year or more",
    place="scope",
    severity="high",
    why="Without it each visit that starts with http:// can be kept there by whoever is on the way.",
    references=("RFC 6797 7.1", "RFC 9325 3.2"),
    cwe=("CWE-319",),
    only="tls",
    local_exempt=True,
    remedy={
        "nginx": 'add_header Strict-Transport-Security "max-age=31536000" always; in the server block, and again in each'
        " location that has an add_header of its own.",
        "*": "Send Strict-Transport-Security: max-age=31536000 with every answer over TLS.",
    },
)
def hsts_lifetime(endpoint: Endpoint, scope: Scope, *, minimum_days: int, short_days: int) -> Judgement:
    if endpoint.names and all(is_address(name) for name in endpoint.names):
        return EXEMPT  # RFC 6797, 8.1.1: not for address literals
    if scope.refusal is not None and scope.refusal.status is None:
        return EXEMPT
    sent = _sent(scope, hsts.HEADER, _answer_status(scope))
    if isinstance(sent, Unknown):
        return sent
    if not sent:
        return _missing(scope, hsts.HEADER)
    policy = hsts.parse_hsts(sent[0].value)  # RFC 6797, 8.1: the first one counts
    if policy is None:
        return Fail("the value is not valid, so browsers ignore it", sent[0].provenance, "missing", sent[0].value)
    if policy.max_age >= timedelta(days=minimum_days):
        return Pass(sent[0].provenance)
    seconds = int(policy.max_age.total_seconds())
    case = "missing" if policy.max_age < timedelta(days=short_days) else "short"
    wanted = f"{minimum_days} days or more are wanted"
    return Fail(f"max-age={seconds} is {_days(policy.max_age.days)}; {wanted}", sent[0].provenance, case, sent[0].value)


@control(
    "header.sniffing",
    title="Browsers may not guess content types",
    place="scope",
    severity="medium",
    why="A browser that guesses can take an upload for a script.",
    references=("Fetch standard, X-Content-Type-Options",),
    cwe=("CWE-693",),
    only="tls",
    remedy={
        "nginx": "add_header X-Content-Type-Options nosniff always;",
        "*": "Send X-Content-Type-Options: nosniff.",
    },
)
def sniffing(endpoint: Endpoint, scope: Scope) -> Judgement:
    if not scope.serves_content:
        return EXEMPT
    sent = _sent(scope, "X-Content-Type-Options")
    if isinstance(sent, Unknown):
        return sent
    if not sent:
        return _missing(scope, "X-Content-Type-Options")
    values = [value.strip().lower() for header in sent for value in header.value.split(",")]
    if values[0] == "nosniff":  # Fetch, "determine nosniff": the first value counts
        return Pass(sent[0].provenance)
    return Fail("the value is not nosniff, so browsers ignore it", sent[0].provenance, evidence=sent[0].value)


@control(
    "header.framing",
    title="Other sites cannot frame the pages",
    place="scope",
    severity="medium",
    why="A page in somebody else's frame can be clicked by people who see something else.",
    references=("CSP Level 3, frame-ancestors", "RFC 7034"),
    cwe=("CWE-1021",),
    only="tls",
    remedy={
        "nginx": "add_header Content-Security-Policy \"frame-ancestors 'self'\" always; (with the site's own policy in it)",
        "*": "Send Content-Security-Policy with frame-ancestors, or X-Frame-Options: SAMEORIGIN.",
    },
)
def framing(endpoint: Endpoint, scope: Scope) -> Judgement:
    if not scope.serves_content or scope.content == "assets":
        return EXEMPT
    policies, options = _sent(scope, csp.HEADER), _sent(scope, "X-Frame-Options")
    known = [] if isinstance(policies, Unknown) else policies
    for header in known:
        for policy in csp.parse_csp(header.value):
            ancestors = policy.sources("frame-ancestors")
            if ancestors is not None:
                if {"*", "http:", "https:"} & set(ancestors):
                    return Fail(
                        "frame-ancestors lets every site frame the pages", header.provenance, evidence=header.value
                    )
                return Pass(header.provenance)
    if isinstance(options, Unknown):
        return options
    values = {value.strip().upper() for header in options for value in header.value.split(",")}
    if len(values) == 1 and values <= {"DENY", "SAMEORIGIN"}:
        return Pass(options[0].provenance)
    if isinstance(policies, Unknown):
        return policies
    if values:
        return Fail(f"X-Frame-Options: {', '.join(sorted(values))} is not obeyed", options[0].provenance)
    return (
        _missing(scope, "X-Frame-Options")
        if any(lost.name.lower() == "x-frame-options" for lost in scope.dropped)
        else Fail("neither frame-ancestors nor X-Frame-Options", scope.provenance)
    )


@control(
    "header.csp",
    title="A content security policy is enforced",
    place="scope",
    severity="medium",
    why="It is the second line of defence against injected script, when the first one has failed.",
    references=("CSP Level 3",),
    cwe=("CWE-693",),
    only="tls",
    remedy={
        "nginx": "add_header Content-Security-Policy \"default-src 'self'; object-src 'none'; base-uri 'self'\" always;"
        " try it first as Content-Security-Policy-Report-Only.",
        "*": "Send Content-Security-Policy: default-src 'self'; object-src 'none'; base-uri 'self' (try it report-only first).",
    },
)
def policy_present(endpoint: Endpoint, scope: Scope) -> Judgement:
    if not scope.serves_content or scope.content == "assets":
        return EXEMPT
    sent = _sent(scope, csp.HEADER)
    if isinstance(sent, Unknown):
        return sent
    for header in sent:
        if any(policy.restricts for policy in csp.parse_csp(header.value)):
            return Pass(header.provenance)
    if sent:
        return Fail("the policy restricts nothing", sent[0].provenance, evidence=sent[0].value)
    if scope.sent(csp.HEADER + "-Report-Only"):
        return Fail("there is only a reporting policy, which blocks nothing", scope.provenance)
    return _missing(scope, csp.HEADER)
