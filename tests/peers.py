"""Real TLS servers on loopback, each told exactly what to offer, and certificates made for the test.

A server that is not installed fails the test: it does not skip. Old Node.js binaries (OpenSSL 1.0.0 and 1.0.2) and the
rest are put in place by ``tools/install-servers.sh`` and the ``dev`` extra.
"""

from __future__ import annotations

import atexit
import json
import os
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from functools import cache
from pathlib import Path
from shutil import which
from typing import Any

from rupex.demo.listeners import listening
from rupex.demo.mint import Authority, new_key, write_chain, write_key
from tests.oracle import ServerError, free_port

NAME = "www.ternholm.test"
PEERS = Path(sys.executable).parent.parent / "peers"

NODE = """
var tls = require('tls'), fs = require('fs'), options = JSON.parse(process.argv[2]);
options.key = fs.readFileSync(options.key);
options.cert = fs.readFileSync(options.cert);
process.on('uncaughtException', function () {});
tls.createServer(options, function (peer) {
  peer.on('error', function () {});
  peer.end('HTTP/1.0 200 OK\\r\\nServer: pier\\r\\n\\r\\nhello');
}).listen(+process.argv[3], '127.0.0.1');
"""

JAVA = """
import java.io.*; import java.net.*; import java.security.KeyStore; import javax.net.ssl.*;
public class Peer {
  public static void main(String[] told) throws Exception {
    KeyStore store = KeyStore.getInstance("PKCS12");
    store.load(new FileInputStream(told[0]), "made-up".toCharArray());
    KeyManagerFactory keys = KeyManagerFactory.getInstance("SunX509");
    keys.init(store, "made-up".toCharArray());
    SSLContext context = SSLContext.getInstance("TLS");
    context.init(keys.getKeyManagers(), null, null);
    SSLServerSocket listener = (SSLServerSocket) context.getServerSocketFactory()
        .createServerSocket(Integer.parseInt(told[1]), 200, InetAddress.getLoopbackAddress());
    listener.setEnabledProtocols(told[2].split(","));
    listener.setEnabledCipherSuites(told[3].split(","));
    while (true) {
      SSLSocket peer = (SSLSocket) listener.accept();
      new Thread(() -> {
        try (peer) {
          peer.setSoTimeout(3000);
          peer.startHandshake();
          peer.getInputStream().read(new byte[2000]);
          peer.getOutputStream().write("HTTP/1.0 200 OK\\r\\nServer: quay\\r\\n\\r\\nhello".getBytes());
        } catch (IOException gone) { }
      }).start();
    }
  }
}
"""


@cache
def credentials() -> Path:
    """A folder with ``rsa``, ``ecdsa``, ``old`` (RSA, 1024 bits) and ``short`` (512 bits) as .pem and .key, and ``ca.pem``.
    The leaves of the first two come with their authority's certificate."""
    holder = tempfile.TemporaryDirectory(prefix="rupex-peers-", ignore_cleanup_errors=True)
    atexit.register(holder.cleanup)
    folder = Path(holder.name)
    now = datetime.now(UTC)
    authority = Authority("Ternholm Lab CA", now)
    write_chain(folder / "ca.pem", authority.certificate)
    for name, key in (("rsa", new_key("RSA")), ("ecdsa", new_key()), ("old", new_key("RSA", 1024))):
        leaf = authority.issue([NAME, "ternholm.test"], key, now - timedelta(days=1), now + timedelta(days=60))
        write_chain(folder / f"{name}.pem", leaf, authority.certificate)
        write_key(folder / f"{name}.key", key)
        (folder / f"{name}.both").write_bytes(
            (folder / f"{name}.pem").read_bytes() + (folder / f"{name}.key").read_bytes()
        )
        if name == "rsa":
            (folder / "staple.der").write_bytes(authority.staple(leaf, now))
    # Old OpenSSL reads PKCS #1 only; the library of today makes no key of 512 bits.
    for name, command in (
        ("old", "rsa -traditional -in old.key -out old.key1"),
        ("short", "genrsa -traditional -out short.key1 512"),
        ("short", f"req -x509 -key short.key1 -sha256 -days 60 -subj /CN={NAME} -out short.pem"),
        ("rsa", "pkcs12 -export -in rsa.pem -inkey rsa.key -out rsa.p12 -passout pass:made-up"),
        ("dh", "dhparam -dsaparam -out dh1024.pem 1024"),
    ):
        done = subprocess.run(["openssl", *command.split()], cwd=folder, capture_output=True, check=False)
        if done.returncode:
            raise ServerError(f"{name}: {done.stderr.decode()[-300:]}")
    for file in folder.iterdir():
        file.chmod(0o644)
    folder.chmod(0o755)
    return folder


