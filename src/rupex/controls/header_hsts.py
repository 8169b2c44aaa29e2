"""HSTS: whether browsers learn to come over TLS, and for how long."""

from __future__ import annotations

from datetime import timedelta

from rupex.controls._answers import answer_status, headers_sent, missing
from rupex.controls.catalogue import control
from rupex.http import hsts
from rupex.http.hsts import HstsPolicy
from rupex.http.names import is_address
from rupex.model import EXEMPT, PASS, Endpoint, Fail, Header, Judgement, Pass, Scope, Unknown
from rupex.model.change import Change


def _days(count: int) -> str:
    return f"{count} day" if count == 1 else f"{count} days"


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
    change=Change("set-header", {"header": "Strict-Transport-Security", "value": "max-age=31536000"}),
    remedy="Send Strict-Transport-Security: max-age=31536000 with every answer over TLS.",
)
def hsts_lifetime(endpoint: Endpoint, scope: Scope, *, minimum_days: int, short_days: int) -> Judgement:
    if endpoint.names and all(is_address(name) for name in endpoint.names):
        return EXEMPT  # RFC 6797, 8.1.1: not for address literals
    if scope.refusal is not None and scope.refusal.status is None:
        return EXEMPT
    sent = headers_sent(scope, hsts.HEADER, answer_status(scope))
    if not isinstance(sent, list):
        return sent
    if not sent:
        return missing(scope, hsts.HEADER)
    policy = hsts.parse_hsts(sent[0].value)  # RFC 6797, 8.1: the first one counts
    if policy is None:
        return Fail("the value is not valid, so browsers ignore it", sent[0].provenance, "missing", sent[0].value)
    if policy.max_age >= timedelta(days=minimum_days):
        return Pass(sent[0].provenance)
    seconds = int(policy.max_age.total_seconds())
    case = "missing" if policy.max_age < timedelta(days=short_days) else "short"
    required = f"{minimum_days} days or more are wanted"
    return Fail(
        f"max-age={seconds} is {_days(policy.max_age.days)}; {required}", sent[0].provenance, case, sent[0].value
    )


def _policy(endpoint: Endpoint, scope: Scope) -> tuple[HstsPolicy, Header] | Judgement:
    """The policy that browsers learn here, or the judgement of a control that asks more of one: header.hsts tells what is
    missing, so nothing more is asked where there is none."""
    if endpoint.names and all(is_address(name) for name in endpoint.names):
        return EXEMPT
    if scope.refusal is not None and scope.refusal.status is None:
        return EXEMPT
    sent = headers_sent(scope, hsts.HEADER, answer_status(scope))
    if not isinstance(sent, list):
        return sent
    policy = hsts.parse_hsts(sent[0].value) if sent else None
    if policy is None:
        return missing(scope, hsts.HEADER) if not sent else Fail("the value is not valid", sent[0].provenance)
    return policy, sent[0]


@control(
    "header.hsts.subdomains",
    title="HSTS covers the names below",
    place="scope",
    severity="low",
    why="A cookie for the whole domain can be taken on a name below it that still speaks plain HTTP.",
    references=("RFC 6797 6.1.2",),
    cwe=("CWE-319",),
    only="tls",
    local_exempt=True,
    refines="header.hsts",
    change=Change(
        "set-header", {"header": "Strict-Transport-Security", "value": "max-age=31536000; includeSubDomains"}
    ),
    remedy="Add includeSubDomains, once every name below speaks TLS.",
)
def hsts_subdomains(endpoint: Endpoint, scope: Scope) -> Judgement:
    found = _policy(endpoint, scope)
    if not isinstance(found, tuple):
        return found
    policy, header = found
    if policy.include_subdomains:
        return Pass(header.provenance)
    return Fail("includeSubDomains is not set", header.provenance, evidence=header.value)


@control(
    "header.hsts.plain",
    title="HSTS is not sent over plain HTTP",
    place="scope",
    severity="low",
    why="Browsers must ignore it there, so it only looks as if it were set.",
    references=("RFC 6797 7.2",),
    only="plain",
    local_exempt=True,
    change=Change("remove-header", {"header": "Strict-Transport-Security"}),
    remedy="Send Strict-Transport-Security over TLS only.",
)
def hsts_plain(endpoint: Endpoint, scope: Scope) -> Judgement:
    sent = [header for header in scope.sent(hsts.HEADER) if header.is_on(answer_status(scope))]
    if sent:
        return Fail("sent over plain HTTP, where browsers ignore it", sent[0].provenance, evidence=sent[0].value)
    if scope.undecided is not None:
        return Unknown(scope.undecided, scope.provenance)
    return PASS


@control(
    "header.hsts.preload",
    title="preload keeps its conditions",
    place="scope",
    severity="low",
    why="Browsers' lists take a name whose policy keeps them, and getting off a list takes months.",
    references=("operational: a year, includeSubDomains and a redirect on the same host are asked of listed names",),
    only="tls",
    local_exempt=True,
    change=Change(
        "set-header", {"header": "Strict-Transport-Security", "value": "max-age=31536000; includeSubDomains; preload"}
    ),
    remedy="Send max-age=31536000; includeSubDomains; preload, or leave preload out.",
)
def hsts_preload(endpoint: Endpoint, scope: Scope, *, minimum_days: int) -> Judgement:
    if scope.undecided is not None:
        return Unknown(scope.undecided, scope.provenance)
    for header in scope.sent(hsts.HEADER):
        policy = hsts.parse_hsts(header.value)
        if policy is None or not policy.preload:
            continue
        if not policy.include_subdomains:
            return Fail("preload without includeSubDomains", header.provenance, evidence=header.value)
        if policy.max_age < timedelta(days=minimum_days):
            return Fail(f"preload with less than {minimum_days} days", header.provenance, evidence=header.value)
    return PASS
