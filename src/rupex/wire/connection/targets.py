"""What is to be probed: names with ports as people write them, and the addresses that they have."""

from __future__ import annotations

import asyncio
import ipaddress
import re
import socket
from collections.abc import Iterable
from typing import Final

from msgspec import Struct

from rupex.model import RupexError

DEFAULT_PORTS: Final = (443, 80)
_LABEL = re.compile(r"[a-z0-9_](?:[a-z0-9_-]{0,61}[a-z0-9_])?", re.ASCII)


class Target(Struct, frozen=True):
    """A ``name`` to ask for (lower case, an IP address without brackets), and its ``ports``; ``chosen``: they were named, and
    are not just the usual ones."""

    name: str
    ports: tuple[int, ...] = DEFAULT_PORTS
    chosen: bool = False


def merge_targets(targets: Iterable[Target]) -> list[Target]:
    """One target for each name, with all ports that were named for it; the usual ones where none was."""
    found: dict[str, Target] = {}
    for target in targets:
        before = found.get(target.name)
        ports = target.ports if before is None else tuple(dict.fromkeys((*before.ports, *target.ports)))
        found[target.name] = Target(target.name, ports, target.chosen and (before is None or before.chosen))
    return list(found.values())


def parse_target(text: str) -> Target:
    """``www.ternholm.test``, ``www.ternholm.test:8443``, ``192.0.2.1:443`` or ``[2001:db8::1]:443``. Raises
    :class:`~rupex.model.RupexError`."""
    if "/" in text or "@" in text or "?" in text:
        raise RupexError(f"{text}: a name and maybe a port is expected, such as www.ternholm.test:443, and no URL")
    name, port = text, None
    if text.startswith("["):
        name, mark, rest = text[1:].partition("]")
        if not mark or (rest and not rest.startswith(":")):
            raise RupexError(f"{text}: an IPv6 address with a port is written [2001:db8::1]:443")
        port = _port(rest[1:], text) if rest else None
    elif text.count(":") == 1:
        name, _, number = text.partition(":")
        port = _port(number, text)
    return Target(_name(name, text)) if port is None else Target(_name(name, text), (port,), True)


def _port(text: str, whole: str) -> int:
    if not re.fullmatch(r"[0-9]{1,5}", text, re.ASCII) or not 0 < int(text) < 65536:
        raise RupexError(f"{whole}: {text!r} is no port; one is a number from 1 to 65535")
    return int(text)


def _name(name: str, whole: str) -> str:
    try:
        return str(ipaddress.ip_address(name))
    except ValueError:
        pass
    try:
        written = name.rstrip(".").lower().encode("idna").decode("ascii")
    except UnicodeError:
        raise RupexError(f"{whole}: {name!r} is no host name") from None
    labels = written.split(".")
    if not written or len(written) > 253 or any(_LABEL.fullmatch(label) is None for label in labels):
        raise RupexError(f"{whole}: {name!r} is no host name")
    return written


class UnresolvedError(Exception):
    """A name that has no address; ``str()`` says why, for a person."""


async def addresses_of(name: str, seconds: float) -> tuple[str, ...]:
    """The first IPv4 and the first IPv6 address of ``name``. Raises :class:`UnresolvedError`."""
    try:
        async with asyncio.timeout(seconds):
            found = await asyncio.get_running_loop().getaddrinfo(name, None, type=socket.SOCK_STREAM)
    except TimeoutError:
        raise UnresolvedError("no answer from the name servers") from None
    except (socket.gaierror, UnicodeError) as error:
        reason = error.strerror if isinstance(error, socket.gaierror) else "it is no host name"
        raise UnresolvedError(f"the name does not resolve ({reason})") from None
    firsts: dict[int, str] = {}
    for family, _, _, _, address in found:
        if family in (socket.AF_INET, socket.AF_INET6):
            firsts.setdefault(family, str(address[0]))
    return tuple(firsts[family] for family in (socket.AF_INET, socket.AF_INET6) if family in firsts)
