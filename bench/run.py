"""All benchmarks, each as a ratio against a yardstick measured in the same run. See docs/speed.md for what they aim at.

``python -m bench.run [SITES]``: the number of nginx sites, 10,000 when it is left out.
"""

from __future__ import annotations

import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.sites import write_sites

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


def report(what: str, ours: float, yardstick: str, theirs: float, aim: float) -> None:
    ratio = ours / theirs
    print(f"{what:<34} {ours:8.3f} s   {yardstick:<16} {theirs:8.3f} s   ratio {ratio:6.2f}   aim {aim:g}", flush=True)


def bench_start(tree: Path) -> None:
    for what, command, aim in (
        ("rupex --version", [RUPEX, "--version"], 3),
        ("small audit", [RUPEX, "audit", str(tree)], 20),
    ):
        ours, theirs = [], []
        for _ in range(START_RUNS):
            ours.append(seconds(command))
            theirs.append(seconds(PLAIN[1]))
        report(what, statistics.median(ours), PLAIN[0], statistics.median(theirs), aim)


def bench_sites(count: int, scratch: Path) -> None:
    tree = scratch / f"sites-{count}"
    write_sites(tree, count)
    # nginx needs real paths: the same tree once more, its absolute paths moved below the folder.
    live = scratch / f"live-{count}"
    write_sites(live, count, str(live))
    before = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss
    ours = seconds([RUPEX, "audit", str(tree), "--quiet"])
    peak = max(before, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)
    theirs = seconds(["/usr/sbin/nginx", "-t", "-c", str(live / "etc/nginx/nginx.conf")])
    report(f"audit of {count} nginx sites", ours, "nginx -t", theirs, 0.25)
    print(f"{'':<34} peak memory {peak / 1024:.0f} MiB (aim 1024), {1e6 * ours / count:.0f} µs a site", flush=True)


def main() -> None:
    # As installed: with its modules compiled once, which some build machines switch off.
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    with tempfile.TemporaryDirectory(prefix="rupex-bench-") as folder:
        small = Path(folder, "small")
        write_sites(small, 2)
        seconds([RUPEX, "audit", str(small)])  # the warm-up that compiles
        bench_start(small)
        for size in (count // 10, count):
            bench_sites(size, Path(folder))


if __name__ == "__main__":
    main()
