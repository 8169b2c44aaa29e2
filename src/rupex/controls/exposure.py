"""What a server tells about itself and its files."""

from __future__ import annotations

from rupex.controls.catalogue import control
from rupex.http.product import tells_version
from rupex.model import EXEMPT, PASS, Endpoint, Fail, Judgement, Pass, Scope, Unknown


@control(
    "exposure.version",
    title="The server's version is not told",
    place="endpoint",
    severity="medium",
    why="A version spares whoever looks for hosts with a known fault the work of trying.",
    references=("RFC 9110 10.2.4",),
    cwe=("CWE-497",),
    remedy={"nginx": "Set server_tokens off; in the http block.", "*": "Send the Server header without a version."},
)
def version(endpoint: Endpoint) -> Judgement:
    passed: Judgement = PASS
    for scope in endpoint.scopes:
        for header in scope.headers:
            if header.name == "Server":
                if tells_version(header.value):
                    return Fail(f"answers with Server: {header.value}", header.provenance, evidence=header.value)
                passed = Pass(header.provenance)
        signature = scope.signature
        if signature is not None and signature.value is not None and tells_version(signature.value):
            return Fail(f"error pages say {signature.value}", signature.provenance, evidence=signature.value)
    return passed if endpoint.scopes else Unknown("no answer of it is known", endpoint.provenance)


@control(
    "exposure.listing",
    title="Folders are not listed",
    place="scope",
    severity="medium",
    why="A listing shows what nobody linked: backups, drafts, exports.",
    references=("operational: what is not linked is not meant to be found",),
    cwe=("CWE-548",),
    remedy={
        "nginx": "Remove autoindex on; or set autoindex off; in this location.",
        "*": "Switch directory listing off.",
    },
)
def listing(endpoint: Endpoint, scope: Scope) -> Judgement:
    if not scope.serves_content or scope.upstream is not None:
        return EXEMPT
    if scope.undecided is not None:
        return Unknown(scope.undecided, scope.provenance)
    if scope.listing is None:
        return EXEMPT
    if scope.listing.enabled is None:
        return Unknown("whether folders are listed could not be told", scope.listing.provenance)
    if scope.listing.enabled:
        return Fail("a folder without an index page shows its files", scope.listing.provenance)
    return Pass(scope.listing.provenance)
