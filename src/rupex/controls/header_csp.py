"""Content security policies: whether there is one, and whether it stops injected script."""

from __future__ import annotations

from collections.abc import Callable
from typing import Final

from rupex.controls._answers import headers_sent, missing
from rupex.controls.catalogue import control
from rupex.http import csp
from rupex.http.csp import CspPolicy
from rupex.model import EXEMPT, Endpoint, Fail, Header, Judgement, Pass, Scope
from rupex.model.change import Change

_BASE: Final = "default-src 'self'; object-src 'none'; base-uri 'self'"


@control(
    "header.csp",
    title="A content security policy is enforced",
    place="scope",
    severity="medium",
    why="It is the second line of defence against injected script, when the first one has failed.",
    references=("CSP Level 3",),
    cwe=("CWE-693",),
    only="tls",
    change=Change(
        "set-header",
        {
            "header": "Content-Security-Policy-Report-Only",
            "value": _BASE,
        },
    ),
    remedy=(
        "Send Content-Security-Policy: default-src 'self'; object-src 'none'; base-uri 'self' (try it "
        "report-only first)."
    ),
)
def policy_present(endpoint: Endpoint, scope: Scope) -> Judgement:
    if not scope.serves_content or scope.content == "assets":
        return EXEMPT
    sent = headers_sent(scope, csp.HEADER)
    if not isinstance(sent, list):
        return sent
    for header in sent:
        if any(policy.restricts for policy in csp.parse_csp(header.value)):
            return Pass(header.provenance)
    if sent:
        return Fail("the policy restricts nothing", sent[0].provenance, evidence=sent[0].value)
    if scope.sent(csp.HEADER + "-Report-Only"):
        return Fail("there is only a reporting policy, which blocks nothing", scope.provenance)
    return missing(scope, csp.HEADER)


def _best(scope: Scope, problem_of: Callable[[CspPolicy], str | None]) -> Judgement:
    """Several policies are all obeyed, so one that has no problem is enough."""
    if not scope.serves_content or scope.content == "assets":
        return EXEMPT
    sent = headers_sent(scope, csp.HEADER)
    if not isinstance(sent, list):
        return sent
    found: tuple[str, Header] | None = None
    for header in sent:
        for policy in csp.parse_csp(header.value):
            problem = problem_of(policy)
            if problem is None:
                return Pass(header.provenance)
            found = found or (problem, header)
    if found is None:
        return missing(scope, csp.HEADER)
    return Fail(found[0], found[1].provenance, evidence=found[1].value)


@control(
    "header.csp.scripts",
    title="The policy restricts scripts",
    place="scope",
    severity="medium",
    why="A policy that lets any script run stops no injected one.",
    references=("CSP Level 3 6.7.3", "CSP Level 3 8.2"),
    cwe=("CWE-693",),
    only="tls",
    refines="header.csp",
    change=Change(
        "set-header",
        {
            "header": "Content-Security-Policy-Report-Only",
            "value": f"script-src 'self'; {_BASE}",
        },
    ),
    remedy=(
        "Give script-src nonces or hashes with 'strict-dynamic', or a list of hosts without "
        "'unsafe-inline' and 'unsafe-eval'."
    ),
)
def policy_scripts(endpoint: Endpoint, scope: Scope) -> Judgement:
    def problem_of(policy: CspPolicy) -> str | None:
        unsafe = csp.unsafe_script_sources(policy)
        if unsafe is None:
            return "neither script-src nor default-src is set"
        return f"scripts may come from {', '.join(unsafe)}" if unsafe else None

    return _best(scope, problem_of)


@control(
    "header.csp.base",
    title="The policy restricts plug-ins and the base",
    place="scope",
    severity="low",
    why="An injected base element sends every relative script address to the attacker's host.",
    references=("CSP Level 3 6.1", "CSP Level 3 6.3.1"),
    cwe=("CWE-693",),
    only="tls",
    refines="header.csp",
    change=Change(
        "set-header",
        {
            "header": "Content-Security-Policy-Report-Only",
            "value": _BASE,
        },
    ),
    remedy="Add object-src 'none'; base-uri 'self' to the policy.",
)
def policy_base(endpoint: Endpoint, scope: Scope) -> Judgement:
    def problem_of(policy: CspPolicy) -> str | None:
        absent = []
        if policy.sources("object-src") is None and policy.sources("default-src") is None:
            absent.append("object-src")
        if policy.sources("base-uri") is None:  # default-src is no fallback for it (CSP Level 3, 6.3.1)
            absent.append("base-uri")
        return f"{' and '.join(absent)} is not restricted" if absent else None

    return _best(scope, problem_of)
