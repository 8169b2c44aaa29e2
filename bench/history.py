"""500 runs of 100 hosts: what writing one takes, and what trend and compare take then. ``python -m bench.history``."""

from __future__ import annotations

import subprocess
import tempfile
import time
from datetime import datetime, timedelta
from pathlib import Path

from msgspec import structs

from bench.run import RUPEX, seconds
from bench.sites import write_sites
from rupex.history import History
from rupex.reports.read import decode_run

RUNS, HOSTS = 500, 100


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="rupex-bench-") as folder:
        tree = Path(folder, "host")
        write_sites(tree, 3)
        done = subprocess.run([RUPEX, "audit", str(tree), "--format", "json"], capture_output=True, check=False)
        run = decode_run(done.stdout, "run")
        hosts = tuple(structs.replace(run.hosts[0], name=f"host{number}") for number in range(HOSTS))
        file = f"{folder}/history.sqlite"
        history = History(file)
        took = []
        for number in range(RUNS):
            day = datetime(2025, 1, 1) + timedelta(days=number)
            one = structs.replace(run, hosts=hosts, started=day.strftime("%Y-%m-%dT%H:%M:%SZ"))
            begun = time.perf_counter()
            history.add(one)
            took.append(time.perf_counter() - begun)
        history.close()
        size = Path(file).stat().st_size
        print(f"writing one run of {HOSTS} hosts: first ten {sum(took[1:11]) / 10:.3f} s, last ten {sum(took[-10:]) / 10:.3f} s;"
              f" {size / RUNS / 1024:.0f} KiB a run")  # fmt: skip
        for what, command in (
            ("trend of the fleet", ["trend"]), ("trend of a host", ["trend", "--host", "host7"]),
            ("trend of a control", ["trend", "--control", "key.mode"]),
            ("compare", ["compare", "run:last-1", "run:last", "--quiet"]),
        ):  # fmt: skip
            print(f"{what:<20} {seconds([RUPEX, *command, '--history', file]):.2f} s (aim 1)", flush=True)


if __name__ == "__main__":
    main()
