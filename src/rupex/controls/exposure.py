"""What a server tells about itself and its files."""

from __future__ import annotations

import ipaddress
import re

from rupex.controls.catalogue import control
from rupex.http.product import tells_inside, tells_version
from rupex.http.urls import split_url
from rupex.model import EXEMPT, PASS, Endpoint, Fail, Judgement, Pass, Scope, Unknown
from rupex.model.change import Change


@control(
    "exposure.version",
    title="The server's version is not told",
    place="endpoint",
    severity="medium",
    why="A version spares whoever looks for hosts with a known fault the work of trying.",
    references=("RFC 9110 10.2.4",),
    cwe=("CWE-497",),
    change=Change("hide-version"),
    remedy="Send the Server header without a version.",
)
def version(endpoint: Endpoint) -> Judgement:
    passed: Judgement = PASS
    for scope in endpoint.scopes:
        for header in scope.sent("Server"):
            if tells_version(header.value):
                return Fail(f"answers with Server: {header.value}", header.provenance, evidence=header.value)
            passed = Pass(header.provenance)
        signature = scope.signature
        if signature is not None and signature.value is not None and tells_version(signature.value):
            return Fail(f"error pages say {signature.value}", signature.provenance, evidence=signature.value)
    for scope in endpoint.scopes:
        if scope.may_come_from_upstream("Server") and not _is_interpreter(scope):
            return Unknown(
                "the server behind may send a Server header of its own, and nothing takes it out", scope.provenance
            )
    return passed if endpoint.scopes else Unknown("no answer of it is known", endpoint.provenance)


def _is_interpreter(scope: Scope) -> bool:
    """Whether requests are passed on to a program by FastCGI, which is no server and names none."""
    return scope.upstream is not None and re.search(r"(?:^|[|:])f(?:ast)?cgi:", scope.upstream.url) is not None


