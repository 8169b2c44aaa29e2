"""What the live machine tells beside its files: which servers run, since when and as whom, their versions, and the packet
filter that the kernel has loaded. Nothing is changed, and no program is run but these servers' own version flags and the
packet filter's listing.
"""

from __future__ import annotations

import os
import re
import subprocess
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Final

from msgspec import Struct

from rupex.families import all_facts
from rupex.host.rights.accounts import Accounts

_SECONDS: Final = 10
_CLOCK_TICKS: Final = os.sysconf("SC_CLK_TCK")


class Process(Struct, frozen=True):
    """One process of a server: its ``name``, the account it runs as, and since when."""

    pid: int
    name: str
    owner: str
    started: datetime


def inspect_versions() -> Iterator[tuple[str, str]]:
    """The servers and crypto library installed where distributions put them, each with its version."""
    for facts in all_facts():
        for program in facts.programs:
            output = _output((program.path, *program.arguments)) if os.path.exists(program.path) else ""
            found = re.search(program.version, output)
            if found is not None:
                yield facts.name, found[1]


def inspect_processes(accounts: Accounts) -> Iterator[Process]:
    """The processes of servers (proc(5)), oldest first."""
    names = {name for facts in all_facts() for name in facts.processes}
    booted = re.search(r"^btime (\d+)$", _text("/proc/stat"), re.MULTILINE)
    for pid in sorted(int(name) for name in os.listdir("/proc") if name.isdecimal()):
        # pid (comm) state …: the name may hold anything, so the last parenthesis ends it; field 22 is the start time
        head, _, rest = _text(f"/proc/{pid}/stat").rpartition(")")
        name, fields = head.partition("(")[2], rest.split()
        if name not in names or len(fields) < 20 or booted is None:
            continue
        try:
            owner = os.stat(f"/proc/{pid}").st_uid
        except OSError:
            continue  # it ended meanwhile
        started = datetime.fromtimestamp(int(booted[1]) + int(fields[19]) / _CLOCK_TICKS, UTC)
        yield Process(pid, name, accounts.user_name(owner), started)


def inspect_packet_filters() -> tuple[str, str]:
    """The rules that the kernel has, as nft and as iptables-save write them; empty where that may not be asked."""
    if os.geteuid() != 0:
        return "", ""
    nft, iptables = _output(("/usr/sbin/nft", "list", "ruleset")), _output(("/usr/sbin/iptables-save",))
    return nft, "" if nft else iptables  # where both speak, iptables' rules are among nft's


def _output(command: tuple[str, ...]) -> str:
    try:
        done = subprocess.run(  # noqa: S603  fixed paths and flags
            command, capture_output=True, timeout=_SECONDS, check=False, stdin=subprocess.DEVNULL
        )
    except (OSError, subprocess.TimeoutExpired):
        return ""
    return (done.stdout + done.stderr).decode("utf-8", "replace") if done.returncode == 0 else ""


def _text(path: str) -> str:
    try:
        with open(path, encoding="utf-8", errors="replace") as file:
            return file.read(1 << 16)
    except OSError:
        return ""
