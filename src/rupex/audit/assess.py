"""One host judged and scored: evidence and a baseline to the host's part of a run document."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from pathlib import Path

from msgspec import structs

from rupex.audit.collect import Evidence, LoadedHost, gather, load_host
from rupex.audit.document import certificates_of, host_document
from rupex.audit.findings import Findings, findings_before, findings_of
from rupex.audit.halves import Assessment, Written, judge_in_halves, judge_whole
from rupex.audit.judge import JudgedControl, judge
from rupex.audit.traces import with_file_digests
from rupex.baseline import Baseline, Waivers
from rupex.documents.redaction import redacted_endpoint
from rupex.documents.run import HostDocument
from rupex.documents.sites import SITES_LISTED, written_out
from rupex.host import HostTree
from rupex.host.tree.opening import archive_name, is_archive
from rupex.model import Host, RupexError


def assess(
    host: Host, baseline: Baseline, now: datetime, *, keep_all: bool = False, waivers: Waivers | None = None
) -> HostDocument:
    """Judge and score ``host``, which has no groups. ``keep_all``: list passed and exempt places too; ``waivers``: failures that
    are accepted."""
    document = _document(
        host, baseline, findings_of(judge(host, baseline, now, keep_all=keep_all, waivers=waivers), now)
    )
    return structs.replace(document, certificates=certificates_of(host))


def assess_tree(
    tree: HostTree,
    start: str,
    baseline: Baseline,
    now: datetime,
    *,
    name: str,
    family: str | None = None,
    assumed: Mapping[str, str] | None = None,
    keep_all: bool = False,
    written: Written = "full",
    waivers: Waivers | None = None,
) -> HostDocument:
    """Gather, judge and score the host in ``tree``; a large one on two cores, with the same result. Raises as
    :func:`~rupex.audit.collect.gather` does."""

    def opened() -> LoadedHost:
        return load_host(tree, start, name=name, family=family, assumed=assumed)

    loaded = opened()
    task = Assessment(baseline, now, keep_all=keep_all, waivers=waivers, written=written)
    document = judge_in_halves(loaded, task) if task.may_be_halved(loaded) else judge_whole(loaded, task)
    if document is None:
        document = judge_whole(opened(), task)
    if written == "brief":
        return written_out(document, SITES_LISTED)
    return with_file_digests(document if written == "packed" else written_out(document), tree)


def revised(document: HostDocument, baseline: Baseline, more: Iterable[JudgedControl], now: datetime) -> HostDocument:
    """``document`` with ``more`` controls in it, such as those that only a whole fleet can judge, scored again."""
    findings = {check.control: findings_before(check) for check in document.checks} | findings_of(more, now)
    host = Host(name=document.name, sources=document.sources)
    again = host_document(host, baseline, findings)
    return structs.replace(document, score=again.score, checks=again.checks, steps=again.steps)


def _document(host: Host, baseline: Baseline, findings: Mapping[str, Findings]) -> HostDocument:
    document = host_document(host, baseline, findings)
    return structs.replace(document, endpoints=tuple(map(redacted_endpoint, host.endpoints)))


def host_name(path: Path, tree_root: Path) -> str:
    """A name for a host whose user gave none: ``localhost`` for ``/``, the folder of its tree, or the single file."""
    if tree_root == Path("/"):
        return "localhost"
    if is_archive(path):
        return archive_name(path)
    is_lone_file = path.is_file() and not (tree_root / "etc").is_dir()
    return path.stem if is_lone_file else tree_root.name or path.name


def parse_time(text: str) -> datetime:
    """A point in time (RFC 3339, or a date) as aware UTC. Raises :class:`~rupex.model.RupexError`."""
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        raise RupexError(f"{text!r} is no time; one looks like 2026-11-24 or 2026-11-24T09:30:00Z") from None
    return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).astimezone(UTC)


__all__ = ["Evidence", "assess", "assess_tree", "gather", "host_name", "parse_time", "revised", "with_file_digests"]
