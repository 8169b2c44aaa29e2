"""Whom packet filters let connect: what is predicted from their rules, held against the kernel that has them loaded."""

from __future__ import annotations

import contextlib
import json
import os
import random
import subprocess
import sys
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any

from hypothesis import example, given
from hypothesis import strategies as st

from rupex.host import open_tree
from rupex.host.facts.firewall import find_firewall
from rupex.host.facts.firewall.iptables import parse_iptables
from rupex.host.facts.firewall.nft import NftError, parse_nft
from rupex.host.facts.firewall.rules import Ruleset, way_to
from rupex.host.facts.sockets import find_listening
from tests.strangers import PORTS
from tests.support import TreeTest

NFT = ["nft", "-f", "-"]
IPTABLES = ["iptables-restore"]
WORDS = ("table ", "chain ", "tcp dport ", "accept", "type filter hook input ", "vmap ", "ct state ", "443", "jump ")
INPUT = "type filter hook input priority 0; policy {policy};"

CASES = Path(__file__).parent / "firewall_cases"


def random_nft(chance: random.Random) -> str:
    conditions = (
        *("", "ip saddr 192.0.2.0/24", "ip saddr != 192.0.2.7", "ct state new", "ct state established"),
        *('iifname "lo"', 'iifname != "lo"', "meta l4proto tcp"),
    )
    verdicts = ("accept", "drop", "reject", "return", "counter")

    def rule(*more: str) -> str:
        condition, verdict = chance.choice(conditions), chance.choice((*verdicts, *more))
        if condition.endswith("established"):
            verdict = "accept"  # a filter that refuses what goes on after a first packet was let in is no case of this
        ports = ", ".join(map(str, sorted(chance.sample(PORTS, 2))))
        port = chance.choice(("", f"tcp dport {{ {ports} }}", f"tcp dport != {chance.choice(PORTS)}"))
        return f"  {condition} {port} {verdict}\n"

    one = "".join(rule() for _ in range(chance.randint(1, 3)))
    base = "".join(rule("jump one") for _ in range(chance.randint(1, 5)))
    head = INPUT.format(policy=chance.choice(("accept", "drop")))
    return f"table inet f {{\n chain one {{\n{one} }}\n chain i {{\n  {head}\n{base} }}\n}}\n"


def random_iptables(chance: random.Random) -> str:
    conditions = (
        "",
        "-s 192.0.2.0/24",
        "! -s 192.0.2.7",
        "-m conntrack --ctstate NEW",
        "-m state --state ESTABLISHED",
        "-i lo",
        "! -i lo",
    )

    def rule(chain: str) -> str:
        port = chance.choice(("", f"-p tcp --dport {chance.choice(PORTS)}", f"-p tcp ! --dport {chance.choice(PORTS)}",
                              f"-p tcp -m multiport --dports {','.join(map(str, chance.sample(PORTS, 3)))}"))  # fmt: skip
        condition = chance.choice(conditions)
        verdict = chance.choice(("ACCEPT", "DROP", "RETURN") + (("ONE",) if chain == "INPUT" else ()))
        if condition.endswith("ESTABLISHED"):
            verdict = "ACCEPT"
        return f"-A {chain} {condition} {port} -j {verdict}\n"

    rules = "".join(rule(chance.choice(("ONE", "INPUT"))) for _ in range(chance.randint(2, 7)))
    return f"*filter\n:INPUT {chance.choice(('ACCEPT', 'DROP'))} [0:0]\n:ONE - [0:0]\n{rules}COMMIT\n"


def seen_by_kernel(cases: list[dict[str, Any]]) -> list[dict[str, str]]:
    done = subprocess.run(
        ["unshare", "--net", sys.executable, "-m", "tests.strangers"],
        input=json.dumps(cases), text=True, capture_output=True, check=False, cwd=Path(__file__).parent.parent, timeout=300,
    )  # fmt: skip
    if done.returncode != 0:
        raise AssertionError(done.stderr)
    found: list[dict[str, str]] = json.loads(done.stdout)
    return found