def tool(name: str, *elsewhere: str) -> str:
    """The path of a server program. Fails the test when it is not installed."""
    own = (str(PEERS), str(Path(sys.executable).parent), *elsewhere)  # those whose version is chosen come first
    found = which(name, path=os.pathsep.join((*own, os.environ.get("PATH", ""), "/usr/sbin")))
    if found is None:
        raise ServerError(f"{name} is not installed; run tools/install-servers.sh as root, or install it by hand")
    return found


@contextmanager
def running(command: list[str], port: int, folder: Path, **environment: str) -> Iterator[int]:
    """``command`` until it listens on ``port``, and stopped afterwards."""
    with open(folder / f"log-{port}", "w+b") as log:
        process = subprocess.Popen(
            command, cwd=folder, stdin=subprocess.DEVNULL, stdout=log, stderr=log, env=os.environ | environment
        )
        try:
            deadline = time.monotonic() + 30
            while not _listens(port):
                if process.poll() is not None or time.monotonic() > deadline:
                    log.seek(0)
                    raise ServerError(f"{command[0]} did not start: {log.read().decode('utf-8', 'replace')[-600:]}")
                time.sleep(0.03)
            yield port
        finally:
            process.terminate()
            try:
                process.wait(10)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait(10)


def _listens(port: int) -> bool:
    with socket.socket() as probe:
        probe.settimeout(1)
        return probe.connect_ex(("127.0.0.1", port)) == 0


@contextmanager
def scratch() -> Iterator[Path]:
    with tempfile.TemporaryDirectory(prefix="rupex-peer-", ignore_cleanup_errors=True) as name:
        Path(name).chmod(0o755)
        yield Path(name)


@contextmanager
def nginx(server: str, *, also: str = "") -> Iterator[int]:
    """nginx with one server block that holds ``server`` (``LISTEN`` for its address and port, ``CRED`` for the folder of
    certificates); ``also``: more of the http block."""
    port, cred = free_port(), credentials()
    with scratch() as folder:
        temporary = " ".join(
            f"{kind}_temp_path {folder}/{kind};" for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
        )
        text = f"server {{ {server} }} {also}".replace("LISTEN", f"127.0.0.1:{port}").replace("CRED", str(cred))
        (folder / "nginx.conf").write_text(
            f"daemon off; pid {folder}/pid; error_log stderr; events {{ worker_connections 4096; }}\n"
            f"http {{ access_log off; server_names_hash_bucket_size 128; {temporary}\n{text}\n}}\n"
        )
        with running([tool("nginx"), "-c", f"{folder}/nginx.conf", "-p", str(folder)], port, folder):
            yield port


@contextmanager
def apache(site: str, *modules: str, name: str = NAME) -> Iterator[int]:
    """Apache httpd with one virtual host that holds ``site`` (``PORT`` for its port, ``CRED`` for the folder of
    certificates)."""
    port, cred = free_port(), credentials()
    with scratch() as folder:
        (folder / "www").mkdir()
        (folder / "www/index.html").write_text("<title>Ternholm</title>")
        loaded = "\n".join(
            f"LoadModule {module}_module /usr/lib/apache2/modules/mod_{module}.so"
            for module in ("mpm_event", "authz_core", "dir", "ssl", "socache_shmcb", *modules)
        )
        (folder / "httpd.conf").write_text(
            f"ServerName {name}\nServerRoot {folder}\nPidFile {folder}/pid\nErrorLog {folder}/error\n{loaded}\n"
            f"Listen 127.0.0.1:{port}\nDocumentRoot {folder}/www\nSSLSessionCache none\nMutex file:{folder}\n"
            f"<VirtualHost 127.0.0.1:{port}>\n{site.replace('CRED', str(cred)).replace('PORT', str(port))}\n</VirtualHost>\n"
        )
        command = [tool("apache2"), "-f", f"{folder}/httpd.conf", "-D", "FOREGROUND"]
        with running(command, port, folder, APACHE_RUN_DIR=str(folder)):
            yield port


