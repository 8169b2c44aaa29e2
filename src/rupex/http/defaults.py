"""Pages that come with a server's package, known by words that stand in them and in no site of anybody's own."""

from __future__ import annotations

import re
from typing import Final

# Words of the page, what it is, and what of it tells so. Read off the pages of Debian 12's packages and of the projects'
# own, 2026-11-25.
_PAGES: Final = (
    (re.compile(r"<title>Welcome to nginx"), "nginx's welcome page", "<title>Welcome to nginx"),
    (re.compile(r"<title>Apache2 Debian Default Page: It works</title>"), "Apache httpd's page of Debian's package",
     "<title>Apache2 Debian Default Page: It works</title>"),
    (re.compile(r"<html><body><h1>It works!</h1></body></html>"), "Apache httpd's page",
     "<html><body><h1>It works!</h1></body></html>"),
    (re.compile(r"If you're seeing this, you've successfully installed Tomcat"), "Tomcat's welcome page",
     "If you're seeing this, you've successfully installed Tomcat"),
    (re.compile(r"<title>IIS Windows( Server)?</title>"), "IIS's welcome page", "<title>IIS Windows</title>"),
    (re.compile(r"<title>Welcome page</title>[\s\S]{0,2000}lighttpd"), "lighttpd's placeholder page",
     "<title>Welcome page</title>lighttpd"),
    (re.compile(r"<title>Caddy works!</title>"), "Caddy's welcome page", "<title>Caddy works!</title>"),
)  # fmt: skip


def default_page(body: str) -> str | None:
    """Which package's page ``body`` is, None for any other."""
    return next((what for pattern, what, _ in _PAGES if pattern.search(body)), None)


def default_page_words(body: str) -> str | None:
    """The words by which a package's page is known, None for any other page."""
    return next((words for pattern, _, words in _PAGES if pattern.search(body)), None)
