"""Pages that come with a server's package, known by words that stand in them and in no site of anybody's own."""

from __future__ import annotations

import re
from typing import Final

# Words of the page, and what it is. Read off the pages of Debian 12's packages and of the projects' own, 2026-11-25.
_PAGES: Final = (
    (re.compile(r"<title>Welcome to nginx"), "nginx's welcome page"),
    (re.compile(r"<title>Apache2 Debian Default Page: It works</title>"), "Apache httpd's page of Debian's package"),
    (re.compile(r"<html><body><h1>It works!</h1></body></html>"), "Apache httpd's page"),
    (re.compile(r"If you're seeing this, you've successfully installed Tomcat"), "Tomcat's welcome page"),
    (re.compile(r"<title>IIS Windows( Server)?</title>"), "IIS's welcome page"),
    (re.compile(r"<title>Welcome page</title>[\s\S]{0,2000}lighttpd"), "lighttpd's placeholder page"),
    (re.compile(r"<title>Caddy works!</title>"), "Caddy's welcome page"),
)


def default_page(body: str) -> str | None:
    """Which package's page ``body`` is, None for any other."""
    return next((what for pattern, what in _PAGES if pattern.search(body)), None)
