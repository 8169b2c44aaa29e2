"""Whether certificates are renewed by themselves, and the server told."""

from __future__ import annotations

from rupex.controls.catalogue import control
from rupex.model import EXEMPT, Fail, Host, Judgement, Pass, Renewal, Unknown


def _jobs(host: Host, days: int) -> tuple[Renewal, ...] | Judgement:
    """The jobs of a host with a certificate that lives so short that somebody has to renew it all the time; or the judgement
    that ends the matter."""
    if host.shortest_days is None or host.shortest_days > days:
        return EXEMPT
    if host.renewals is None:
        return Unknown("only the host's own files can tell")
    jobs = host.renewals.value
    return Unknown(host.renewals.why_unknown) if jobs is None else jobs


@control(
    "renewal.scheduled",
    title="Renewal is scheduled",
    place="host",
    severity="high",
    why="A certificate of ninety days is renewed by a job, or forgotten in the third month.",
    references=("operational: people forget", "SP 1800-16"),
    cwe=("CWE-324",),
    evidence=("config", "files", "wire"),
    remedy={"*": "Enable the client's timer (systemctl enable --now), or add a line for it to a cron table."},
)
def scheduled(host: Host, *, days: int) -> Judgement:
    jobs = _jobs(host, days)
    if not isinstance(jobs, tuple):
        return jobs
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
    evidence=("config", "files", "wire"),
    remedy={"*": "Give the client a hook that reloads the server after a renewal."},
)
def reload(host: Host, *, days: int) -> Judgement:
    jobs = _jobs(host, days)
    if not isinstance(jobs, tuple):
        return jobs
    enabled = [job for job in jobs if job.enabled]
    telling = next((job for job in enabled if job.reloads), None)
    if telling is not None:
        return Pass(telling.provenance)
    place = enabled[0].provenance if enabled else None
    return Fail("nothing reloads the server after a renewal", place)