@unittest.skipUnless(os.geteuid() == 0, "only root can make a network of its own")
class FirewallAgainstKernelTest(unittest.TestCase):
    def compare(self, cases: dict[str, str], load: list[str], parse: Callable[[str, str], Ruleset]) -> None:
        self.assertGreater(len(cases), 30)
        seen = seen_by_kernel([{"load": load, "text": text} for text in cases.values()])
        for (name, text), kernels in zip(cases.items(), seen, strict=True):
            ruleset = parse("rules", text)
            with self.subTest(name, text=text):
                self.assertEqual({str(port): way.reach for port in PORTS if (way := way_to(ruleset, port))}, kernels)

    def test_nftables(self) -> None:
        cases = {f"{file.stem}, else {policy}": file.read_text().replace("policy drop", f"policy {policy}")
                 for file in sorted(CASES.glob("*.nft")) for policy in ("accept", "drop")}  # fmt: skip
        cases |= {f"random {seed}": random_nft(random.Random(seed)) for seed in range(24)}
        self.compare(cases, NFT, parse_nft)

    def test_iptables(self) -> None:
        cases = {file.stem: file.read_text() for file in sorted(CASES.glob("*.rules"))}
        cases |= {f"random {seed}": random_iptables(random.Random(seed)) for seed in range(24)}
        self.compare(cases, IPTABLES, parse_iptables)


