"""Whether listeners speak TLS, and plain ones send clients there."""

from __future__ import annotations

from typing import Final
from urllib.parse import urlsplit

from rupex.controls.catalogue import control
from rupex.model import EXEMPT, PASS, Endpoint, Fail, Judgement, Pass, Scope, Unknown

ACME_CHALLENGE: Final = "/.well-known/acme-challenge"  # RFC 8555, 8.3: fetched over plain HTTP


@control(
    "transport.tls.listener",
    title="A listener meant for TLS speaks TLS",
    place="endpoint",
    severity="critical",
    why="A port that clients take for HTTPS but that speaks plain HTTP serves nobody, or serves everybody in clear.",
    references=("RFC 9325 3.2",),
    cwe=("CWE-319",),
    local_exempt=True,
    remedy={
        "nginx": 'Add "ssl" to the listen line: listen 443 ssl; and name ssl_certificate and ssl_certificate_key.',
        "*": "Switch TLS on for this listener.",
    },
)
def tls_listener(endpoint: Endpoint, *, ports: tuple[int, ...]) -> Judgement:
    meant_for_tls = endpoint.port in ports
    if not meant_for_tls and not endpoint.unused_certificates:
        return EXEMPT
    if endpoint.transport != "plain":
        return PASS
    if meant_for_tls:
        return Fail(
            f"port {endpoint.port} speaks plain HTTP: TLS is not switched on for this listener", endpoint.provenance
        )
    use = endpoint.unused_certificates[0]
    return Fail(
        f"a certificate is configured ({use.certificate}), but no listener here speaks TLS", endpoint.provenance
    )


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
    remedy={
        "nginx": "In the plain server block answer everything with: return 301 https://$host$request_uri;",
        "*": "Answer every plain request with a permanent redirect to the same URL on https.",
    },
)
def redirect_present(endpoint: Endpoint, scope: Scope, name: str | None) -> Judgement:
    if scope.path.rstrip("/").startswith(ACME_CHALLENGE):
        return EXEMPT
    if scope.undecided is not None:
        return Unknown(scope.undecided, scope.provenance)
    if scope.refusal is not None:
        return Pass(scope.refusal.provenance, "refused")
    if scope.redirect is None:
        return Fail("content is answered over plain HTTP, without a redirect to https", scope.provenance)
    location = _told(scope, name)
    if location is None:
        return Unknown("where the redirect leads is known at run time only", scope.redirect.provenance)
    if urlsplit(location).scheme.lower() == "https":
        return Pass(scope.redirect.provenance)
    return Fail(f"redirects to {location}, which is not https", scope.redirect.provenance)


def _told(scope: Scope, name: str | None) -> str | None:
    """Where a plain request for ``name`` is sent."""
    assert scope.redirect is not None
    samples = scope.redirect.samples
    for sample in samples:
        if name is not None and urlsplit(sample.url).hostname == name:
            return sample.location
    return samples[0].location if samples else None


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
    remedy={
        "nginx": "Use return 301 (or 308, which keeps the method) in place of 302, and permanent in place of redirect.",
        "*": "Redirect with status 301 or 308.",
    },
)
def redirect_permanent(endpoint: Endpoint, scope: Scope, name: str | None) -> Judgement:
    if scope.path.rstrip("/").startswith(ACME_CHALLENGE):
        return EXEMPT
    if scope.undecided is not None:
        return Unknown(scope.undecided, scope.provenance)
    if scope.redirect is None:
        return PASS
    if scope.redirect.status in (301, 308):
        return Pass(scope.redirect.provenance)
    return Fail(f"redirects with status {scope.redirect.status}, which is temporary", scope.redirect.provenance)
