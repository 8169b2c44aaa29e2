"""All benchmarks, each as a ratio against a yardstick measured in the same run. See docs/speed.md for what they aim at.

``python -m bench.run [SITES]``: the number of nginx sites, 10,000 when it is left out.
"""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from tests.peers import nginx

from bench.delay import Delayed
from bench.sites import write_apache_sites, write_sites, write_unlike_apache_sites, write_unlike_sites

RUPEX = str(Path(sys.executable).with_name("rupex"))
PLAIN = ("python3 -c pass", [sys.executable, "-c", "pass"])
START_RUNS = 15


def seconds(command: list[str], ok: tuple[int, ...] = (0,)) -> float:
    begun = time.perf_counter()
    done = subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, check=False)
    took = time.perf_counter() - begun
    if done.returncode not in ok:
        raise SystemExit(f"{command[0]} ended with {done.returncode}: {done.stderr.decode()[-400:]}")
    return took


def report(what: str, ours: float, yardstick: str, theirs: float, aim: float | None) -> None:
    ratio, words = ours / theirs, "no aim" if aim is None else f"aim {aim:g}"
    print(f"{what:<34} {ours:8.3f} s   {yardstick:<16} {theirs:8.3f} s   ratio {ratio:6.2f}   {words}", flush=True)


def bench_start(tree: Path) -> None:
    for what, command, aim in (
        ("rupex --version", [RUPEX, "--version"], 3),
        ("small audit", [RUPEX, "audit", str(tree)], 18),
    ):
        ours, theirs = [], []
        for _ in range(START_RUNS):
            ours.append(seconds(command))
            theirs.append(seconds(PLAIN[1]))
        report(what, statistics.median(ours), PLAIN[0], statistics.median(theirs), aim)


def measured(command: list[str]) -> tuple[float, float, int]:
    """Seconds that a command takes, MiB of the larger of its processes, and bytes that it writes."""
    begun = time.perf_counter()
    with tempfile.TemporaryFile() as output:
        process = subprocess.Popen(command, stdout=output)
        _, status, usage = os.wait4(process.pid, 0)
        took, size = time.perf_counter() - begun, os.fstat(output.fileno()).st_size
    if os.waitstatus_to_exitcode(status) not in (0, 3):
        raise SystemExit(f"{command[:2]} ended with {os.waitstatus_to_exitcode(status)}")
    return took, usage.ru_maxrss / 1024, size


def bench_sites(count: int, scratch: Path, write: Callable[[Path, int, str], None], what: str, aim: float) -> None:
    """``count`` nginx sites, as text and as JSON. nginx needs real paths: the same tree once more, moved below a folder."""
    tree, live = (scratch / f"{what.replace(' ', '-')}-{count}{kind}" for kind in ("", "-live"))
    write(tree, count, "")
    write(live, count, str(live))
    ours, memory, _ = measured([RUPEX, "audit", str(tree)])
    theirs = seconds(["/usr/sbin/nginx", "-t", "-c", str(live / "etc/nginx/nginx.conf")])
    report(f"audit of {count} {what}", ours, "nginx -t", theirs, aim)
    print(f"{'':<34} peak memory {memory:.0f} MiB (aim 1024), {1e6 * ours / count:.0f} µs a site", flush=True)
    took, memory, size = measured([RUPEX, "audit", str(tree), "--format", "json"])
    report("  as JSON", took, "as text", ours, 1.5)
    print(
        f"{'':<34} peak memory {memory:.0f} MiB (aim 1024), {size / 1e6:.0f} MB, {size / count / 1024:.1f} KiB a site (aim 10)"
    )


def bench_apache(
    count: int, scratch: Path, write: Callable[[Path, int, str], None], what: str, aim: float | None
) -> None:
    """``count`` sites of httpd, two virtual hosts each."""
    tree, live = (scratch / f"apache-{what.replace(' ', '-')}-{count}{kind}" for kind in ("", "-live"))
    write(tree, count, "")
    write(live, count, str(live))
    begun = time.perf_counter()
    process = subprocess.Popen([RUPEX, "audit", str(tree)], stdout=subprocess.DEVNULL)
    _, _, usage = os.wait4(process.pid, 0)
    ours = time.perf_counter() - begun
    theirs = seconds(["/usr/sbin/apache2", "-t", "-f", str(live / "etc/apache2/apache2.conf")])
    report(f"audit of {2 * count} {what}", ours, "apache2 -t", theirs, aim)
    print(
        f"{'':<34} peak memory {usage.ru_maxrss / 1024:.0f} MiB (aim 1024), {1e6 * ours / count:.0f} µs a site",
        flush=True,
    )


