"""Cookies that the configuration sets, or the wire shows."""

from __future__ import annotations

from collections.abc import Callable

from rupex.controls.catalogue import control
from rupex.http import cookies
from rupex.http.cookies import Cookie
from rupex.model import EXEMPT, Endpoint, Fail, Judgement, Pass, Scope, Unknown
from rupex.model.change import Change


def _each(scope: Scope, problem_of: Callable[[Cookie], str | None]) -> Judgement:
    """Pass when no cookie has a problem; exempt without any; unknown where one may be sent whose attributes are not known."""
    passed: Judgement = EXEMPT
    doubt: Unknown | None = None
    for header in scope.sent(cookies.HEADER):
        cookie = cookies.parse_cookie(header.value)
        if cookie is None:
            doubt = Unknown(header.unknown, header.provenance) if isinstance(header.unknown, str) else doubt
            continue
        problem = None if cookie.deletes else problem_of(cookie)
        if problem is not None:
            return Fail(f"the cookie {cookie.name} {problem}", header.provenance)
        passed = Pass(header.provenance)
    return doubt or passed


@control(
    "cookie.secure", title="Cookies go over TLS only", place="scope", severity="medium",
    why="Without Secure the browser sends it in clear with the first plain request, and anybody can take it.",
    references=("RFC 6265 4.1.2.5",), cwe=("CWE-614",),
    change=Change("cookie-flags", {"flags": "Secure"}),
    remedy="Add Secure to the cookie.",
)  # fmt: skip
def secure(endpoint: Endpoint, scope: Scope) -> Judgement:
    return _each(scope, lambda cookie: None if cookie.secure else "has no Secure")


@control(
    "cookie.httponly", title="Scripts cannot read cookies", place="scope", severity="medium",
    why="Script that gets into a page takes every cookie that script may read.",
    references=("RFC 6265 4.1.2.6",), cwe=("CWE-1004",),
    change=Change("cookie-flags", {"flags": "HttpOnly"}),
    remedy="Add HttpOnly to the cookie.",
)  # fmt: skip
def http_only(endpoint: Endpoint, scope: Scope, *, read_by_script: tuple[str, ...]) -> Judgement:
    def problem_of(cookie: Cookie) -> str | None:
        return None if cookie.http_only or cookie.name in read_by_script else "has no HttpOnly"

    return _each(scope, problem_of)


@control(
    "cookie.samesite", title="Cookies say which sites they go along from", place="scope", severity="low",
    why="A cookie that goes along from every site lets every site act in the visitor's name.",
    references=("RFC 6265bis 4.1.2.7",), cwe=("CWE-1275",),
    change=Change("cookie-flags", {"flags": "SameSite=Lax"}),
    remedy="Add SameSite=Lax, or Strict.",
)  # fmt: skip
def same_site(endpoint: Endpoint, scope: Scope) -> Judgement:
    def problem_of(cookie: Cookie) -> str | None:
        if cookie.same_site in ("lax", "strict"):
            return None
        if cookie.same_site == "none":
            return None if cookie.secure else "has SameSite=None without Secure, so browsers refuse it"
        return "has no SameSite"

    return _each(scope, problem_of)


@control(
    "cookie.prefix", title="Cookie prefixes keep what they promise", place="scope", severity="low",
    why="Browsers refuse a cookie whose prefix promises what its attributes do not keep.",
    references=("RFC 6265bis 4.1.3",), cwe=("CWE-1275",),
    change=Change("application"),
    remedy="Give __Host- cookies Secure and Path=/ and no Domain, and __Secure- cookies Secure.",
)  # fmt: skip
def prefix(endpoint: Endpoint, scope: Scope) -> Judgement:
    return _each(scope, lambda cookie: cookies.broken_prefix(cookie))
