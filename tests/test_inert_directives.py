"""Directives of the class ``inert`` change nothing that is judged: each of them stands in a site of its own of a real server,
which answers as a site without it does.

The settings, one for each directive that takes one by itself, stand in ``inert_settings/``: the place and the line. Those that
need other files or directives, or work only beside others, are not there.
"""

from __future__ import annotations

import subprocess
import tempfile
import time
import unittest
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from socket import create_connection

from rupex.servers.apache.inventory import known as known_to_apache
from rupex.servers.nginx.inventory import known as known_to_nginx
from tests.oracle import Ask, Case, Reply, ServerError, _binary, free_port, request, running_upstream

SETTINGS = Path(__file__).parent / "inert_settings"
REQUESTS = (
    *("GET /", "GET /folder", "GET /none", "POST /page.html", "GET /go", "GET /auth", "GET /deny", "GET /up/a"),
    *("PUT /x", "HEAD /page.html"),
)
NOT_JUDGED = frozenset(
    "date etag last-modified content-length connection transfer-encoding accept-ranges keep-alive allow content-type via vary"
    " content-language content-md5".split()
)
_FILES = {"index.html": "pier\n" * 300, "page.html": "pier\n", "404.html": "lost\n", "folder/index.html": "pier\n"}

NGINX_FIRST = ("ndk_http_module", "ngx_stream_module", "ngx_mail_module")  # others need them
NGINX_MAIN = """{loads}daemon off; master_process off; pid {folder}/pid; error_log {folder}/log; events {{}}
http {{
types {{ text/html html; }} access_log off; limit_req_zone $binary_remote_addr zone=z:1m rate=100r/s;
{outer}
{servers}
}}
"""
NGINX_SERVER = """server {{
listen 127.0.0.1:{port}; server_name {name}; root {folder}/site; {server}
add_header X-Seen "$uri $remote_addr $scheme $request_method";
location / {{ {place} }}
location = /go {{ {place} return 302 /x?a=$uri; }}
location /auth {{ {place} auth_basic x; auth_basic_user_file {folder}/users; }}
location /deny {{ {place} deny all; }}
location /up/ {{ {place} proxy_pass http://127.0.0.1:{upstream}/; }}
error_page 404 /404.html;
}}
"""
APACHE_MODULES = Path("/usr/lib/apache2/modules")
APACHE_FIRST = ("mpm_event", "proxy", "ldap", "session", "dav", "cache", "slotmem_shm", "heartmonitor", "dbd")
APACHE_NOT_LOADED = (
    "mpm_worker",
    "mpm_prefork",
    "cgi",
    "perl",
    "php8.2",
    "wsgi",
    "lua",
    "md",
    "tls",
    "security2",
    "evasive20",
)
APACHE_MAIN = """ServerRoot {folder}
ServerName main.test
PidFile {folder}/pid
ErrorLog {folder}/log
Mutex pthread default
DefaultRuntimeDir {folder}
{loads}User www-data
Group www-data
TypesConfig {folder}/types
Listen 127.0.0.1:{port}
{outer}
{servers}
"""
APACHE_SERVER = """<VirtualHost 127.0.0.1:{port}>
ServerName {name}
DocumentRoot {folder}/site
Header always set X-Seen "expr=%{{REQUEST_URI}} %{{REQUEST_METHOD}}"
ErrorDocument 404 /404.html
Redirect /go http://b.test/x
ProxyPass /up/ http://127.0.0.1:{upstream}/
{server}
<Directory {folder}/site>
Require all granted
{place}
</Directory>
<Location /auth>
AuthType Basic
AuthName x
AuthUserFile {folder}/users
Require valid-user
</Location>
<Location /deny>
Require all denied
</Location>
</VirtualHost>
"""


def read_settings(name: str) -> list[tuple[str, str]]:
    """Of each setting, where it stands (``outer``, ``server`` or ``place``), and the line."""
    rows = (SETTINGS / name).read_text().splitlines()
    return [(place, line) for place, _, line in (row.partition("\t") for row in rows)]


def answers(name: str, port: int) -> list[Reply]:
    asks = [Ask(word, "", "http", name, port, path, ()) for word, path in (line.split() for line in REQUESTS)]
    return [request(_with_length(ask)) for ask in asks]


def _with_length(ask: Ask) -> Ask:
    headers = (("Content-Length", "0"),) if ask.method in ("POST", "PUT") else ()
    return Ask(ask.method, ask.url, ask.scheme, ask.name, ask.port, ask.target, headers)


