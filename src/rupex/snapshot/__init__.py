"""Bringing a host home: a snapshot of what an audit needs, without private keys and secrets.

``plan.py`` says what is taken, ``clean.py`` what of a file's content may leave, ``write.py`` makes the archive, and
``script.py`` a plain POSIX shell script that does the same on a machine without Python. docs/evidence.md tells an operator.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from pathlib import Path

from rupex.host import HostTree
from rupex.host.tree.snapshot_tables import IPTABLES_RULES, NFT_RULES, PROCESSES, VERSIONS
from rupex.masking.texts import Masker, mask
from rupex.snapshot.plan import Plan, plan
from rupex.snapshot.write import Taken, archive_mode, take, write_archive
from rupex.user_files import new_file


def survey(tree: HostTree) -> tuple[Plan, list[Taken]]:
    """What would be taken of ``tree``, looked at and cleaned, and not written."""
    planned = plan(tree)
    return planned, [one for one, _ in take(tree, planned)]


def collect(
    tree: HostTree,
    path: Path,
    now: datetime,
    begun: Callable[[Plan], None] = lambda _: None,
    told: Callable[[Taken], None] = lambda _: None,
) -> tuple[Plan, list[Taken]]:
    """Write a snapshot of ``tree`` to the new file ``path``, which is made before anything is looked at, with mode 0600, and
    removed when something goes wrong. ``begun`` is called with what will be taken, ``told`` with each item. Raises
    :class:`~rupex.model.RupexError`."""
    mode = archive_mode(path)
    with new_file(path) as file:
        planned = plan(tree)
        begun(planned)
        facts = dict(_machine_facts(tree)) if str(tree.root) == "/" else {}
        unlisted = (*planned.unlisted, *planned.closed)
        taken = write_archive(
            file, mode, tree, take(tree, planned), facts, now.timestamp(), unlisted=unlisted, told=told
        )
    return planned, taken


def _machine_facts(tree: HostTree) -> Iterator[tuple[str, str]]:
    """The texts of the folder ``rupex/``, of the machine that this runs on."""
    from rupex.host.facts.machine import inspect_packet_filters, inspect_processes, inspect_versions

    yield VERSIONS, "".join(f"{name}\t{version}\n" for name, version in inspect_versions())
    rows: Sequence[str] = [
        f"{process.pid}\t{process.name}\t{process.owner}\t{process.started.isoformat()}\n"
        for process in inspect_processes(tree.accounts)
    ]
    yield PROCESSES, "".join(rows)
    nft, iptables = inspect_packet_filters()
    masker = Masker()
    for name, rules in ((NFT_RULES, nft), (IPTABLES_RULES, iptables)):
        if rules:
            yield name, mask(rules.encode("utf-8", "replace").decode("latin-1"), "rules", masker)


__all__ = ["Plan", "Taken", "collect", "plan", "survey"]
