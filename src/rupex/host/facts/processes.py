"""The processes of servers: of the live machine, or as a snapshot has them."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import Final

from rupex.families import all_facts
from rupex.host.tree.host_tree import HostTree, TreeError
from rupex.host.tree.snapshot_tables import PROCESSES
from rupex.model import Running, bounds

_MOST: Final = 10_000


def find_running(tree: HostTree) -> tuple[Running, ...]:
    """The processes of servers; none where the tree does not know them."""
    if str(tree.root) == "/":
        from rupex.host.facts.machine import inspect_processes

        return tuple(Running(_family(p.name), p.owner, p.started) for p in inspect_processes(tree.accounts))
    try:
        text = tree.read(PROCESSES, bounds.CONFIG_FILE_BYTES).decode("utf-8", "replace")
    except TreeError:
        return ()
    return tuple(_rows(text))


def _rows(text: str) -> Iterator[Running]:
    for line in text.splitlines()[:_MOST]:
        fields = line.split("\t")
        if len(fields) != 4:
            continue
        try:
            started = datetime.fromisoformat(fields[3])
        except ValueError:
            continue
        if started.tzinfo is not None:
            yield Running(_family(fields[1]), fields[2], started)


def _family(name: str) -> str:
    """The family of a process; its own name where no family has it."""
    return next((facts.name for facts in all_facts() if name in facts.processes), name)
