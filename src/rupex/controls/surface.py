"""How much of a server there is to attack."""

from __future__ import annotations

from rupex.controls.catalogue import control
from rupex.model import EXEMPT, PASS, Endpoint, Fail, Host, Judgement, Pass, Provenance, Scope, Unknown
from rupex.model.change import Change
from rupex.model.endpoint import is_loopback


@control(
    "surface.account",
    title="Requests are not handled as root",
    place="host",
    severity="critical",
    why="A fault in a worker that runs as root is the whole machine.",
    references=("operational: least privilege",),
    cwe=("CWE-250",),
    evidence=("config",),
    change=Change("workers"),
    remedy="Run the workers under an account of their own.",
)
def account(host: Host) -> Judgement:
    if not host.services:
        return EXEMPT
    for service in host.services:
        if service.workers.value is None:
            return Unknown(service.workers.why_unknown, service.workers.provenance)
        if service.workers.value in ("root", "0"):
            return Fail(f"{service.family} handles requests as root", service.workers.provenance)
    return Pass(host.services[0].workers.provenance)


@control(
    "surface.modules",
    title="No module is loaded that nothing uses",
    place="host",
    severity="low",
    why="Each module is code that a stranger's request may reach.",
    references=("operational: what is not loaded cannot fail",),
    cwe=("CWE-1188",),
    evidence=("config",),
    change=Change("unload-module"),
    remedy="Switch the module off.",
)
def modules(host: Host) -> Judgement:
    known = [service.idle_modules for service in host.services if service.idle_modules is not None]
    if not known:
        return EXEMPT
    for idle in known:
        if idle.value is None:
            return Unknown(idle.why_unknown, idle.provenance)
        if idle.value:
            return Fail(f"nothing in the configuration uses {', '.join(idle.value)}", idle.provenance)
    return Pass(known[0].provenance)


@control(
    "surface.sample",
    title="Nothing is left of the package's samples",
    place="host",
    severity="high",
    why="A default page tells that nobody looked after the server; a sample application or account lets people in.",
    references=("operational: what came with the package is known to everybody",),
    cwe=("CWE-1188", "CWE-1392"),
    evidence=("config", "wire"),
    change=Change("disable-site"),
    remedy="Remove the sample application, account or page.",
)
def sample(host: Host) -> Judgement:
    worst = min(host.samples, key=lambda found: found.kind == "page", default=None)
    if worst is None:
        if not host.endpoints and any(source.kind == "wire" for source in host.sources):
            return Unknown("nothing answered")
        return PASS if host.sources else EXEMPT
    return Fail(f"{worst.name} is served", worst.provenance, "page" if worst.kind == "page" else None)


@control(
    "surface.listener",
    title="Control and back-end ports listen to the machine only",
    place="endpoint",
    severity="high",
    why="Whoever reaches the shutdown port ends the server with one word; whoever reaches a back end's speaks past the proxy.",
    references=("operational: what is for the machine itself listens on loopback",),
    cwe=("CWE-668",),
    evidence=("config",),
    management_port=True,
    remedy="Bind the port to loopback, or switch it off.",
)
def listener(endpoint: Endpoint) -> Judgement:
    if endpoint.is_local:
        return Pass(endpoint.provenance)
    return Fail(f"the {endpoint.management} port {endpoint.port} listens on {endpoint.address}", endpoint.provenance)


@control(
    "surface.override",
    title="Override files are off or limited to a list",
    place="scope",
    severity="low",
    why="A file that is looked for at each request, and written by whoever can write to the site, is configuration that nobody"
    " reviews.",
    references=("operational: what is read at each request can be changed at any time",),
    cwe=("CWE-732",),
    evidence=("config",),
    change=Change("no-overrides"),
    remedy="Switch per-directory override files off.",
)
def override(endpoint: Endpoint, scope: Scope) -> Judgement:
    if scope.overrides is None or not scope.serves_content:
        return EXEMPT
    if scope.overrides.value is None:
        return Unknown(scope.overrides.why_unknown, scope.overrides.provenance)
    if scope.overrides.value == "open":
        return Fail("override files count here as a whole", scope.overrides.provenance)
    return Pass(scope.overrides.provenance)


@control(
    "surface.limits",
    title="Slow and endless clients meet a limit",
    place="endpoint",
    severity="low",
    why="A client that sends a byte a minute holds a connection as long as it is let.",
    references=("operational: connections are few",),
    cwe=("CWE-400",),
    evidence=("config",),
    change=Change("limits"),
    remedy="Limit the time for headers, bodies and idle connections, and the size of bodies.",
)
def limits(endpoint: Endpoint, *, header_seconds: int, body_seconds: int, idle_seconds: int) -> Judgement:
    limits_in_force = endpoint.limits
    if limits_in_force is None:
        return Unknown("not looked at", endpoint.provenance)
    for what, setting, most in (
        ("a header", limits_in_force.header_seconds, header_seconds),
        ("a body", limits_in_force.body_seconds, body_seconds),
        ("an idle connection", limits_in_force.idle_seconds, idle_seconds),
    ):
        if not setting.is_known:
            return Unknown(setting.why_unknown, setting.provenance)
        if setting.value is None or setting.value > most:
            waited = "without end" if setting.value is None else f"{setting.value} s"
            return Fail(f"{what} is waited for {waited}; {most} s are enough", setting.provenance)
    if limits_in_force.body_bytes.is_known and limits_in_force.body_bytes.value is None:
        return Fail("a body may be of any size", limits_in_force.body_bytes.provenance)
    return Pass(limits_in_force.header_seconds.provenance)