@contextmanager
def haproxy(bind: str, *rules: str) -> Iterator[int]:
    """HAProxy with one bind line, told ``bind``."""
    port, cred = free_port(), credentials()
    with scratch() as folder:
        lines = "\n  ".join(rules or ('http-request return status 200 content-type text/plain string "hello"',))
        (folder / "haproxy.cfg").write_text(
            "defaults\n  mode http\n  timeout client 5s\n  timeout server 5s\n  timeout connect 5s\n"
            f"frontend here\n  bind 127.0.0.1:{port} ssl {bind.replace('CRED', str(cred))}\n  {lines}\n"
        )
        with running([tool("haproxy"), "-f", f"{folder}/haproxy.cfg"], port, folder):
            yield port


@contextmanager
def s_server(*options: str, www: bool = True) -> Iterator[int]:
    """The crypto library's own test server."""
    port = free_port()
    command = [
        tool("openssl"), "s_server", "-accept", f"127.0.0.1:{port}", "-quiet", *(("-www",) if www else ()),
        "-cert", "rsa.pem", "-key", "rsa.key", "-cert_chain", "ca.pem", *options,
    ]  # fmt: skip
    with running(command, port, credentials()):
        yield port


@contextmanager
def gnutls(priority: str, *options: str) -> Iterator[int]:
    """GnuTLS's test server, with both kinds of certificate."""
    port = free_port()
    command = [
        tool("gnutls-serv"), "--http", "--disable-client-cert", "--port", str(port), "--priority", priority,
        "--x509certfile", "rsa.pem", "--x509keyfile", "rsa.key",
        "--x509certfile", "ecdsa.pem", "--x509keyfile", "ecdsa.key", *options,
    ]  # fmt: skip
    with running(command, port, credentials()):
        yield port


@contextmanager
def java(protocols: str, suites: str) -> Iterator[int]:
    """Java's own TLS."""
    port = free_port()
    with scratch() as folder:
        (folder / "Peer.java").write_text(JAVA)
        command = [tool("java"), "Peer.java", str(credentials() / "rsa.p12"), str(port), protocols, suites]
        with running(command, port, folder):
            yield port


@contextmanager
def caddy(**policy: Any) -> Iterator[int]:
    """Caddy, whose TLS is Go's."""
    port, cred = free_port(), credentials()
    server = {
        "listen": [f"127.0.0.1:{port}"],
        "automatic_https": {"disable": True},
        "routes": [{"handle": [{"handler": "static_response", "body": "hello"}]}],
        "tls_connection_policies": [policy],
    }
    files = [{"certificate": f"{cred}/ecdsa.pem", "key": f"{cred}/ecdsa.key"}]
    apps = {"tls": {"certificates": {"load_files": files}}, "http": {"https_port": port, "servers": {"a": server}}}
    with scratch() as folder:
        (folder / "caddy.json").write_text(json.dumps({"admin": {"disabled": True}, "apps": apps}))
        command = [tool("caddy", str(Path(sys.executable).parent)), "run", "--config", "caddy.json"]
        with running(command, port, folder, HOME=str(folder)):
            yield port


@contextmanager
def node(version: str, certificate: str = "old", **options: Any) -> Iterator[int]:
    """An old Node.js, whose TLS is OpenSSL 1.0.0 (``node08``) or 1.0.2 (``node4``)."""
    port, cred = free_port(), credentials()
    told = {"key": f"{cred}/{certificate}.key1", "cert": f"{cred}/{certificate}.pem", **options}
    with scratch() as folder:
        (folder / "peer.js").write_text(NODE)
        with running([tool(version), "peer.js", json.dumps(told), str(port)], port, folder):
            yield port


@contextmanager
def tlslite(**settings: Any) -> Iterator[int]:
    """tlslite-ng, which still speaks what the others have dropped. ``anonymous``: without a certificate."""
    from tlslite.api import HandshakeSettings, TLSConnection, X509CertChain, parsePEMKey

    anonymous = settings.pop("anonymous", False)
    told = HandshakeSettings()
    for name, value in settings.items():
        setattr(told, name, value)
    chain = X509CertChain()
    chain.parsePemList((credentials() / "rsa.pem").read_text())
    key = parsePEMKey((credentials() / "rsa.key").read_text(), private=True)

    def answer(peer: socket.socket) -> None:
        connection = TLSConnection(peer)
        try:
            if anonymous:
                connection.handshakeServer(anon=True, settings=told)
            else:
                connection.handshakeServer(certChain=chain, privateKey=key, settings=told)
            connection.recv(2000)
            connection.send(b"HTTP/1.0 200 OK\r\nServer: jetty\r\n\r\nhello")
            connection.close()
        except Exception:  # noqa: BLE001  whatever a client that only looks makes it raise
            peer.close()

    with listening(answer) as port:
        yield port
