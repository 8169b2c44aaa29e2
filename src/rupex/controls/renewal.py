"""Whether certificates are renewed by themselves, and the server told."""

from __future__ import annotations

from rupex.controls.catalogue import control
from rupex.model import EXEMPT, Fail, Host, Judgement, Pass, Unknown


def _needs_none(host: Host, days: int) -> bool:
    """Whether no certificate lives so short that somebody has to renew it all the time."""
    return host.renewals is None or host.shortest_days is None or host.shortest_days > days


@control(
    "renewal.scheduled",
    title="Renewal is scheduled",
    place="host",
    severity="high",
    why="A certificate of ninety days is renewed by a job, or forgotten in the third month.",
    references=("operational: people forget", "SP 1800-16"),
    cwe=("CWE-324",),
    evidence=("config", "files"),
    remedy={"*": "Enable the client's timer (systemctl enable --now), or add a line for it to a cron table."},
)
def scheduled(host: Host, *, days: int) -> Judgement:
    if _needs_none(host, days) or host.renewals is None:
        return EXEMPT
    jobs = host.renewals.value
    if jobs is None:
        return Unknown(host.renewals.why_unknown)
    for job in jobs:
        if job.enabled:
            return Pass(job.provenance, job.name)
    short = f"a certificate lives {host.shortest_days} days"
    if jobs:
        return Fail(f"{short}, and {jobs[0].name}, which would renew it, is not enabled", jobs[0].provenance)
    return Fail(f"{short}, and no timer or cron table renews it")


@control(
    "renewal.reload",
    title="Renewal tells the server",
    place="host",
    severity="medium",
    why="A server that is not told goes on with the old certificate until it expires in its memory.",
    references=("operational: servers read certificates when they start",),
    cwe=("CWE-324",),
    refines="renewal.scheduled",
    evidence=("config", "files"),
    remedy={"*": "Give the client a hook that reloads the server after a renewal."},
)
def reload(host: Host, *, days: int) -> Judgement:
    if _needs_none(host, days) or host.renewals is None:
        return EXEMPT
    jobs = host.renewals.value
    if jobs is None:
        return Unknown(host.renewals.why_unknown)
    enabled = [job for job in jobs if job.enabled]
    telling = next((job for job in enabled if job.reloads), None)
    if telling is not None:
        return Pass(telling.provenance)
    place = enabled[0].provenance if enabled else None
    return Fail("nothing reloads the server after a renewal", place)