@control(
    "surface.methods",
    title="Only the methods the site needs",
    place="scope",
    severity="low",
    why="A method that nobody uses is one that nobody tests.",
    references=("operational: the baseline lists them",),
    cwe=("CWE-650",),
    change=Change("refuse-methods", {"methods": "GET HEAD POST"}),
    remedy="Refuse the other methods.",
)
def methods(endpoint: Endpoint, scope: Scope, *, allowed: tuple[str, ...]) -> Judgement:
    if not allowed or not scope.serves_content:
        return EXEMPT
    answered = scope.methods
    if answered is None and endpoint.sources == ("wire",):
        return Unknown("which methods are taken was not asked", scope.provenance)
    if answered is None:
        if scope.upstream is None:
            return Pass(scope.provenance, "files are for GET and HEAD only")
        return Fail("nothing limits the methods that are passed on", scope.provenance)
    if answered.value is None:
        return Unknown(answered.why_unknown, answered.provenance)
    surplus = [method for method in answered.value if method not in allowed]
    return Fail(f"{', '.join(surplus)} is taken", answered.provenance) if surplus else Pass(answered.provenance)


@control(
    "surface.firewall",
    title="The packet filter lets in what it should",
    place="host",
    severity="medium",
    why="A right TLS listener behind a closed port serves nobody; a back end that strangers reach is not behind anything.",
    references=("operational: what listens and what is let in are set in two places",),
    cwe=("CWE-668",),
    evidence=("config", "files"),
    change=Change("packet-filter"),
    remedy="Let in 443, and 80 for the redirect; bind back ends to loopback, or let in only the proxy's address.",
)
def firewall(host: Host, *, plain: tuple[int, ...]) -> Judgement:
    if (host.firewall is None and host.listening is None) or not host.endpoints:
        return EXEMPT
    if host.firewall is not None and host.firewall.value is None:
        return Unknown(host.firewall.why_unknown)
    rules = None if host.firewall is None else host.firewall.value
    public, behind = _public_ports(host), _back_ends(host)
    if rules is None:
        port = min(behind, default=None)
        words = f"the back end at {port} listens to everybody, and nothing is known of a packet filter"
        return PASS if port is None else Unknown(words)
    faults: list[tuple[str, Provenance | None]] = []
    doubt = ""
    for port in sorted(port for port in public if port not in plain):
        reach = rules.reach(port)
        if reach.value == "closed":
            faults.append((f"the server listens at {port}, and {rules.name} lets nobody in", reach.provenance))
        elif reach.value != "open":
            doubt = doubt or f"whom {rules.name} lets in at {port} depends on the source, or cannot be told"
    for port in sorted(behind):
        reach = rules.reach(port)
        if reach.value == "open":
            faults.append(
                (f"the back end at {port} listens to everybody, and {rules.name} lets everybody in", reach.provenance)
            )
    for port in sorted(port for port in public if port in plain and public[port]):
        reach = rules.reach(port)
        if reach.value == "open":
            faults.append(
                (f"{rules.name} lets everybody in at {port}, where content is served in clear", reach.provenance)
            )
    if faults:
        return Fail("; ".join(words for words, _ in faults), faults[0][1])
    return Unknown(doubt) if doubt else PASS


def _public_ports(host: Host) -> dict[int, bool]:
    """The ports at which others can reach an endpoint, and whether one of them serves content."""
    ports: dict[int, bool] = {}
    for endpoint in host.endpoints:
        if endpoint.port is not None and not endpoint.is_local:
            serves = any(scope.serves_content for scope in endpoint.scopes)
            ports[endpoint.port] = ports.get(endpoint.port, False) or serves
    return ports


def _back_ends(host: Host) -> set[int]:
    """Ports to which requests are passed on inside the machine, and which listen to more than the machine."""
    if host.listening is None:
        return set()
    own = {one.port for one in host.listening if not is_loopback(one.address)}
    served: set[int | None] = {endpoint.port for endpoint in host.endpoints}
    upstreams = {id(u): u for e in host.endpoints for scope in e.scopes if (u := scope.upstream) is not None}
    backends = [backend for upstream in upstreams.values() for backend in upstream.backends]
    return (own - served) & {backend.port for backend in backends if is_loopback(backend.address)}
