"""Writes the benchmark's host tree: many nginx sites, each with a plain and a TLS server block in a file of its own."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

from rupex.demo.mint import Authority, new_key, write_chain, write_key

DISTINCT_CREDENTIALS = 200
"""Keys are slow to make; each of these is written under many names, so that as many files are read as there are sites."""

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


def write_sites(tree: Path, count: int, live_root: str = "") -> None:
    """Write ``count`` sites below ``tree``. ``live_root``: what absolute paths start with, so that a server can run it."""
    sites, credentials = tree / "etc/nginx/sites", tree / "etc/ssl/sites"
    sites.mkdir(parents=True)
    credentials.mkdir(parents=True)
    (tree / "etc/nginx/nginx.conf").write_text(MAIN.format(scratch=tree))
    now = datetime.now(UTC)
    authority = Authority("Ternholm Bench CA", now)
    names = [f"{www}site{number}.ternholm.test" for number in range(3) for www in ("", "www.")]
    pairs = []
    for _ in range(min(count, DISTINCT_CREDENTIALS)):
        key = new_key("RSA")
        leaf = authority.issue([*names, "*.ternholm.test"], key, now - timedelta(days=1), now + timedelta(days=300))
        write_chain(credentials / "now.pem", leaf, authority.certificate)
        write_key(credentials / "now.key", key)
        pairs.append(((credentials / "now.pem").read_bytes(), (credentials / "now.key").read_bytes()))
    for number in range(count):
        certificate, secret = pairs[number % len(pairs)]
        (credentials / f"{number}.pem").write_bytes(certificate)
        (credentials / f"{number}.key").write_bytes(secret)
        (credentials / f"{number}.key").chmod(0o600)
        (sites / f"{number:06}.conf").write_text(SITE.format(number=number, root=live_root))
