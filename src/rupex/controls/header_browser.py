"""What browsers are told to do with pages: guess types, frame, refer, isolate; and words they no longer obey."""

from __future__ import annotations

from collections.abc import Mapping
from fnmatch import fnmatchcase

from rupex.controls._answers import headers_sent, missing
from rupex.controls.catalogue import control
from rupex.http import csp
from rupex.http.policies import LEAKING_REFERRERS, effective_referrer, parse_permissions
from rupex.model import EXEMPT, PASS, Endpoint, Fail, Header, Judgement, Pass, Scope, Unknown
from rupex.model.change import Change


@control(
    "header.sniffing",
    title="Browsers may not guess content types",
    place="scope",
    severity="medium",
    why="A browser that guesses can take an upload for a script.",
    references=("Fetch standard, X-Content-Type-Options",),
    cwe=("CWE-693",),
    only="tls",
    change=Change("set-header", {"header": "X-Content-Type-Options", "value": "nosniff"}),
    remedy="Send X-Content-Type-Options: nosniff.",
)
def sniffing(endpoint: Endpoint, scope: Scope) -> Judgement:
    if not scope.serves_content:
        return EXEMPT
    sent = headers_sent(scope, "X-Content-Type-Options")
    if not isinstance(sent, list):
        return sent
    if not sent:
        return missing(scope, "X-Content-Type-Options")
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
    change=Change("set-header", {"header": "X-Frame-Options", "value": "SAMEORIGIN"}),
    remedy="Send Content-Security-Policy with frame-ancestors, or X-Frame-Options: SAMEORIGIN.",
)
def framing(endpoint: Endpoint, scope: Scope) -> Judgement:
    if not scope.serves_content or scope.content == "assets":
        return EXEMPT
    policies, options = headers_sent(scope, csp.HEADER), headers_sent(scope, "X-Frame-Options")
    for header in policies if isinstance(policies, list) else ():
        for policy in csp.parse_csp(header.value):
            ancestors = policy.sources("frame-ancestors")
            if ancestors is not None:
                if {"*", "http:", "https:"} & set(ancestors):
                    words = "frame-ancestors lets every site frame the pages"
                    return Fail(words, header.provenance, evidence=header.value)
                contradicted = _contradiction(ancestors, options if isinstance(options, list) else [])
                if contradicted is not None:
                    return Fail(contradicted, header.provenance, evidence=header.value)
                return Pass(header.provenance)
    if not isinstance(options, list):
        return options
    values = {value.strip().upper() for header in options for value in header.value.split(",")}
    if len(values) == 1 and values <= {"DENY", "SAMEORIGIN"}:
        return Pass(options[0].provenance)
    if isinstance(policies, Unknown):
        return policies
    if isinstance(policies, Pass) and not options:
        return policies
    if values:
        return Fail(f"X-Frame-Options: {', '.join(sorted(values))} is not obeyed", options[0].provenance)
    return (
        missing(scope, "X-Frame-Options")
        if any(lost.name.lower() == "x-frame-options" for lost in scope.dropped)
        else Fail("neither frame-ancestors nor X-Frame-Options", scope.provenance)
    )


def _contradiction(ancestors: tuple[str, ...], options: list[Header]) -> str | None:
    """What X-Frame-Options says otherwise; browsers obey frame-ancestors where both are there (CSP Level 3, 6.4.2)."""
    values = {value.strip().upper() for header in options for value in header.value.split(",")}
    nobody = ancestors in ((), ("'none'",))
    if "DENY" in values and not nobody:
        return "frame-ancestors lets sites frame the pages, and X-Frame-Options says DENY"
    if "SAMEORIGIN" in values and nobody:
        return "frame-ancestors lets nobody frame the pages, and X-Frame-Options says SAMEORIGIN"
    return None


@control(
    "header.referrer",
    title="Other sites are not told the path",
    place="scope",
    severity="low",
    why="Paths hold names, searches and tokens, and a link to another site hands them over.",
    references=("Referrer Policy 8.1",),
    cwe=("CWE-200",),
    only="tls",
    change=Change("set-header", {"header": "Referrer-Policy", "value": "strict-origin-when-cross-origin"}),
    remedy="Send Referrer-Policy: strict-origin-when-cross-origin, or a stricter one.",
)
def referrer(endpoint: Endpoint, scope: Scope) -> Judgement:
    if not scope.serves_content:
        return EXEMPT
    sent = headers_sent(scope, "Referrer-Policy")
    if not isinstance(sent, list):
        return sent
    if not sent:
        absent = missing(scope, "Referrer-Policy")
        return Fail(
            f"{absent.message}; browsers then take strict-origin-when-cross-origin, older ones send the whole URL",
            absent.provenance,
        )
    policy = effective_referrer([header.value for header in sent])
    if policy is None:
        return Fail("no policy that browsers know", sent[-1].provenance, evidence=sent[-1].value)
    if policy in LEAKING_REFERRERS:
        return Fail(f"{policy} sends the path to other origins", sent[-1].provenance, evidence=sent[-1].value)
    return Pass(sent[-1].provenance)


