"""Writes the benchmark's host trees: many sites of nginx or httpd, each plain and over TLS, in a file of its own."""

from __future__ import annotations

import random
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

from rupex.demo.mint import Authority, new_key, write_chain, write_key

DISTINCT_KEYS = 200
"""RSA keys are slow to make: each of these is written under many names, with a certificate of its own for each site."""

SITE = """# site {number}
server {{
    listen 80;
    server_name site{number}.ternholm.test www.site{number}.ternholm.test;
    access_log off;
    return 301 https://$host$request_uri;
}}

server {{
    listen 443 ssl;
    server_name site{number}.ternholm.test www.site{number}.ternholm.test;
    root {root}/srv/site{number};
    ssl_certificate {root}/etc/ssl/sites/{number}.pem;
    ssl_certificate_key {root}/etc/ssl/sites/{number}.key;
    add_header Strict-Transport-Security "max-age=31536000" always;
    add_header X-Content-Type-Options nosniff always;
    access_log off;
    location / {{
        try_files $uri $uri/ =404;
    }}
    location /api/ {{
        proxy_pass http://127.0.0.1:8080;
    }}
}}
"""

MAIN = """user www-data;
pid {scratch}/nginx.pid;
error_log {scratch}/error.log;
events {{ worker_connections 512; }}
http {{
    types {{ text/html html; }}
    server_tokens off;
    server_names_hash_max_size 262144;
    server_names_hash_bucket_size 128;
    ssl_protocols TLSv1.2 TLSv1.3;
    client_body_temp_path {scratch}/body;
    proxy_temp_path {scratch}/proxy;
    fastcgi_temp_path {scratch}/fastcgi;
    uwsgi_temp_path {scratch}/uwsgi;
    scgi_temp_path {scratch}/scgi;
    include sites/*.conf;
}}
"""

APACHE_SITE = """# site {number}
<VirtualHost *:80>
    ServerName site{number}.ternholm.test
    ServerAlias www.site{number}.ternholm.test
    Redirect permanent / https://site{number}.ternholm.test/
</VirtualHost>

<VirtualHost *:443>
    ServerName site{number}.ternholm.test
    ServerAlias www.site{number}.ternholm.test
    DocumentRoot {root}/srv/site{number}
    SSLEngine on
    SSLCertificateFile {root}/etc/ssl/sites/{pair}.pem
    SSLCertificateKeyFile {root}/etc/ssl/sites/{pair}.key
    Header always set Strict-Transport-Security "max-age=31536000"
    Header always set X-Content-Type-Options nosniff
    <Directory {root}/srv/site{number}>
        AllowOverride None
        Require all granted
    </Directory>
    ProxyPass /api/ http://127.0.0.1:8080/
</VirtualHost>
"""

APACHE_MODULES = ("mpm_event", "authz_core", "alias", "headers", "dir", "mime", "proxy", "proxy_http", "ssl")

APACHE_MAIN = """ServerRoot {root}/etc/apache2
PidFile {scratch}/apache.pid
ErrorLog {scratch}/error.log
ServerName localhost
{modules}
TypesConfig /etc/mime.types
User www-data
Group www-data
ServerTokens Prod
SSLProtocol TLSv1.2 TLSv1.3
Listen 80
Listen 443
<Directory />
    Require all denied
</Directory>
IncludeOptional sites-enabled/*.conf
"""


def write_sites(tree: Path, count: int, live_root: str = "") -> None:
    """Write ``count`` sites below ``tree``. ``live_root``: what absolute paths start with, so that a server can run it."""
    sites, credentials = tree / "etc/nginx/sites", tree / "etc/ssl/sites"
    sites.mkdir(parents=True)
    credentials.mkdir(parents=True)
    (tree / "etc/nginx/nginx.conf").write_text(MAIN.format(scratch=tree))
    now = datetime.now(UTC)
    authority = Authority("Ternholm Bench CA", now)
    keys = [new_key("RSA") for _ in range(min(count, DISTINCT_KEYS))]
    for number in range(count):
        key = keys[number % len(keys)]
        names = [f"{www}site{number}.ternholm.test" for www in ("", "www.")]
        leaf = authority.issue(names, key, now - timedelta(days=1), now + timedelta(days=300))
        write_chain(credentials / f"{number}.pem", leaf, authority.certificate)
        write_key(credentials / f"{number}.key", key)
        (sites / f"{number:06}.conf").write_text(SITE.format(number=number, root=live_root))


