"""The real Tomcat as judge: 10 from Debian's package, 9 from the libraries that Debian still carries; on loopback.

A case is a folder in ``tests/tomcat_cases``: files of CATALINA_BASE, and ``asks.txt`` with a request a line.
"""

from __future__ import annotations

import atexit
import os
import re
import shutil
import socket
import subprocess
import tempfile
import threading
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from functools import cache
from glob import glob
from pathlib import Path
from types import MappingProxyType

from tests.oracle import Case, ServerError, _binary, _minted

CASES = Path(__file__).parent / "tomcat_cases"


@cache
def tomcat_version(major: int) -> str:
    package = "tomcat10" if major == 10 else "libtomcat9-java"
    done = subprocess.run(["dpkg-query", "-W", "-f", "${Version}", package], capture_output=True, text=True, check=True)
    found = re.match(r"\d+\.\d+\.\d+", done.stdout)
    assert found is not None, done.stdout
    return found[0]


def java_security() -> Path:
    found = glob("/etc/java-*-openjdk/security/java.security")
    if not found:
        raise AssertionError("Java is needed for this test")
    return Path(found[0])


def read_cases() -> list[Case]:
    return [Case(folder.name, (folder / "asks.txt").read_text()) for folder in sorted(CASES.iterdir())]


def write_tree(root: Path, case: Case, major: int, more: Mapping[str, str] = MappingProxyType({})) -> Path:
    """The case as a host tree, with ``more`` files below its CATALINA_BASE, which is returned."""
    base = root / f"opt/tomcat{major}"
    shutil.copytree(CASES / case.name, base)
    for folder in ("conf", "webapps", "logs", "temp", "work"):
        (base / folder).mkdir(exist_ok=True)
    for name, text in more.items():
        (base / name).parent.mkdir(parents=True, exist_ok=True)
        (base / name).write_text(text)
    for source in _minted()[1].iterdir():
        (base / "conf" / source.name).write_bytes(source.read_bytes())
    store = [
        "openssl",
        "pkcs12",
        "-export",
        "-in",
        "rsa.pem",
        "-inkey",
        "rsa.key",
        "-out",
        "store.p12",
        "-passout",
        "pass:changeit",
    ]
    subprocess.run(store, cwd=base / "conf", check=True, capture_output=True)
    for path in base.rglob("*.xml"):
        ports = {"@plain@": case.plain, "@secure@": case.secure, "@shifted@": case.plain - 2}  # below an offset of two
        text = path.read_text()
        for word, port in ports.items():
            text = text.replace(word, str(port))
        path.write_text(text)
    package = "tomcat10" if major == 10 else "libtomcat9-java"
    (root / "var/lib/dpkg").mkdir(parents=True)
    (root / "var/lib/dpkg/status").write_text(
        f"Package: {package}\nStatus: install ok installed\nVersion: {tomcat_version(major)}-1\n"
    )
    security = root / java_security().relative_to("/")
    security.parent.mkdir(parents=True)
    shutil.copy(java_security(), security)
    return base


def jars_of(major: int) -> list[str]:
    """The libraries of Tomcat."""
    if major == 10:
        jars = [*glob("/usr/share/tomcat10/bin/*.jar"), *glob("/usr/share/tomcat10/lib/*.jar")]
    else:
        jars = [jar for jar in glob("/usr/share/java/tomcat9-*.jar") if not re.search(r"-9\.\d", jar)]
        jars += [
            jar
            for name in ("servlet-api", "jsp-api", "el-api", "annotations-api")
            for jar in glob(f"/usr/share/java/tomcat9-{name}.jar")
        ]
    if not jars:
        raise AssertionError(f"Tomcat {major} is needed for this test; 'make servers' as root installs it")
    return jars


NO_SCAN = "tomcat.util.scan.StandardJarScanFilter.jarsToSkip=*.jar\ncommon.loader=\nserver.loader=\nshared.loader=\n"
"""Tomcat's own settings: its libraries are on the class path, and none of them holds what it looks for at its start."""
_archives: dict[int, Path] = {}
_lock = threading.Lock()


@cache
def _archive_folder() -> Path:
    holder = tempfile.TemporaryDirectory(prefix="rupex-java-", ignore_cleanup_errors=True)
    atexit.register(holder.cleanup)
    return Path(holder.name)


def _sharing(major: int) -> str:
    """An option with which a Tomcat starts faster: the first one leaves an archive of its classes, which the others take."""
    with _lock:
        is_first = major not in _archives
        archive = _archives.setdefault(major, _archive_folder() / f"tomcat{major}.jsa")
    return f"-XX:{'ArchiveClassesAtExit' if is_first else 'SharedArchiveFile'}={archive}"


@contextmanager
def running_tomcat(case: Case, major: int = 10, more: Mapping[str, str] = MappingProxyType({})) -> Iterator[Path]:
    """The case's tree, while the real server runs a copy of it."""
    java = _binary("java")
    with tempfile.TemporaryDirectory(prefix="rupex-oracle-") as scratch:
        tree, live = Path(scratch, "tree"), Path(scratch, "live")
        write_tree(tree, case, major, more)
        base = write_tree(live, case, major, more)
        jars = jars_of(major)
        (base / "conf/catalina.properties").write_text(NO_SCAN)
        places = [f"-Dcatalina.base={base}", f"-Dcatalina.home={base}", f"-Djava.io.tmpdir={base}/temp"]
        command = [
            java,
            "-XX:TieredStopAtLevel=1",
            "-XX:+UseSerialGC",
            "-Xlog:disable",
            _sharing(major),
            "-cp",
            ":".join(jars),
            *places,
            "org.apache.catalina.startup.Bootstrap",
            "start",
        ]
        log = open(Path(scratch, "log"), "wb")  # noqa: SIM115  closed below
        server = subprocess.Popen(command, stdout=log, stderr=log, env=os.environ | {"LC_ALL": "C"})
        try:
            _await(server, case, base, Path(scratch, "log"))
            yield tree
        finally:
            server.terminate()
            server.wait(20)
            log.close()


def _await(server: subprocess.Popen[bytes], case: Case, base: Path, log: Path) -> None:
    text = (base / "conf/server.xml").read_text()
    ports = [port for port in (case.plain, case.secure) if f' port="{port}"' in text]
    until = time.monotonic() + 40
    for port in ports:
        while True:
            try:
                socket.create_connection(("127.0.0.1", port), 1).close()
                break
            except OSError:
                if server.poll() is not None or time.monotonic() > until:
                    raise ServerError(f"Tomcat did not start for {case.name}:\n{log.read_text()[-3000:]}") from None
                time.sleep(0.05)
    while "Server startup in" not in log.read_text() and time.monotonic() < until:
        time.sleep(0.05)