ROUND_TRIP = 0.1
REFERENCE = (
    "listen LISTEN ssl; server_name www.ternholm.test; ssl_certificate CRED/rsa.pem; ssl_certificate_key CRED/rsa.key;"
    " ssl_protocols TLSv1.2 TLSv1.3;"
)


def bench_credentials(tree: Path, count: int) -> None:
    """``rupex credential`` over ``count`` files, half of them keys, half of them certificates with their issuer."""
    files = sorted(map(str, (tree / "etc/ssl/sites").iterdir()))[:count]
    took = seconds([RUPEX, "credential", "--quiet", *files])
    print(f"{f'credential of {len(files)} files':<34} {took:8.1f} s (aim 20 for 10,000)", flush=True)


def bench_probe() -> None:
    """The reference listener behind a way of 100 ms: wall time in round trips, and connections."""
    with nginx(REFERENCE) as port:
        way = Delayed(port, ROUND_TRIP)
        command = [RUPEX, "probe", "www.ternholm.test", "--connect", f"127.0.0.1:{way.port}", "--format", "json"]
        begun = time.perf_counter()
        done = subprocess.run(command, capture_output=True, check=False)
        took = time.perf_counter() - begun
    wire = json.loads(done.stdout)["hosts"][0]["endpoints"][0]["wire"]
    pairs = sum(map(len, wire["suites"].values()))
    print(
        f"{'probe at 100 ms':<34} {wire['seconds'] / ROUND_TRIP:8.1f} round trips (aim 20; {took:.2f} s with start-up)\n"
        f"{'':<34} {way.connections} connections (aim {40 + pairs}: 40 and {pairs} pairs of version and suite)",
        flush=True,
    )


def bench_listeners(count: int) -> None:
    """``count`` listeners on loopback: time and memory against a tenth of them."""
    first = 20_000
    servers = "".join(
        f"server {{ {REFERENCE.replace('LISTEN', f'127.0.0.1:{first + number}')} }}\n" for number in range(count)
    )
    with nginx("listen LISTEN;", also=servers) as _, tempfile.TemporaryDirectory() as folder:
        seen = []
        for some in (count // 10, count):
            names = Path(folder, f"names{some}")
            names.write_text("".join(f"www{number}.ternholm.test:{first + number}\n" for number in range(some)))
            command = [RUPEX, "probe", "--names", str(names), "--connect", "127.0.0.1", "--quiet"]
            begun = time.perf_counter()
            process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
            _, _, usage = os.wait4(process.pid, 0)
            seen.append((some, time.perf_counter() - begun, usage.ru_maxrss / 1024))
    for some, took, memory in seen:
        print(f"{f'probe of {some} listeners':<34} {took:8.1f} s   {memory:6.0f} MiB", flush=True)


def main() -> None:
    # As installed: with its modules compiled once, which some build machines switch off.
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    with tempfile.TemporaryDirectory(prefix="rupex-bench-") as folder:
        small = Path(folder, "small")
        write_sites(small, 2)
        seconds([RUPEX, "audit", str(small)])  # the warm-up that compiles
        bench_start(small)
        bench_probe()
        bench_listeners(1000)
        for size in (count // 10, count):
            bench_sites(size, Path(folder), write_sites, "sites of a template", 0.25)
            bench_sites(size, Path(folder), write_unlike_sites, "unlike sites", 0.5)
        bench_credentials(Path(folder) / f"sites-of-a-template-{count}", count)
        for size in (count // 20, count // 2, count):
            bench_apache(size, Path(folder), write_apache_sites, "virtual hosts", 3)
            bench_apache(size, Path(folder), write_unlike_apache_sites, "unlike virtual hosts", None)


if __name__ == "__main__":
    main()
