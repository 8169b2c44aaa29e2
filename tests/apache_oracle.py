"""The real httpd as judge, started on loopback with a case of a test's own.

A case is a small configuration with the requests to ask in its comments; ``# modules: headers rewrite`` names what it loads
beside the usual ones, ``# file srv/site/x: TEXT`` writes more files. ``SITE`` stands for the port of plain listeners.
"""

from __future__ import annotations

import os
import re
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path

from tests.oracle import Case, ServerError, _binary, _minted, openssl_version, request, running_upstream

_MOVED = re.compile(r"(?<=[\s\"'=(:])/(etc|srv)/")
_FILE = re.compile(r"^# file (\S+): (.*)$", re.MULTILINE)
_MODULES = re.compile(r"^# modules: (.*)$", re.MULTILINE)
_USUAL = ("mpm_event", "authz_core", "authz_host", "authn_core", "dir", "mime", "alias")


@cache
def apache_version() -> str:
    said = subprocess.run([_binary("apache2"), "-v"], capture_output=True, text=True, check=True).stdout
    found = re.search(r"Apache/(\d+\.\d+\.\d+)", said)
    assert found is not None, said
    return found[1]


def write_tree(root: Path, case: Case) -> None:
    """The case as a host tree in the layout of Debian."""
    etc = root / "etc/apache2"
    for folder in (
        etc,
        root / "etc/ssl/case",
        root / "srv/site/folder",
        root / "srv/site/files",
        root / "var/lib/dpkg",
    ):
        folder.mkdir(parents=True)
    for source in _minted()[1].iterdir():
        (root / "etc/ssl/case" / source.name).write_bytes(source.read_bytes())
    for path in ("index.html", "page.html", "404.html", "folder/index.html", "files/a.txt"):
        (root / "srv/site" / path).write_text("pier\n")
    (root / "var/lib/dpkg/status").write_text(
        f"Package: apache2\nStatus: install ok installed\nVersion: {apache_version()}-1\n\n"
        f"Package: libssl3\nStatus: install ok installed\nVersion: {openssl_version()}-1\n"
    )
    modules = [*_USUAL, *(name for line in _MODULES.findall(case.text) for name in line.split())]
    loads = "".join(
        f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so\n" for name in dict.fromkeys(modules)
    )
    (etc / "apache2.conf").write_text(
        f'ServerRoot "/etc/apache2"\n{loads}Include /etc/apache2/runtime.conf\nInclude /etc/apache2/case.conf\n'
    )
    (etc / "runtime.conf").write_text("ServerName main.test\nTypesConfig /etc/apache2/mime.types\n")
    (etc / "mime.types").write_text("text/html html\n")
    (etc / "case.conf").write_text(case.configuration)
    (etc / "logs").mkdir()
    for path, text in _FILE.findall(case.configuration):
        (root / path).parent.mkdir(parents=True, exist_ok=True)
        (root / path).write_text(text.replace("\\n", "\n") + "\n")


@contextmanager
def running_apache(case: Case, check: tuple[str, ...] = ()) -> Iterator[Path]:
    """The case's tree, while the real server runs a copy of it."""
    binary = _binary("apache2")
    with running_upstream(case), tempfile.TemporaryDirectory(prefix="rupex-oracle-") as scratch:
        tree, live = Path(scratch, "tree"), Path(scratch, "live")
        write_tree(tree, case)
        write_tree(live, case)
        for folder in (Path(scratch), live):
            folder.chmod(0o755)
        for path in [*(live / "etc/apache2").rglob("*"), *(live / "srv").rglob(".htaccess")]:
            if path.is_file():
                path.write_text(_MOVED.sub(rf"{live}/\1/", path.read_text()))
        runtime = live / "etc/apache2/runtime.conf"
        more = (
            f"PidFile {scratch}/pid\nErrorLog {scratch}/error.log\nMutex pthread default\nDefaultRuntimeDir {scratch}\n"
        )
        runtime.write_text(runtime.read_text() + more + "User www-data\nGroup www-data\n")
        command = [binary, "-d", str(live / "etc/apache2"), "-f", str(live / "etc/apache2/apache2.conf")]
        server = subprocess.Popen(
            [*command, "-DFOREGROUND"], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, env=_environment()
        )
        try:
            _await(server, case, Path(scratch, "error.log"))
            yield tree
        finally:
            server.terminate()
            server.wait(10)
            assert server.stderr is not None
            server.stderr.close()


def said_by_server(case: Case, *flags: str) -> str:
    """What the server says of the case's configuration without starting, with the paths of the tree."""
    with tempfile.TemporaryDirectory(prefix="rupex-oracle-") as scratch:
        live = Path(scratch, "live")
        write_tree(live, case)
        for path in (live / "etc/apache2").rglob("*"):
            if path.is_file():
                path.write_text(_MOVED.sub(rf"{live}/\1/", path.read_text()))
        command = [
            _binary("apache2"),
            "-d",
            str(live / "etc/apache2"),
            "-f",
            str(live / "etc/apache2/apache2.conf"),
            *flags,
        ]
        done = subprocess.run(command, capture_output=True, text=True, check=False, env=_environment())
        return (done.stdout + done.stderr).replace(f"{live}/", "/")


def _environment() -> dict[str, str]:
    return os.environ | {"LC_ALL": "C"}


def _await(server: subprocess.Popen[bytes], case: Case, log: Path) -> None:
    import socket

    until = time.monotonic() + 10
    ports = [
        port
        for mark, port in (("@plain@", case.plain), ("@secure@", case.secure))
        if f"Listen 127.0.0.1:{mark}" in case.text
    ]
    for port in ports:
        while True:
            try:
                socket.create_connection(("127.0.0.1", port), 1).close()
                break
            except OSError:
                if server.poll() is not None or time.monotonic() > until:
                    assert server.stderr is not None
                    said = server.stderr.read().decode() if server.poll() is not None else ""
                    said += log.read_text() if log.exists() else ""
                    raise ServerError(f"httpd did not start for {case.name}:\n{said}") from None
                time.sleep(0.02)


__all__ = ["apache_version", "request", "running_apache", "said_by_server"]
