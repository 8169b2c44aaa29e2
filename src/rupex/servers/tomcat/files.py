"""What the default servlet makes of the files of an application, and what changes the cookie of its sessions."""

from __future__ import annotations

from typing import Final

from rupex.host import HostTree
from rupex.host.tree.paths import normalize_path
from rupex.servers.tomcat.deployed import Context
from rupex.servers.tomcat.syntax import Element

_OF_COOKIES: Final = ("useHttpOnly", "usePartitioned", "cookies")
"""Attributes of a context that change the session's cookie, beside those that begin with ``sessionCookie``."""
_READING: Final = ("GET", "HEAD", "POST")
_STATUS_OF_METHOD: Final = {"OPTIONS": 200, "TRACE": 200, "PUT": 405, "DELETE": 405}
"""What the default servlet answers to other methods, whatever lies there, as long as nothing may be written (DefaultServlet)."""


def from_disk(
    tree: HostTree, context: Context, inner: str, method: str, query: str | None
) -> tuple[int | None, str | None]:
    """The status and Location for the file or folder at ``inner`` below an application; (None, None) where something else of the
    application may answer."""
    folder = context.folder
    if folder is None or context.app.has_servlets() or inner.endswith((".jsp", ".jspx")):
        return None, None
    if method not in _READING:
        return (None if context.app.may_write() else _STATUS_OF_METHOD.get(method, 501)), None
    path = normalize_path(f"{folder}{inner}")
    if tree.is_folder(path):
        if not inner.endswith("/"):
            return 302, f"{context.path}{inner}/{query_part(query)}"
        for name in context.app.welcome_files() or ("index.html", "index.htm", "index.jsp"):
            if tree.is_file(f"{path}/{name}"):
                return (None if name.endswith(".jsp") else 200), None
        return (200 if context.app.listings()[0] else 404), None
    return (200 if tree.is_file(path) and not inner.endswith("/") else 404), None


def has_page(tree: HostTree, context: Context, inner: str, name: str) -> bool:
    """Whether a folder has a page that stands for it, by whose path filters are chosen."""
    path = normalize_path(f"{context.folder}{inner}{name}")
    return inner.endswith("/") and context.folder is not None and tree.is_file(path)


def changes_session_cookie(context: Context, default_context: Element | None) -> bool:
    """Whether something changes the cookie of sessions, which Rupex does not model."""
    elements = [one for one in (*context.elements, default_context) if one is not None]
    names = {name for one in elements for name in one.attributes}
    said = any(name.startswith("sessionCookie") or name in _OF_COOKIES for name in names)
    processors = [found for one in elements for found in one.all("CookieProcessor")]
    return said or bool(processors) or context.app.says_of_sessions()


def query_part(query: str | None) -> str:
    return "" if query is None else f"?{query}"
