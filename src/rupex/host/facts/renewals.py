"""What renews certificates on a host: timers (systemd.timer(5)), cron tables (crontab(5)), and what their clients run after."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Final

from msgspec import structs

from rupex.families import all_facts
from rupex.host.facts.schedules import SCRIPT_FOLDERS, parse_calendar, parse_cron, parse_span
from rupex.host.tree.host_tree import HostTree, TreeError
from rupex.model import Provenance, Renewal, Schedule, Setting, bounds, unknown

_CLIENT = re.compile(r"\b(?:certbot|letsencrypt|acme\.sh|acme-client|acme_tiny|dehydrated|lego|uacme|getssl)\b")
_RELOAD = re.compile(r"\b(?:reload|restart|try-reload-or-restart|graceful)\b|-s\s+reload|\bHUP\b")
_UNITS: Final = ("etc/systemd/system", "usr/lib/systemd/system", "lib/systemd/system")
_WANTS: Final = tuple(f"{folder}/timers.target.wants" for folder in _UNITS)
_TABLES: Final = ("etc/cron.d", "var/spool/cron/crontabs", "var/spool/cron")
_SCRIPTS: Final = ("etc/cron.hourly", "etc/cron.daily", "etc/cron.weekly", "etc/cron.monthly")
_HOOKS: Final = ("etc/letsencrypt/renewal-hooks/deploy", "etc/letsencrypt/renewal-hooks/post")
_SETTINGS: Final = ("etc/letsencrypt/renewal", "etc/letsencrypt")
_SETTING = re.compile(
    r"^[ \t]*+(?:installer|deploy[-_]hook|renew[-_]hook|post[-_]hook|Le_ReloadCmd)[ \t]*+=[ \t]*+(.+)$", re.MULTILINE
)
_CERTIFICATE = re.compile(r"^[ \t]*+(?:fullchain|cert)[ \t]*+=[ \t]*+(\S+)", re.MULTILINE)
_WITHOUT_SYSTEMD: Final = re.compile(r"!\s*-[de]\s+/run/systemd")
_LONGEST: Final = 64 << 10
_MOST_FILES: Final = 2_000


def find_renewals(tree: HostTree) -> Setting[tuple[Renewal, ...]]:
    """The jobs that renew certificates; unknown where the tree has none of the folders in which one would be."""
    folders = [folder for folder in (*_UNITS, *_TABLES, *_SCRIPTS) if tree.is_folder(folder)]
    if not folders and not tree.is_file("etc/crontab"):
        return unknown("the tree has no folder in which a timer or a cron table would be")
    tells = _tells_server(tree)
    covers, hooks = _lineages(tree), any(_names(tree, folder) for folder in _HOOKS)
    return Setting(
        tuple(
            structs.replace(job, covers=covers, hooks=hooks)
            for job in (*_timers(tree, tells=tells), *_cron(tree, tells=tells))
        )
    )


def _lineages(tree: HostTree) -> tuple[str, ...] | None:
    """The certificates that the client renews, where its own settings name them; None where they do not."""
    found = []
    for name in _names(tree, _SETTINGS[0]):
        for certificate in _CERTIFICATE.findall(_text(tree, f"{_SETTINGS[0]}/{name}")):
            try:
                found.append(tree.real(certificate))
            except TreeError:
                continue
    return tuple(found) or None


def _timer_schedule(text: str) -> Schedule | None:
    """The calendars of a timer, at each of which it runs: an empty one takes those before it back (systemd.timer(5)). None where
    none of them is read, or it goes by a span since something else."""
    found: list[Schedule] = []
    for expression in re.findall(r"^[ \t]*+OnCalendar[ \t]*+=[ \t]*+(.*)$", text, re.MULTILINE):
        read = parse_calendar(expression.strip())
        found = [*found, *([read] if read is not None else [])] if expression.strip() else []
    schedule = structs.replace(found[0], others=tuple(found[1:])) if found else None
    spread = re.search(r"^[ \t]*+RandomizedDelaySec[ \t]*+=[ \t]*+(.+)$", text, re.MULTILINE)
    return (
        schedule
        if schedule is None or spread is None
        else structs.replace(schedule, spread_seconds=parse_span(spread[1]))
    )


def _timers(tree: HostTree, *, tells: bool) -> Iterator[Renewal]:
    seen: set[str] = set()
    for folder in _UNITS:
        for name in _names(tree, folder):
            if not name.endswith(".timer") or name in seen:
                continue
            seen.add(name)  # the first folder overrules the others (systemd.unit(5))
            text = _text(tree, f"{folder}/{name}")
            unit = re.search(r"^[ \t]*+Unit[ \t]*+=[ \t]*+(\S+)", text, re.MULTILINE)
            service = unit[1] if unit else name.removesuffix(".timer") + ".service"
            command = next((unit_text for other in _UNITS if (unit_text := _text(tree, f"{other}/{service}"))), "")
            runs = [line for line in command.splitlines() if line.strip().startswith(("ExecStart", "ExecStartPost"))]
            if not any(_CLIENT.search(line) for line in (*runs, name)):
                continue
            enabled = any(name in _names(tree, wants) for wants in _WANTS)
            reloads = tells or any(_RELOAD.search(line) for line in runs)
            schedule = _timer_schedule(text)
            yield Renewal(name, enabled, reloads, Provenance("explicit", f"{folder}/{name}", 1, 1), schedule)


def _cron(tree: HostTree, *, tells: bool) -> Iterator[Renewal]:
    has_systemd = tree.is_folder("etc/systemd/system")
    tables = ["etc/crontab", *(f"{folder}/{name}" for folder in _TABLES for name in _names(tree, folder))]
    for path in tables:
        for number, line in enumerate(_text(tree, path).splitlines(), 1):
            if line.lstrip().startswith("#") or not _CLIENT.search(line):
                continue
            idle = has_systemd and _WITHOUT_SYSTEMD.search(line) is not None  # left to the timer there
            reloads = tells or _RELOAD.search(line) is not None
            yield Renewal(path, not idle, reloads, Provenance("explicit", path, number, 1), parse_cron(line))
    for folder in _SCRIPTS:
        for name in _names(tree, folder):
            text = _text(tree, f"{folder}/{name}")
            body = "\n".join(line for line in text.splitlines() if not line.lstrip().startswith("#"))
            if _CLIENT.search(body):
                path = f"{folder}/{name}"
                is_run = _is_executable(tree, path)
                reloads = tells or _RELOAD.search(body) is not None
                yield Renewal(path, is_run, reloads, Provenance("explicit", path, 1, 1), SCRIPT_FOLDERS[folder])


def _tells_server(tree: HostTree) -> bool:
    """Whether a hook or a client's own settings reload the server after a renewal."""
    for folder in _HOOKS:
        if any(_RELOAD.search(_text(tree, f"{folder}/{name}")) for name in _names(tree, folder)):
            return True
    installers = {name for facts in all_facts() for name in facts.installers}
    for folder in _SETTINGS:
        for name in _names(tree, folder):
            if name.endswith((".conf", ".ini")):
                for setting in _SETTING.findall(_text(tree, f"{folder}/{name}")):
                    if _RELOAD.search(setting) or setting.strip() in installers:
                        return True
    return False


def _names(tree: HostTree, folder: str) -> list[str]:
    try:
        return tree.names_in(tree.real(folder))[:_MOST_FILES]
    except TreeError:
        return []


def _text(tree: HostTree, path: str) -> str:
    try:
        return tree.read(path, bounds.CONFIG_FILE_BYTES)[:_LONGEST].decode("utf-8", "replace")
    except TreeError:
        return ""


def _is_executable(tree: HostTree, path: str) -> bool:
    try:
        entry = tree.entry(tree.real(path))
    except TreeError:
        return False
    return entry is not None and bool(entry.mode & 0o111)
