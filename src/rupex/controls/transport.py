"""Whether a host speaks TLS where it should, and what it says to strangers."""

from __future__ import annotations

from collections.abc import Iterable

from rupex.controls.catalogue import control
from rupex.http.names import is_address
from rupex.model import EXEMPT, PASS, Endpoint, Fail, Host, Judgement, Pass, Unknown
from rupex.model.change import Change

_NO_NAME = ("", "_", "localhost")


def _unread(host: Host) -> str | None:
    """Why endpoints may be missing from what is known of ``host``."""
    return next((problem.message for problem in host.problems if problem.hides_endpoints), host.partial or None)


def _public(host: Host) -> list[Endpoint]:
    return [endpoint for endpoint in host.endpoints if not endpoint.is_local]


@control(
    "transport.tls.offered",
    title="The host speaks TLS at all",
    place="host",
    severity="critical",
    why="Without TLS everything can be read and changed on the way.",
    references=("RFC 9325 3.2",),
    cwe=("CWE-319",),
    change=Change("tls"),
    remedy="Add a listener on 443 with TLS and a certificate for the names served.",
)
def tls_offered(host: Host) -> Judgement:
    public = _public(host)
    unopened = None
    for endpoint in public:
        if endpoint.transport == "passthrough" and endpoint.opened_here is not True:
            unopened = endpoint
        elif endpoint.transport != "plain" and endpoint.refuses is None:
            return Pass(endpoint.provenance)
    if unopened is not None:
        return Unknown(
            "what is sent goes on to another server unopened, and that is not in this tree", unopened.provenance
        )
    if host.endpoints and not public:
        return EXEMPT
    unread = _unread(host)
    if unread is not None:
        return Unknown(f"no endpoint with TLS was found, but not all was seen: {unread}")
    if not public:
        return EXEMPT
    return Fail("no endpoint of it speaks TLS", public[0].provenance)


@control(
    "transport.tls.listener",
    title="A listener meant for TLS speaks TLS",
    place="endpoint",
    severity="critical",
    why="A port that clients take for HTTPS but that speaks plain HTTP serves nobody, or serves everybody in clear.",
    references=("RFC 9325 3.2",),
    cwe=("CWE-319",),
    local_exempt=True,
    refusing=True,
    any_protocol=True,
    change=Change("tls"),
    remedy="Switch TLS on for this listener.",
)
def tls_listener(endpoint: Endpoint, *, ports: tuple[int, ...]) -> Judgement:
    meant_for_tls = endpoint.port in ports
    if not meant_for_tls and not endpoint.unused_certificates:
        return EXEMPT
    if endpoint.transport == "passthrough" and endpoint.opened_here is not True:
        return Unknown(
            "what is sent goes on to another server unopened, and that is not in this tree", endpoint.provenance
        )
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
    "transport.names",
    title="Every plain name is served over TLS too",
    place="host",
    severity="high",
    why="A name without TLS sends its visitors on in clear, or to a certificate for another name.",
    references=("RFC 9325 3.2",),
    cwe=("CWE-319",),
    change=Change("tls"),
    remedy="Serve the name on the TLS listener too, with a certificate that covers it.",
)
def names_on_tls(host: Host, *, required: tuple[str, ...]) -> Judgement:
    public = _public(host)
    plain = {name: e for e in public if e.transport == "plain" for name in e.names}
    required_names = dict.fromkeys((*host.required, *required))
    if not required_names and not any(_real(plain)):
        return EXEMPT
    secure = {name for e in public if e.transport != "plain" for name in e.names}
    secure |= {wide for name in secure if name.startswith(".") for wide in _spread(name)}
    without_tls = [name for name in (*required_names, *plain) if name not in secure]
    absent = [name for name in _real(without_tls) if not all(_is_served(wide, secure) for wide in _spread(name))]
    if not absent:
        return PASS
    unread = _unread(host)
    if unread is not None:
        return Unknown(f"{absent[0]} was not found on TLS, but not all was seen: {unread}")
    more = f" and {len(absent) - 4} more" if len(absent) > 4 else ""
    place = plain[absent[0]].provenance if absent[0] in plain else None
    return Fail(f"no TLS endpoint has the name {', '.join(absent[:4])}{more}", place)


def _real(names: Iterable[str]) -> Iterable[str]:
    return (name for name in names if name not in _NO_NAME and not name.startswith("~") and not is_address(name))


def _spread(name: str) -> tuple[str, ...]:
    return (name[1:], f"*{name}") if name.startswith(".") else (name,)


def _is_served(name: str, served: set[str]) -> bool:
    """Whether ``name`` is among ``served``; a server's wildcard stands for any number of labels."""
    if name in served:
        return True
    labels = name.split(".")
    return any("*." + ".".join(labels[cut:]) in served for cut in range(1, len(labels)))


@control(
    "transport.unknown-host",
    title="Unknown names get no site",
    place="endpoint",
    severity="low",
    why="A site that answers for any name can be shown under a stranger's, and its links and caches poisoned.",
    references=("RFC 9110 7.4",),
    cwe=("CWE-346",),
    local_exempt=True,
    refusing=True,
    change=Change("refuse-unknown-names"),
    remedy="Let requests for unknown names end in a refusal, or in a redirect to a fixed name of your own.",
)
def unknown_host(endpoint: Endpoint) -> Judgement:
    if endpoint.stranger is not None:
        observed = endpoint.stranger
        if observed.value is None:
            return Unknown(observed.why_unknown, observed.provenance)
        if observed.value == "content":
            return Fail("a request for a name that nobody has gets content", observed.provenance)
        return Pass(observed.provenance, observed.value)
    if not endpoint.default:
        return EXEMPT
    if endpoint.refuses is not None:
        return Pass(endpoint.refuses, "the handshake is refused")
    for scope in endpoint.scopes:
        if scope.names is not None:
            continue
        if scope.undecided is not None:
            return Unknown(scope.undecided, scope.provenance)
        if scope.serves_content and not (scope.closed is not None and scope.closed.value):
            return Fail("requests for names that nobody has get this site's content", scope.provenance)
    return PASS