@control(
    "header.permissions",
    title="Camera, microphone and position are granted to nobody",
    place="scope",
    severity="low",
    why="Script that gets into a page can ask for whatever the page may ask for.",
    references=("Permissions Policy 5",),
    cwe=("CWE-693",),
    only="tls",
    reads_names=True,
    change=Change("set-header", {"header": "Permissions-Policy", "value": "camera=(), microphone=(), geolocation=()"}),
    remedy=(
        "Send Permissions-Policy: camera=(), microphone=(), geolocation=(); where a site needs one, name "
        "the site in parameters.exceptions, or waive it."
    ),
)
def permissions(
    endpoint: Endpoint, scope: Scope, *, features: tuple[str, ...], exceptions: Mapping[str, tuple[str, ...]]
) -> Judgement:
    if not scope.serves_content or scope.content == "assets":
        return EXEMPT
    sent = headers_sent(scope, "Permissions-Policy")
    if not isinstance(sent, list):
        return sent
    if not sent:
        return missing(scope, "Permissions-Policy")
    granted: dict[str, tuple[str, ...]] = {}
    for header in sent:
        parsed = parse_permissions(header.value)
        if parsed is None:
            return Fail("the value is not valid, so browsers ignore it", header.provenance, evidence=header.value)
        granted |= parsed
    on_purpose = _granted_on_purpose(endpoint.names, exceptions)
    open_ones = [name for name in features if name not in on_purpose and granted.get(name, ("self",)) != ()]
    if not open_ones:
        return Pass(sent[0].provenance)
    return Fail(f"{', '.join(open_ones)} is not denied", sent[0].provenance, evidence=sent[0].value)


def _granted_on_purpose(names: tuple[str, ...], exceptions: Mapping[str, tuple[str, ...]]) -> frozenset[str]:
    """The features that the baseline lets a site with ``names`` grant: by patterns that all of them meet."""
    return frozenset(
        feature
        for pattern, features in exceptions.items()
        if names and all(fnmatchcase(name, pattern) for name in names)
        for feature in features
    )


@control(
    "header.isolation",
    title="Opener and resource policies are set",
    place="scope",
    severity="low",
    why="A page in the same browsing context group can reach into this one, and a side channel can read what it loads.",
    references=("HTML standard 7.1.3", "Fetch standard 3.7"),
    cwe=("CWE-346",),
    only="tls",
    change=Change("set-header", {"header": "Cross-Origin-Opener-Policy", "value": "same-origin"}),
    remedy="Send Cross-Origin-Opener-Policy: same-origin and Cross-Origin-Resource-Policy: same-origin.",
)
def isolation(endpoint: Endpoint, scope: Scope, *, headers: tuple[str, ...]) -> Judgement:
    if not scope.serves_content:
        return EXEMPT
    absent = []
    first = None
    for name in headers:
        sent = headers_sent(scope, name)
        if isinstance(sent, Pass):
            continue
        if not isinstance(sent, list):
            return sent
        if not sent or sent[0].value.strip().lower() in ("unsafe-none", "cross-origin"):
            absent.append(name)
        first = first or (sent[0].provenance if sent else None)
    if absent:
        return Fail(f"{', '.join(absent)} {'are' if absent[1:] else 'is'} not set", scope.provenance)
    return Pass(first)


@control(
    "header.obsolete",
    title="No header that browsers have dropped",
    place="scope",
    severity="low",
    why="A dropped header protects nobody, and two of them have done harm.",
    references=("operational: browsers removed them between 2018 and 2022",),
    only="tls",
    change=Change("remove-header"),
    remedy="Take the header out; a content security policy does what it was meant for.",
)
def obsolete(endpoint: Endpoint, scope: Scope) -> Judgement:
    for header in scope.headers:
        name, value = header.name.lower(), header.value.strip().lower()
        if name in ("public-key-pins", "public-key-pins-report-only", "expect-ct"):
            return Fail(f"{header.name} is obeyed by no browser", header.provenance, evidence=header.value)
        if name == "x-xss-protection" and not value.startswith("0"):
            words = "a filter that browsers removed because it could be turned against the page"
            return Fail(f"{header.name}: {header.value} asks for {words}", header.provenance, evidence=header.value)
        if name == "feature-policy" and not scope.sent("Permissions-Policy"):
            words = "Feature-Policy was renamed, and Permissions-Policy is not sent"
            return Fail(words, header.provenance, evidence=header.value)
    if scope.undecided is not None:
        return Unknown(scope.undecided, scope.provenance)
    return PASS
