"""A network of its own, in which a host with a packet filter is asked by a stranger and by an address that its rules know.

Run by ``unshare --net python -m tests.strangers`` (it needs root): reads cases as JSON, ``[{"load": [program…], "text": …}]``,
from standard input, loads each into the kernel, and writes, for each, whom it lets connect, by port.
"""

from __future__ import annotations

import json
import socket
import subprocess
import sys
import time

HOST, STRANGER, FAVOURED = "198.51.100.1", "198.51.100.2", "192.0.2.7"
PORTS = (22, 80, 443, 8080, 8443)


def run(*words: str, text: str | None = None) -> None:
    done = subprocess.run(words, input=text, text=True, capture_output=True, check=False)
    if done.returncode != 0:
        raise SystemExit(f"{' '.join(words)}: {done.stderr}\n{text or ''}")


ASK = f"""
import socket, sys, json
seen = {{}}
for source in {(STRANGER, FAVOURED)!r}:
    waiting = []
    for port in {PORTS!r}:
        s = socket.socket(); s.settimeout(0.25); s.bind((source, 0))
        s.setblocking(False); s.connect_ex(({HOST!r}, port)); waiting.append((port, s))
    import select, time
    end = time.monotonic() + 0.25
    done = set()
    while time.monotonic() < end and len(done) < len(waiting):
        _, ready, _ = select.select([], [s for p, s in waiting if p not in done], [], 0.05)
        done |= {{p for p, s in waiting if s in ready}}
    for port, s in waiting:
        ok = port in done and s.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR) == 0
        seen.setdefault(port, []).append(ok); s.close()
print(json.dumps({{p: "open" if a else "limited" if b else "closed" for p, (a, b) in seen.items()}}))
"""


def main() -> None:
    cases = json.load(sys.stdin)
    outside = subprocess.Popen(["unshare", "--net", "sleep", "300"])
    try:
        time.sleep(0.2)  # until it has left this network
        inside = ("nsenter", "--target", str(outside.pid), "--net")
        run("ip", "link", "set", "lo", "up")
        run("ip", "link", "add", "eth0", "type", "veth", "peer", "name", "eth1")
        run("ip", "link", "set", "eth1", "netns", str(outside.pid))
        run("ip", "address", "add", f"{HOST}/24", "dev", "eth0")
        run("ip", "link", "set", "eth0", "up")
        run(*inside, "ip", "address", "add", f"{STRANGER}/24", "dev", "eth1")
        run(*inside, "ip", "address", "add", f"{FAVOURED}/32", "dev", "eth1")
        run(*inside, "ip", "link", "set", "eth1", "up")
        run("ip", "route", "add", f"{FAVOURED}/32", "dev", "eth0")
        listeners = [socket.create_server(("0.0.0.0", port)) for port in PORTS]
        found = []
        for case in cases:
            run("nft", "flush", "ruleset")
            run(*case["load"], text=case["text"])
            done = subprocess.run([*inside, sys.executable, "-c", ASK], capture_output=True, text=True, check=True)
            found.append(json.loads(done.stdout))
        json.dump(found, sys.stdout)
        for listener in listeners:
            listener.close()
    finally:
        outside.kill()


if __name__ == "__main__":
    main()