def write_apache_sites(tree: Path, count: int, live_root: str = "") -> None:
    """The same for httpd: ``count`` sites with a name and an alias; they share some certificates."""
    sites, credentials = tree / "etc/apache2/sites-enabled", tree / "etc/ssl/sites"
    sites.mkdir(parents=True)
    credentials.mkdir(parents=True)
    modules = "\n".join(f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so" for name in APACHE_MODULES)
    (tree / "etc/apache2/apache2.conf").write_text(APACHE_MAIN.format(scratch=tree, root=live_root, modules=modules))
    now = datetime.now(UTC)
    authority = Authority("Ternholm Bench CA", now)
    pairs = min(count, DISTINCT_KEYS)
    for pair in range(pairs):
        key = new_key("RSA")
        names = [f"{www}site{number}.ternholm.test" for number in range(pair, count, pairs) for www in ("", "www.")]
        leaf = authority.issue(names, key, now - timedelta(days=1), now + timedelta(days=300))
        write_chain(credentials / f"{pair}.pem", leaf, authority.certificate)
        write_key(credentials / f"{pair}.key", key)
    for number in range(count):
        text = APACHE_SITE.format(number=number, pair=number % pairs, root=live_root)
        (sites / f"{number:06}.conf").write_text(text)


UNLIKE_CERTIFICATES = 40
UNLIKE_LOCATIONS = 5
SEED = 20261201
"""Of the choices of :func:`write_unlike_sites`: every run measures the same trees."""

_HEADERS = (
    'add_header Strict-Transport-Security "max-age=31536000" always;',
    'add_header Strict-Transport-Security "max-age=15552000; includeSubDomains" always;',
    "add_header X-Content-Type-Options nosniff always;",
    "add_header X-Content-Type-Options nosniff;",
    "add_header X-Frame-Options DENY always;",
    "add_header X-Frame-Options SAMEORIGIN;",
    "add_header Referrer-Policy strict-origin-when-cross-origin always;",
    "add_header Referrer-Policy same-origin;",
    "add_header Content-Security-Policy \"default-src 'self'\" always;",
    "add_header Content-Security-Policy \"default-src 'self'; img-src *\";",
)
_OPTIONS = (
    "keepalive_timeout 65s;",
    "keepalive_timeout 15s;",
    "client_max_body_size 8m;",
    "client_max_body_size 20m;",
    "client_body_timeout 12s;",
    "server_tokens off;",
    "server_tokens on;",
    "gzip on;",
    "gzip_types text/css application/json;",
    "index index.html;",
    "index index.html index.htm;",
    "etag off;",
    "expires 1h;",
    "error_page 404 /404.html;",
    "error_page 500 502 503 504 /50x.html;",
    "sendfile on;",
    "charset utf-8;",
)
_TLS = (
    "ssl_protocols TLSv1.2 TLSv1.3;",
    "ssl_protocols TLSv1.2;",
    "ssl_ciphers HIGH:!aNULL:!MD5;",
    "ssl_ciphers ECDHE+AESGCM:ECDHE+CHACHA20;",
    "ssl_prefer_server_ciphers on;",
    "ssl_session_tickets off;",
    "ssl_session_timeout 10m;",
    "ssl_session_cache shared:tls:10m;",
)
_COMMENTS = (
    "timetable",
    "asked for by the harbour office",
    "do not change",
    "see the handbook",
    "old site",
    "TODO: ask",
)
_PATHS = ("api", "static", "admin", "media", "health", "login", "map", "tickets", "crew", "piers", "export", "search")


def _unlike_location(choose: random.Random, path: str) -> list[str]:
    """One location, as lines without indentation."""
    match choose.randrange(6):
        case 0:
            return [
                f"location /{path}/ {{",
                *choose.sample(_OPTIONS, choose.randint(0, 1)),
                "try_files $uri =404;",
                "}",
            ]
        case 1:
            port = choose.randint(8000, 8999)
            more = choose.sample(("proxy_set_header Host $host;", "proxy_http_version 1.1;", "proxy_buffering off;"), 2)
            return [f"location /{path}/ {{", *more, f"proxy_pass http://127.0.0.1:{port};", "}"]
        case 2:
            return [f"location = /{path} {{", f"return {choose.choice((301, 302))} /{path}/;", "}"]
        case 3:
            return [f"location ~ \\.({path}|inc|bak)$ {{", "deny all;", "}"]
        case 4:
            return [f"location ^~ /{path}/ {{", *choose.sample(_HEADERS, 2), f"expires {choose.randint(1, 48)}h;", "}"]
        case _:
            return [f"location /{path} {{", f"allow 192.0.2.{choose.randint(1, 254)};", "deny all;", "}"]


def _unlike_site(choose: random.Random, number: int, root: str) -> str:
    """The file of one site, of which no other has the same directives in the same order and layout."""
    label = "".join(choose.choices("abcdefghijklmnopqrstuvwxyz", k=choose.randint(4, 12)))
    names = [f"{label}{number}.ternholm.test"]
    names += [f"{www}.{names[0]}" for www in choose.sample(("www", "m", "old", "new"), choose.randint(0, 2))]
    certificate = choose.randrange(UNLIKE_CERTIFICATES)
    target = choose.choice(("https://$host$request_uri", f"https://{names[0]}$request_uri", "https://$server_name$uri"))
    plain = ["listen 80;", f"server_name {' '.join(names)};", f"return {choose.choice((301, 302, 308))} {target};"]
    tls = [
        choose.choice(("listen 443 ssl;", "listen 443 ssl http2;")),
        f"server_name {' '.join(names)};",
        f"root {root}/srv/{label}{number};",
        f"ssl_certificate {root}/etc/ssl/sites/{certificate}.pem;",
        f"ssl_certificate_key {root}/etc/ssl/sites/{certificate}.key;",
        *(line for at in choose.sample(range(0, len(_TLS), 2), 2) for line in choose.sample(_TLS[at : at + 2], 1)),
        *choose.sample(_HEADERS, choose.randint(0, 5)),
    ]
    chosen: dict[str, str] = {}
    for line in choose.sample(_OPTIONS, choose.randint(1, 6)):
        chosen[line.partition(" ")[0]] = line  # most of them may stand once in a block
    tls += chosen.values()
    choose.shuffle(plain)
    choose.shuffle(tls)
    for path in choose.sample(_PATHS, UNLIKE_LOCATIONS):
        tls += _unlike_location(choose, path)
    indent = choose.choice(("    ", "  ", "\t"))
    blocks = (["server {", *lines, "}", ""] for lines in (plain, tls))
    return "\n".join(_laid_out(choose, (line for block in blocks for line in block), indent))


def _laid_out(choose: random.Random, lines: Iterable[str], indent: str) -> Iterator[str]:
    """Lines with their indentation, and comments here and there."""
    depth = 0
    for line in lines:
        if depth == 1 and choose.random() < 0.15:
            yield f"{indent}# {choose.choice(_COMMENTS)} {choose.randint(1, 999)}"
        depth -= line.startswith(("}", "</"))
        yield indent * depth + line
        depth += line.endswith("{") or (line.startswith("<") and not line.startswith("</"))


def write_unlike_sites(tree: Path, count: int, live_root: str = "") -> None:
    """``count`` nginx sites of which no two are alike: order, indentation, comments, directives and locations vary. They
    share some certificates."""
    choose = random.Random(SEED)
    sites = tree / "etc/nginx/sites"
    sites.mkdir(parents=True)
    (tree / "etc/nginx/nginx.conf").write_text(MAIN.format(scratch=tree))
    _write_shared_certificates(tree / "etc/ssl/sites")
    for number in range(count):
        (sites / f"{number:06}.conf").write_text(_unlike_site(choose, number, live_root))


def _write_shared_certificates(folder: Path) -> None:
    folder.mkdir(parents=True)
    now = datetime.now(UTC)
    authority = Authority("Ternholm Bench CA", now)
    for pair in range(UNLIKE_CERTIFICATES):
        key = new_key("RSA")
        leaf = authority.issue(["*.ternholm.test"], key, now - timedelta(days=1), now + timedelta(days=300))
        write_chain(folder / f"{pair}.pem", leaf, authority.certificate)
        write_key(folder / f"{pair}.key", key)


_APACHE_HEADERS = (
    'Header always set Strict-Transport-Security "max-age=31536000"',
    'Header set Strict-Transport-Security "max-age=15552000; includeSubDomains"',
    "Header always set X-Content-Type-Options nosniff",
    "Header set X-Content-Type-Options nosniff",
    "Header always append X-Frame-Options DENY",
    "Header set X-Frame-Options SAMEORIGIN",
    "Header always set Referrer-Policy strict-origin-when-cross-origin",
    "Header set Content-Security-Policy \"default-src 'self'\"",
    'Header edit Set-Cookie (.*) "$1; Secure"',
)
_APACHE_OPTIONS = (
    "KeepAliveTimeout 15", "Timeout 60", "LimitRequestBody 8388608", "ServerSignature Off", "UseCanonicalName On",
    "DirectoryIndex index.html", "DirectoryIndex index.html index.htm", "FileETag None", "ErrorDocument 404 /404.html",
    'ErrorDocument 403 "no"', "SetEnv pier 3", 'SetEnvIf Request_URI "^/map" is_map', "Options -Indexes",
    "AcceptPathInfo Off", "ServerAdmin harbour@ternholm.test",
)  # fmt: skip
_APACHE_TLS = (
    "SSLProtocol all -SSLv3 -TLSv1 -TLSv1.1", "SSLProtocol TLSv1.2", "SSLCipherSuite HIGH:!aNULL:!MD5",
    "SSLCipherSuite ECDHE+AESGCM:ECDHE+CHACHA20", "SSLHonorCipherOrder on", "SSLSessionTickets off",
)  # fmt: skip


def _unlike_apache_section(choose: random.Random, path: str, root: str) -> list[str]:
    """One section, or directive about a path, as lines without indentation."""
    match choose.randrange(6):
        case 0:
            return [f"<Directory {root}/{path}>", "Require all granted", choose.choice(("AllowOverride None", "Options None")),
                    "</Directory>"]  # fmt: skip
        case 1:
            return [f"ProxyPass /{path}/ http://127.0.0.1:{choose.randint(8000, 8999)}/"]
        case 2:
            return [f"Redirect {choose.choice(('permanent', '302'))} /{path} /{path}s/"]
        case 3:
            return [f'<FilesMatch "\\.({path}|inc|bak)$">', "Require all denied", "</FilesMatch>"]
        case 4:
            return [f"<Location /{path}>", *choose.sample(_APACHE_HEADERS, 2), "</Location>"]
        case _:
            return [f"<Location /{path}>", f"Require ip 192.0.2.{choose.randint(1, 254)}", "</Location>"]


def _unlike_apache_site(choose: random.Random, number: int, live_root: str) -> str:
    """The file of one site, of which no other has the same directives in the same order and layout."""
    label = "".join(choose.choices("abcdefghijklmnopqrstuvwxyz", k=choose.randint(4, 12)))
    name, root = f"{label}{number}.ternholm.test", f"{live_root}/srv/{label}{number}"
    names = [f"ServerName {name}"]
    names += [f"ServerAlias {www}.{name}" for www in choose.sample(("www", "m", "old", "new"), choose.randint(0, 2))]
    certificate = f"{live_root}/etc/ssl/sites/{choose.randrange(UNLIKE_CERTIFICATES)}"
    redirect = choose.choice(
        (f"Redirect permanent / https://{name}/", "RewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI} [R=301,L]")
    )
    plain = [*names, redirect, *(["RewriteEngine On"] if redirect.startswith("Rewrite") else [])]
    tls = [
        *names, f"DocumentRoot {root}", "SSLEngine on", f"SSLCertificateFile {certificate}.pem",
        f"SSLCertificateKeyFile {certificate}.key",
        *(line for at in choose.sample(range(0, len(_APACHE_TLS), 2), 2) for line in choose.sample(_APACHE_TLS[at : at + 2], 1)),
        *choose.sample(_APACHE_HEADERS, choose.randint(0, 5)), *choose.sample(_APACHE_OPTIONS, choose.randint(1, 6)),
    ]  # fmt: skip
    choose.shuffle(plain)
    choose.shuffle(tls)
    tls += [f"<Directory {root}>", "Require all granted", "AllowOverride None", "</Directory>"]
    for path in choose.sample(_PATHS, UNLIKE_LOCATIONS):
        tls += _unlike_apache_section(choose, path, root)
    blocks = ([f"<VirtualHost *:{port}>", *lines, "</VirtualHost>", ""] for port, lines in ((80, plain), (443, tls)))
    indent = choose.choice(("    ", "  ", "\t"))
    return "\n".join(_laid_out(choose, (line for block in blocks for line in block), indent))


def write_unlike_apache_sites(tree: Path, count: int, live_root: str = "") -> None:
    """``count`` httpd sites of which no two are alike, as :func:`write_unlike_sites` does for nginx."""
    choose = random.Random(SEED)
    sites = tree / "etc/apache2/sites-enabled"
    sites.mkdir(parents=True)
    loaded = (*APACHE_MODULES, "rewrite", "env", "setenvif", "authz_host")
    modules = "\n".join(f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so" for name in loaded)
    (tree / "etc/apache2/apache2.conf").write_text(APACHE_MAIN.format(scratch=tree, root=live_root, modules=modules))
    _write_shared_certificates(tree / "etc/ssl/sites")
    for number in range(count):
        (sites / f"{number:06}.conf").write_text(_unlike_apache_site(choose, number, live_root))
