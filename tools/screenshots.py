"""Renders docs/screenshots/ from the demo data: each main command in a real terminal window of about 1280x800, pages in a
browser, and figures as they are drawn."""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
import tempfile
import time
from contextlib import ExitStack
from pathlib import Path

from rupex.demo.listeners import simulated_listeners
from rupex.demo.scenario import build_scenario

FOLDER = Path(__file__).parent.parent / "docs/screenshots"
COLUMNS, ROWS = 100, 42
AT = "--now 2026-11-24T09:30:00Z"

# Picture to the command it shows ("hosts" is the folder with the demo's host trees) and to the part of a long output.
PICTURES = {
    "audit": (f"rupex audit hosts/booking {AT}", "head -n 40"),
    "audit-score": (f"rupex audit hosts/booking {AT}", "tail -n 39"),
    "probe": (f"rupex probe booking.ternholm.test --connect 127.0.0.1:LISTENER {AT}", "head -n 40"),
    "demo": ("rupex demo", "head -n 40"),
    "effective-url": ("rupex effective hosts/booking --url https://booking.ternholm.test/tickets/7", "head -n 40"),
    "effective-line": ("rupex effective hosts/booking --line etc/nginx/sites-available/booking:24", "head -n 40"),
    "suites": ("rupex suites 'HIGH:!aNULL:!kRSA:!SHA1' --assume openssl=1.1.1", "head -n 40"),
    "credential": (f"cd hosts/booking/etc/ssl/ternholm && rupex credential *.pem *.key {AT}", "tail -n 40"),
    "apache-url": ("rupex effective hosts/timetable --url https://timetable.ternholm.test/", "head -n 40"),
    "tomcat": ("rupex audit hosts/freight --now 2026-11-24T09:30:00Z", "head -n 40"),
    "collect": ("rupex collect --root hosts/booking --list", "head -n 44"),
    "control-show": ("rupex control show header.hsts", "head -n 40"),
    "compare": ("cd demo && rupex compare before.json after.json", "head -n 40"),
    "fleet": (f"cd demo && rupex fleet after.toml --baseline ternholm.toml --waivers waivers.toml {AT}", "head -n 42"),
}
# Picture to the page it shows, and how far down.
PAGES = {
    "page-host": ("booking.html", "h0-booking"),
    "page-finding": ("booking.html", "finding"),
    "page-fleet": ("demo/report.html", ""),
}
FIGURES = {"figure-scores": "demo/figures/scores.png", "figure-lost": "demo/figures/lost-points.png"}
BROWSER = ("chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking"
           " --disable-component-update --disable-sync --hide-scrollbars --window-size=1280,800").split()  # fmt: skip


def take(name: str, command: str, part: str, screen: str, folder: Path) -> None:
    """Run ``command`` in a terminal window on ``screen`` and write the picture of ``part`` of its output."""
    with tempfile.TemporaryDirectory(prefix="rupex-shot-") as scratch:
        done, script = Path(scratch, "done"), Path(scratch, "shot.sh")
        # Its output goes through a terminal of its own, so that it is coloured though only a part is shown.
        script.write_text(
            f"printf '%s\\n' {shlex.quote('$ ' + command)}\n"
            f"script -qefc {shlex.quote(command)} /dev/null | {part}\n"
            f"touch {done}\nsleep 60\n"
        )
        size = f"{COLUMNS}x{ROWS}+0+0"
        look = ["-fa", "DejaVu Sans Mono", "-fs", "12", "-bg", "#fbfaf7", "-fg", "#22262a", "-b", "12", "+sb"]
        environment = os.environ | {"DISPLAY": screen, "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}"}
        window = subprocess.Popen(
            ["xterm", "-geometry", size, *look, "-e", "sh", str(script)], env=environment, cwd=folder
        )
        try:
            until = time.monotonic() + 30
            while not done.exists() and time.monotonic() < until:
                time.sleep(0.1)
            if not done.exists():
                raise SystemExit(f"{name}: the command did not end")
            time.sleep(0.5)
            raw = Path(scratch, "shot.png")
            subprocess.run(["import", "-window", "root", str(raw)], env=environment, check=True)
            (FOLDER / f"{name}.png").write_bytes(raw.read_bytes())
        finally:
            window.terminate()
            window.wait(10)


def take_page(name: str, page: str, part: str, folder: Path) -> None:
    """Write the picture of ``page`` in a browser; of its findings, where ``part`` says so."""
    source = folder / page
    if part == "finding":  # from the first finding with an excerpt on
        text = source.read_text()
        start = text.rindex("<details", 0, text.index('class="excerpt"'))
        head = text[: text.index("<main")]
        source = folder / "finding.html"
        source.write_text(f"{head}<main><section class='host' data-host='booking'>{text[start:]}")
    with tempfile.TemporaryDirectory(prefix="rupex-browser-") as profile:
        subprocess.run(
            [*BROWSER, f"--user-data-dir={profile}", f"--screenshot={FOLDER / name}.png", source.as_uri()],
            check=True, capture_output=True,
        )  # fmt: skip


def main() -> None:
    FOLDER.mkdir(parents=True, exist_ok=True)
    wanted = sys.argv[1:] or [*PICTURES, *PAGES, *FIGURES]
    number = 90 + os.getpid() % 100
    screen = subprocess.Popen(["Xvfb", f":{number}", "-screen", "0", "1036x810x24", "-nolisten", "tcp"])
    try:
        time.sleep(1)
        with tempfile.TemporaryDirectory(prefix="rupex-demo-") as folder, ExitStack() as stack:
            build_scenario(Path(folder, "hosts"))
            rupex = str(Path(sys.executable).with_name("rupex"))
            for words in ("demo --keep demo", f"audit hosts/booking {AT} --output booking.html"):
                subprocess.run([rupex, *words.split()], cwd=folder, check=True, stdout=subprocess.DEVNULL)
            before, *_ = stack.enter_context(simulated_listeners(Path(folder)))
            for name in wanted:
                if name in PAGES:
                    take_page(name, *PAGES[name], Path(folder))
                elif name in FIGURES:
                    (FOLDER / f"{name}.png").write_bytes(Path(folder, FIGURES[name]).read_bytes())
                else:
                    command, part = PICTURES[name]
                    command = command.replace("LISTENER", str(before.ports[443]))
                    take(name, command, part, f":{number}", Path(folder))
                print(FOLDER / f"{name}.png")
    finally:
        screen.terminate()
        screen.wait(10)


if __name__ == "__main__":
    main()
