"""How much of a server there is to attack."""

from __future__ import annotations

from rupex.controls.catalogue import control
from rupex.model import EXEMPT, Fail, Host, Judgement, Pass, Unknown


@control(
    "surface.account",
    title="Requests are not handled as root",
    place="host",
    severity="critical",
    why="A fault in a worker that runs as root is the whole machine.",
    references=("operational: least privilege",),
    cwe=("CWE-250",),
    evidence=("config",),
    remedy={
        "nginx": "Set user www-data; (an account of its own without a login) at the top of the main file.",
        "*": "Run the workers under an account of their own.",
    },
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