def judged(reply: Reply, name: str, port: int) -> tuple[int | None, list[tuple[str, str]]]:
    """What of an answer could be judged, without the name and port of its site."""
    pairs = ((key.lower(), value.replace(name, "").replace(f":{port}", "")) for key, value in reply.headers)
    return reply.status, sorted(pair for pair in pairs if pair[0] not in NOT_JUDGED)


@contextmanager
def started(command: list[str], port: int) -> Iterator[None]:
    server = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    assert server.stderr is not None
    try:
        until = time.monotonic() + 30
        while True:
            try:
                create_connection(("127.0.0.1", port), 1).close()
                break
            except OSError:
                if server.poll() is not None or time.monotonic() > until:
                    raise ServerError(server.stderr.read().decode()[-1000:]) from None
                time.sleep(0.05)
        yield
    finally:
        server.terminate()
        server.wait(20)
        server.stderr.close()


class InertDirectivesTest(unittest.TestCase):
    def check(
        self,
        settings: list[tuple[str, str]],
        main: str,
        server: str,
        loads: str,
        command: Callable[[Path], list[str]],
        written: Callable[[str], str],
    ) -> None:
        """Ask the sites of all ``settings``, and those of a server with none."""
        inner = [one for one in settings if one[0] != "outer"]
        outer = "\n".join(written(line) for place, line in settings if place == "outer")
        names = {f"s{number}.test": one for number, one in enumerate(inner)}
        found: dict[str, list[tuple[int | None, list[tuple[str, str]]]]] = {}
        case = Case("inert", "@upstream@")
        with running_upstream(case), tempfile.TemporaryDirectory(prefix="rupex-oracle-") as scratch:
            folder = Path(scratch)
            folder.chmod(0o755)
            for path, text in _FILES.items():
                (folder / "site" / path).parent.mkdir(parents=True, exist_ok=True)
                (folder / "site" / path).write_text(text)
            (folder / "users").write_text("aino:{SHA}3W9oIQsRfE3CbsHxJAZqk4CnUYc=\n")
            (folder / "types").write_text("text/html html\n")
            for among, above in (({"base.test": ("server", "")}, ""), (names, outer)):
                port = free_port()
                parts = {"port": port, "folder": folder, "upstream": case.upstream}
                servers = "".join(
                    server.format(
                        name=name, **parts, **{p: written(line) if p == place else "" for p in ("server", "place")}
                    )
                    for name, (place, line) in among.items()
                )
                (folder / "main.conf").write_text(main.format(loads=loads, outer=above, servers=servers, **parts))
                with started(command(folder / "main.conf"), port):
                    for name in among:
                        found[name] = [judged(reply, name, port) for reply in answers(name, port)]
        for name, (_, line) in names.items():
            with self.subTest(line):
                self.assertEqual(
                    dict(zip(REQUESTS, found[name], strict=True)), dict(zip(REQUESTS, found["base.test"], strict=True))
                )

    def test_nginx(self) -> None:
        settings = read_settings("nginx.tsv")
        self.assertEqual({known_to_nginx(line.split()[0].rstrip(";")).kind for _, line in settings}, {"inert"})
        self.assertGreater(len(settings), 400)
        names = [path.stem for path in sorted(Path("/usr/lib/nginx/modules").glob("*.so"))]
        names = [name for name in names if "modsecurity" not in name and name not in NGINX_FIRST]
        loads = "".join(f"load_module /usr/lib/nginx/modules/{name}.so;\n" for name in (*NGINX_FIRST, *names))
        self.check(
            settings,
            NGINX_MAIN,
            NGINX_SERVER,
            loads,
            lambda path: [_binary("nginx"), "-c", str(path)],
            lambda line: line,
        )

    def test_apache(self) -> None:
        settings = read_settings("apache.tsv")
        kinds = {found.kind for _, line in settings if (found := known_to_apache(line.split()[0])) is not None}
        self.assertEqual(kinds, {"inert"})
        self.assertGreater(len(settings), 200)
        names = [path.stem.removeprefix("mod_") for path in sorted(APACHE_MODULES.glob("mod_*.so"))]
        names = [name for name in names if name not in (*APACHE_FIRST, *APACHE_NOT_LOADED)]
        loads = "".join(
            f"LoadModule {name}_module {APACHE_MODULES}/mod_{name}.so\n" for name in (*APACHE_FIRST, *names)
        )
        self.check(
            settings, APACHE_MAIN, APACHE_SERVER, loads,
            lambda path: [_binary("apache2"), "-f", str(path), "-DFOREGROUND"], lambda line: line,
        )  # fmt: skip