@control(
    "exposure.listing",
    title="Folders are not listed",
    place="scope",
    severity="medium",
    why="A listing shows what nobody linked: backups, drafts, exports.",
    references=("operational: what is not linked is not meant to be found",),
    cwe=("CWE-548",),
    change=Change("no-listing"),
    remedy="Switch directory listing off.",
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


@control(
    "exposure.product",
    title="The server's product is not told",
    place="endpoint",
    severity="low",
    why="A name narrows the search for a known fault; a strict baseline tells none.",
    references=("operational: what is not told need not be guessed",),
    cwe=("CWE-497",),
    change=Change("hide-product"),
    remedy="Send no Server header, or one that names nothing.",
)
def product(endpoint: Endpoint) -> Judgement:
    if not endpoint.scopes:
        return Unknown("no answer of it is known", endpoint.provenance)
    for scope in endpoint.scopes:
        for header in scope.sent("Server"):
            if header.value.strip():
                return Fail(f"answers with Server: {header.value}", header.provenance, evidence=header.value)
    return PASS


@control(
    "exposure.technology",
    title="No header names what the site is made with",
    place="scope",
    severity="medium",
    why="It tells whoever looks for a known fault where to look.",
    references=("operational: RFC 9110 10.2.4 warns of the same for Server",),
    cwe=("CWE-497",),
    change=Change("remove-header"),
    remedy="Take the header out of the upstream's answers.",
)
def technology(endpoint: Endpoint, scope: Scope, *, headers: tuple[str, ...]) -> Judgement:
    for name in headers:
        for header in scope.sent(name):
            return Fail(f"answers with {header.name}: {header.value}", header.provenance, evidence=header.value)
    if scope.undecided is not None:
        return Unknown(scope.undecided, scope.provenance)
    if scope.may_come_from_upstream(headers[0]):
        return Unknown(f"the upstream may send {headers[0]}, and nothing takes it out", scope.provenance)
    return PASS


@control(
    "exposure.error-page",
    title="Error pages tell nothing of the inside",
    place="scope",
    severity="medium",
    why="A version, a path or a stack trace in an error page is a map for whoever provokes errors.",
    references=("operational: errors are for the log",),
    cwe=("CWE-209",),
    change=Change("plain-error-pages"),
    remedy="Show error pages of your own, without version, path or trace.",
)
def error_page(endpoint: Endpoint, scope: Scope) -> Judgement:
    if not scope.serves_content:
        return EXEMPT
    signature = scope.signature
    text = "" if signature is None else signature.value or ""
    if signature is not None and (tells_version(text) or tells_inside(text)):
        return Fail(f"error pages say {text}", signature.provenance, evidence=text)
    if scope.undecided is not None:
        return Unknown(scope.undecided, scope.provenance)
    if scope.upstream is not None and scope.upstream.keeps_errors:
        return Unknown("the upstream's own error pages are passed on", scope.upstream.provenance)
    return PASS if signature is not None else Unknown("no error page of it is known", scope.provenance)


def _is_one_of(path: str, paths: tuple[str, ...]) -> bool:
    """Whether ``path`` is one of ``paths`` or lies below it, in any case."""
    lowered = path.lower().rstrip("/")
    return any(lowered == known or lowered.startswith(f"{known}/") for known in paths)


def _closed(endpoint: Endpoint, scope: Scope, what: str) -> Judgement:
    if endpoint.is_local:
        return Pass(endpoint.provenance, "reached from the machine itself only")
    if not scope.serves_content:
        return PASS
    if scope.closed is not None and scope.closed.value:
        return Pass(scope.closed.provenance)
    if scope.closed is not None and not scope.closed.is_known:
        return Unknown(scope.closed.why_unknown, scope.closed.provenance)
    if scope.undecided is not None:
        return Unknown(scope.undecided, scope.provenance)
    return Fail(f"{what} is open to everybody", scope.provenance)


@control(
    "exposure.status-page",
    title="Status pages are closed to strangers",
    place="scope",
    severity="high",
    why="They tell how busy the server is, who is on it and what is asked for.",
    references=("operational: it is for the people who run the server",),
    cwe=("CWE-200",),
    change=Change("restrict-path"),
    remedy="Let only your own addresses see it.",
)
def status_page(endpoint: Endpoint, scope: Scope, *, paths: tuple[str, ...]) -> Judgement:
    if scope.role != "status" and not (scope.upstream is not None and _is_one_of(scope.path, paths)):
        return EXEMPT
    return _closed(endpoint, scope, "the status page")


@control(
    "exposure.admin",
    title="Management is closed to strangers",
    place="scope",
    severity="critical",
    why="A management page open to all is one password, or one fault, away from the whole host.",
    references=("operational: least privilege",),
    cwe=("CWE-306",),
    change=Change("restrict-path"),
    remedy="Let only your own addresses reach it, and ask for more than a password.",
)
def admin(endpoint: Endpoint, scope: Scope, *, paths: tuple[str, ...]) -> Judgement:
    if scope.role != "admin" and not _is_one_of(scope.path, paths):
        return EXEMPT
    return _closed(endpoint, scope, "a management application")


@control(
    "exposure.files",
    title="No file is served that is not meant to be",
    place="scope",
    severity="high",
    why="A version-control folder or a dump gives away the source, its history and its passwords.",
    references=("operational: what lies under the document root is served",),
    cwe=("CWE-538",),
    change=Change("refuse-paths"),
    remedy="Take the files out of the document root, and refuse such names.",
)
def files(endpoint: Endpoint, scope: Scope) -> Judgement:
    exposes = scope.exposes
    if exposes is None:
        return EXEMPT
    if exposes.value is None:
        return Unknown(exposes.why_unknown, scope.provenance)
    if not exposes.value:
        return PASS
    return Fail(f"serves {', '.join(exposes.value[:4])}", scope.provenance, evidence=" ".join(exposes.value))


@control(
    "exposure.trace",
    title="TRACE is refused",
    place="endpoint",
    severity="medium",
    why="It sends back the request with everything that a browser or proxy added to it.",
    references=("RFC 9110 9.3.8",),
    cwe=("CWE-200",),
    change=Change("refuse-trace"),
    remedy="Switch the TRACE method off.",
)
def trace(endpoint: Endpoint) -> Judgement:
    if endpoint.trace is None:
        return Unknown("not looked at", endpoint.provenance)
    if endpoint.trace.value is None:
        return Unknown(endpoint.trace.why_unknown, endpoint.trace.provenance)
    return (
        Fail("TRACE is answered", endpoint.trace.provenance)
        if endpoint.trace.value
        else Pass(endpoint.trace.provenance)
    )


@control(
    "exposure.etag",
    title="No inode in the ETag",
    place="endpoint",
    severity="low",
    why="An inode tells servers behind one address apart, and helps with faults of network file systems.",
    references=("operational: a tag needs no more than time and size",),
    cwe=("CWE-200",),
    change=Change("no-inode-etags"),
    remedy="Make the ETag from time and size only.",
)
def etag(endpoint: Endpoint) -> Judgement:
    inodes = endpoint.inode_etags
    if inodes is None:
        return Unknown("not looked at", endpoint.provenance)
    if inodes.value is None:
        return Unknown(inodes.why_unknown, inodes.provenance)
    return Fail("ETags tell the inode of files", inodes.provenance) if inodes.value else Pass(inodes.provenance)


@control(
    "exposure.address",
    title="No internal address or name is told",
    place="endpoint",
    severity="low",
    why="Names and addresses of the inside are where an attacker who got in goes next.",
    references=("operational: what is not told need not be guessed",),
    cwe=("CWE-200",),
    reads_names=True,
    remedy="Take internal addresses and names out of headers and redirects.",
)
def address(endpoint: Endpoint, *, suffixes: tuple[str, ...]) -> Judgement:
    for scope in endpoint.scopes:
        for header in scope.headers:
            if isinstance(header.internal, str):
                return Fail(f"{header.name} tells {header.internal}", header.provenance, evidence=header.value)
        for sample in scope.redirect.samples if scope.redirect is not None else ():
            host = split_url(sample.location or "").host
            if host != split_url(sample.url).host and _is_internal(host, suffixes):
                assert scope.redirect is not None
                return Fail(f"redirects to {host}, which only the inside can reach", scope.redirect.provenance)
    return PASS


def _is_internal(host: str, suffixes: tuple[str, ...]) -> bool:
    try:
        return ipaddress.ip_address(host).is_private
    except ValueError:
        return bool(host) and host.endswith(suffixes)
