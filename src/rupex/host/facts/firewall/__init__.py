"""The packet filters of a host tree: which of them are in force, and what they do to a new connection to a port.

Read are, in this order, the rules that a snapshot took from the kernel itself, else the settings from which the host's
services load them: nftables, iptables (netfilter-persistent, sysconfig), ufw, firewalld. All that are in force count.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Final

from rupex.host.facts.firewall.firewalld import parse_zone
from rupex.host.facts.firewall.iptables import parse_iptables
from rupex.host.facts.firewall.nft import NftError, parse_nft
from rupex.host.facts.firewall.rules import Chain, Ruleset, Way, edges, narrowest, way_to
from rupex.host.tree.host_tree import HostTree, TreeError
from rupex.host.tree.paths import normalize_path
from rupex.host.tree.snapshot_tables import IPTABLES_RULES, NFT_RULES
from rupex.model import Firewall, PortRange, Provenance, Setting, bounds, unknown

MOST_RANGES: Final = 1_000
"""Each is worked out by a walk through all rules; a machine that offers services has dozens."""

_UNIT_FOLDERS: Final = ("etc/systemd/system/sysinit.target.wants", "etc/systemd/system/multi-user.target.wants",
                        "etc/systemd/system/basic.target.wants", "etc/systemd/system/network-pre.target.wants")  # fmt: skip
_NFT_FILES: Final = ("etc/nftables.conf", "etc/sysconfig/nftables.conf")
_IPTABLES_FILES: Final = (
    ("etc/iptables/rules.v4", ("netfilter-persistent.service", "iptables.service")),
    ("etc/sysconfig/iptables", ("iptables.service",)),
)


def find_firewall(tree: HostTree) -> Setting[Firewall] | None:
    """What the host's packet filters do to new TCP connections, by port; None where the tree has no word of any, unknown
    where one is in force that cannot be read."""
    try:
        named = _in_force(tree)
    except (TreeError, NftError) as error:
        return unknown(f"the packet filter cannot be read: {error}")
    if not named:
        return None
    starts = sorted({0, *(edge for _, ruleset in named for edge in edges(ruleset))})
    if len(starts) > MOST_RANGES:
        return unknown(f"the packet filter tells more than {MOST_RANGES} ranges of ports apart")
    ranges = []
    for first, end in zip(starts, (*starts[1:], 1 << 16), strict=True):
        ways = [way for _, ruleset in named if (way := way_to(ruleset, first)) is not None]
        way = narrowest(ways) if ways else Way("open", Provenance("default", note="no chain filters what comes in"))
        ranges.append(PortRange(first, end - 1, Setting(way.reach, way.provenance)))
    return Setting(Firewall(", ".join(dict.fromkeys(name for name, _ in named)), tuple(ranges)))


def _in_force(tree: HostTree) -> list[tuple[str, Ruleset]]:
    rulesets = [
        (name, read(path, text))
        for path, name, read in ((NFT_RULES, "nftables", parse_nft), (IPTABLES_RULES, "iptables", parse_iptables))
        if (text := _text(tree, path))
    ]
    if rulesets:
        return rulesets
    found: list[tuple[str, Ruleset]] = []
    for path in _NFT_FILES:
        if (text := _text(tree, path)) and _is_enabled(tree, "nftables.service"):
            found.append(("nftables", parse_nft(path, text, _including(tree))))
    for path, units in _IPTABLES_FILES:
        if (text := _text(tree, path)) and _is_enabled(tree, *units):
            found.append(("iptables", parse_iptables(path, text)))
    found += [("ufw", ruleset) for ruleset in _ufw(tree)]
    found += [("firewalld", ruleset) for ruleset in _firewalld(tree)]
    return found


def _is_enabled(tree: HostTree, *units: str) -> bool:
    """Whether one of the units is started; where the tree does not hold the folders that tell, a file is taken at its word."""
    folders = [folder for folder in _UNIT_FOLDERS if tree.is_folder(folder)]
    if not folders:
        return True
    names = {name for folder in folders for name in _names(tree, folder)}
    return any(unit in names for unit in units)


def _including(tree: HostTree) -> Callable[[str], Iterator[tuple[str, str]]]:
    def include(pattern: str) -> Iterator[tuple[str, str]]:
        path = normalize_path(pattern if pattern.startswith("/") else f"etc/{pattern}")
        for found in tree.glob(path):
            yield found, tree.read(found, bounds.FIREWALL_BYTES).decode("utf-8", "replace")

    return include


def _ufw(tree: HostTree) -> Iterator[Ruleset]:
    """ufw(8): the user's rules, and behind them the policy of ``etc/default/ufw``; nothing where it is not enabled."""
    state = _assignments(_text(tree, "etc/ufw/ufw.conf"))
    if state.get("ENABLED", "no").lower() != "yes":
        return
    path = "etc/ufw/user.rules"
    user = parse_iptables(path, _text(tree, path))
    chain = user.chains.get("ufw-user-input", Chain(()))
    lets_in = _assignments(_text(tree, "etc/default/ufw")).get("DEFAULT_INPUT_POLICY", "DROP").upper() == "ACCEPT"
    place = Provenance("explicit", "etc/default/ufw")
    hook = Chain(chain.rules, "accept" if lets_in else "drop", place)
    yield Ruleset({**user.chains, "ufw-user-input": hook}, ("ufw-user-input",))


def _firewalld(tree: HostTree) -> Iterator[Ruleset]:
    settings = _text(tree, "etc/firewalld/firewalld.conf")
    if not settings or not _is_enabled(tree, "firewalld.service"):
        return
    zone = _assignments(settings).get("DefaultZone", "public")

    def service(name: str) -> bytes | None:
        paths = (f"{folder}/firewalld/services/{name}.xml" for folder in ("etc", "usr/lib"))
        return next((content for path in paths if (content := _bytes(tree, path))), None)

    for folder in ("etc", "usr/lib"):
        path = f"{folder}/firewalld/zones/{zone}.xml"
        ruleset = parse_zone(path, _bytes(tree, path), service)
        if ruleset is not None:
            yield ruleset
            return
    raise TreeError("missing", f"etc/firewalld/zones/{zone}.xml", "the default zone is not in the tree")


def _assignments(text: str) -> dict[str, str]:
    """``NAME=value`` lines; quotes taken off."""
    pairs = (line.partition("=") for line in text.splitlines() if "=" in line and not line.lstrip().startswith("#"))
    return {name.strip(): value.strip().strip("\"'") for name, _, value in pairs}


def _bytes(tree: HostTree, path: str) -> bytes:
    try:
        return tree.read(path, bounds.FIREWALL_BYTES)
    except TreeError as error:
        if error.kind == "missing":
            return b""
        raise


def _text(tree: HostTree, path: str) -> str:
    return _bytes(tree, path).decode("utf-8", "replace")


def _names(tree: HostTree, folder: str) -> list[str]:
    try:
        return tree.names_in(tree.real(folder))
    except TreeError:
        return []
