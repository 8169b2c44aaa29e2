"""Whether certificates are renewed by themselves, and the server told."""

from __future__ import annotations

from datetime import datetime

from rupex.controls.catalogue import control
from rupex.model import EXEMPT, CertificateLifetime, Fail, Host, Judgement, Pass, Renewal, Unknown
from rupex.model.change import Change


def _brief(host: Host, days: int) -> list[CertificateLifetime]:
    """The certificates that live so short, the one that ends first in front."""
    return sorted((life for life in host.lifetimes if life.days <= days), key=lambda life: life.not_after)


def _jobs(host: Host, days: int) -> tuple[Renewal, ...] | Judgement:
    """The jobs of a host with a certificate of so short a validity that it has to be renewed all the time; or the judgement
    that ends the matter."""
    if not _brief(host, days):
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
    change=Change("renewal-job"),
    remedy="Enable the client's timer (systemctl enable --now), or add a line for it to a cron table.",
)
def scheduled(host: Host, *, now: datetime, days: int) -> Judgement:
    jobs = _jobs(host, days)
    if not isinstance(jobs, tuple):
        return jobs
    lifetimes = _brief(host, days)
    enabled = [job for job in jobs if job.enabled]
    if enabled:
        return _in_time(enabled, lifetimes, now)
    short = f"a certificate is valid for {min(life.days for life in lifetimes)} days"
    if jobs:
        return Fail(f"{short}, and {jobs[0].name}, which would renew it, is not enabled", jobs[0].provenance)
    return Fail(f"{short}, and no timer or cron table renews it")


def _in_time(enabled: list[Renewal], lifetimes: list[CertificateLifetime], now: datetime) -> Judgement:
    """Whether the jobs renew every certificate, and run before the first of them ends."""
    job = enabled[0]
    if all(one.covers is not None and not one.hooks for one in enabled):
        covered = {path for one in enabled for path in one.covers or ()}
        uncovered = [life for life in lifetimes if life.real not in covered]
        if uncovered:
            return Fail(f"{uncovered[0].path} is none of the certificates that {job.name} renews", job.provenance)
    runs = [(moment, one) for one in enabled if one.schedule is not None and (moment := one.schedule.next(now))]
    if len(runs) < len(enabled) or not runs:
        return Pass(job.provenance, job.name)
    moment, job = min(runs, key=lambda run: run[0])
    first = next((life for life in lifetimes if life.not_after > now), None)
    if first is None:
        return Pass(job.provenance, f"{job.name}, next on {moment:%Y-%m-%d %H:%M}")
    if moment >= first.not_after:
        ends = f"{first.path} expires on {first.not_after:%Y-%m-%d}"
        return Fail(f"{ends}, before {job.name} runs next, on {moment:%Y-%m-%d}", job.provenance)
    last = (first.not_after - moment).days
    return Pass(job.provenance, f"{job.name}, next on {moment:%Y-%m-%d %H:%M}, {last} days before {first.path} expires")


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
    change=Change("renewal-hook"),
    remedy="Give the client a hook that reloads the server after a renewal.",
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
