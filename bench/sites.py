"""Writes the benchmark's host tree: many nginx sites, each with a plain and a TLS server block in a file of its own."""

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
