"""Writes the benchmark's host trees: many sites of nginx or httpd, each plain and over TLS, in a file of its own."""

from __future__ import annotations

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