class FirewallFormsTest(TreeTest):
    def reach(self, *ports: int) -> dict[int, str | None] | None:
        found = find_firewall(open_tree(self.root).tree)
        if found is None or found.value is None:
            return None
        return {port: found.value.reach(port).value for port in sorted(ports)}

    def test_ufw_counts_where_it_is_enabled(self) -> None:
        rules = "*filter\n:ufw-user-input - [0:0]\n### tuple ###\n-A ufw-user-input -p tcp --dport 443 -j ACCEPT\n"
        rules += "-A ufw-user-input -p tcp -s 192.0.2.0/24 --dport 22 -j ACCEPT\nCOMMIT\n"
        self.write(
            {
                "etc/ufw/user.rules": rules,
                "etc/default/ufw": 'DEFAULT_INPUT_POLICY="DROP"\n',
                "etc/ufw/ufw.conf": "ENABLED=yes\n",
            }
        )
        self.assertEqual(self.reach(443, 80, 22), {22: "limited", 80: "closed", 443: "open"})
        self.write({"etc/ufw/ufw.conf": "ENABLED=no\n"})
        self.assertIsNone(self.reach(443))

    def test_firewalld_lets_in_what_its_default_zone_names(self) -> None:
        zone = (
            '<zone><service name="https"/><service name="ferry"/>'
            '<port protocol="tcp" port="8000-8100"/><port protocol="udp" port="53"/>'
            '<rule family="ipv4"><source address="192.0.2.0/24"/><port protocol="tcp" port="22"/><accept/></rule></zone>'
        )
        self.write({
            "etc/firewalld/firewalld.conf": "DefaultZone=web\n", "etc/firewalld/zones/web.xml": zone,
            "etc/firewalld/services/ferry.xml": '<service><port protocol="tcp" port="9443"/></service>',
        })  # fmt: skip
        self.assertEqual(
            self.reach(443, 80, 22, 8080, 53, 9443),
            {22: "limited", 53: "closed", 80: "closed", 443: "open", 8080: "open", 9443: "open"},
        )
        self.write(
            {"etc/firewalld/zones/web.xml": '<!DOCTYPE z [<!ENTITY x SYSTEM "file:///etc/passwd">]><zone>&x;</zo'}
        )
        self.assertIsNone(self.reach(443))

    def test_a_filter_that_nothing_starts_is_none(self) -> None:
        self.write(
            {"etc/nftables.conf": "table inet f { chain i { type filter hook input priority 0; policy drop; } }\n"}
        )
        self.assertEqual(self.reach(443), {443: "closed"})
        (self.root / "etc/systemd/system/sysinit.target.wants").mkdir(parents=True)
        self.assertIsNone(self.reach(443))
        self.write({"etc/systemd/system/sysinit.target.wants/nftables.service": ""})
        self.assertEqual(self.reach(443), {443: "closed"})

    def test_what_cannot_be_read_is_unknown_and_not_open(self) -> None:
        self.write({"etc/nftables.conf": "add rule inet f i tcp dport 443 drop\n"})
        found = find_firewall(open_tree(self.root).tree)
        assert found is not None
        self.assertIn("line 1", found.why_unknown)
        ruleset = parse_nft(
            "x",
            "table inet f { chain i { type filter hook input priority 0; policy drop; numgen random mod 2 0 accept; } }",
        )
        way = way_to(ruleset, 443)
        assert way is not None
        self.assertEqual((way.reach, way.provenance.line), ("unknown", 1))

    def test_listening_sockets_are_read_from_the_kernels_tables(self) -> None:
        head = "  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode\n"
        row = "   {}: {}:{} 00000000:0000 {} 00000000:00000000 00:00000000 00000000     0        0 12345 1\n".format
        four = (row(0, "0100007F", "1F90", "0A"), row(1, "00000000", "01BB", "0A"), row(2, "0100007F", "0050", "01"))
        six = (row(0, "0" * 24 + "01000000", "0016", "0A"), row(1, "B80D0120" + "0" * 16 + "010000AA", "0019", "0A"))
        self.write({"proc/net/tcp": head + "".join(four), "proc/net/tcp6": head + "".join(six)})
        found = find_listening(open_tree(self.root).tree) or ()
        said = [(one.address, one.port) for one in found]
        self.assertEqual(said, [("::1", 22), ("2001:db8::aa00:1", 25), ("0.0.0.0", 443), ("127.0.0.1", 8080)])

    def test_the_control_sees_closed_sites_open_ones_and_back_ends_that_strangers_reach(self) -> None:
        listening = "   0: 00000000:1F90 00000000:0000 0A 0\n"
        for port, rules, verdict, words in (
            ("443 ssl", "tcp dport 443 accept", "pass", ""),
            ("443 ssl", "tcp dport 80 accept", "fail", "lets nobody in"),
            ("443 ssl", "ip saddr 192.0.2.0/24 tcp dport 443 accept", "unknown", "depends on the source"),
            ("443 ssl", "tcp dport { 443, 8080 } accept", "fail", "back end at 8080"),
            ("80", "tcp dport 80 accept", "fail", "served in clear"),
        ):
            with self.subTest(port=port, rules=rules):
                self.write_nginx(f"server {{ listen {port}; location / {{ proxy_pass http://127.0.0.1:8080; }} }}")
                head = INPUT.format(policy="drop")
                self.write(
                    {
                        "etc/nftables.conf": f"table inet f {{ chain i {{ {head} {rules}\n }} }}\n",
                        "proc/net/tcp": listening,
                    }
                )
                check = self.check("surface.firewall")
                self.assertEqual(check.verdict, verdict)
                self.assertIn(words, check.places[0].message)
        (self.root / "etc/nftables.conf").unlink()
        self.write({"proc/net/tcp": ""})
        self.assertEqual(self.check("surface.firewall").verdict, "pass", "nothing else listens")
        (self.root / "proc/net/tcp").unlink()
        self.assertEqual(self.check("surface.firewall").verdict, "exempt")

    @given(st.lists(st.sampled_from((*'{};,:\n "@$!=-', *WORDS)), max_size=40).map("".join))
    @example("table {")
    @example("table ip x { set y; }")
    @example("table ip x { chain y { type filter hook } }")
    def test_any_text_ends_in_rules_or_the_documented_error(self, text: str) -> None:
        with contextlib.suppress(NftError):
            way_to(parse_nft("x", text), 443)
        way_to(parse_iptables("x", f"*filter\n:INPUT DROP\n-A INPUT {text}"), 443)
