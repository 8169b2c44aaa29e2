"""What Tomcat's CorsFilter makes of a request with an Origin (org.apache.catalina.filters.CorsFilter, 9.0.70 and 10.1)."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Final, NamedTuple

from rupex.model import Header
from rupex.servers.common.patterns import UndeterminedError
from rupex.servers.tomcat.syntax import Element

_METHODS: Final = "GET,POST,HEAD,OPTIONS"
_HEADERS: Final = (
    "Origin,Accept,X-Requested-With,Content-Type,Access-Control-Request-Method,Access-Control-Request-Headers"
)
_MAX_AGE: Final = "1800"
_OLD: Final = (9, 0, 70)
_NEW: Final = (10, 1, 60)
"""The releases that were measured."""
_SCHEME: Final = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*:")


class CorsAnswer(NamedTuple):
    """``status``: where the filter answers itself, None where it lets the request on; ``headers``: what it adds."""

    status: int | None
    headers: tuple[Header, ...]


def answer_cors(
    given: Mapping[str, str],
    element: Element,
    method: str,
    headers: Mapping[str, str],
    site: str,
    release: tuple[int, ...],
) -> CorsAnswer:
    """What the filter with the parameters ``given`` makes of a request with an Origin. ``headers``: those of the request, by
    lower-case name; ``site``: the origin of the server itself; a request from there passes like one without an Origin. Raises
    :class:`~rupex.servers.common.patterns.UndeterminedError` between two measured releases that differ."""
    origin = headers["origin"]
    if origin.lower() == site.lower():
        if release < _NEW:
            raise UndeterminedError("how CorsFilter of this release answers the server's own origin was not measured")
        return CorsAnswer(None, ())
    if method == "POST" and "content-type" not in headers and _OLD < release < _NEW:
        raise UndeterminedError("how CorsFilter of this release answers a POST without Content-Type was not measured")
    origins = {word.strip() for word in given.get("cors.allowed.origins", "").split(",") if word.strip()}
    wanted = headers.get("access-control-request-method")
    is_preflight = method == "OPTIONS" and bool(wanted)
    methods = _words(given.get("cors.allowed.methods", _METHODS))
    is_allowed = (
        _is_origin(origin) and ("*" in origins or origin in origins) and not (method == "OPTIONS" and wanted == "")
    )
    if is_preflight:
        asked = _words(headers.get("access-control-request-headers", "").lower())
        allowed = _words(given.get("cors.allowed.headers", _HEADERS).lower())
        is_allowed = is_allowed and wanted in methods and set(asked) <= set(allowed)
    elif method not in methods or (method == "POST" and "content-type" not in headers and release <= _OLD):
        is_allowed = False
    if not is_allowed:
        return CorsAnswer(403, ())
    return CorsAnswer(200 if is_preflight else None, tuple(_sent(given, element, method, origin, origins)))


def headers_for_any(given: Mapping[str, str], element: Element, method: str) -> Iterator[Header]:
    """What the filter sends to a simple request with an Origin that it allows; old releases send to all what hangs on none."""
    origins = given.get("cors.allowed.origins", "")
    place = element.provenance()
    words = "it is sent to requests from another origin"
    if origins.strip() == "*":
        yield Header("Access-Control-Allow-Origin", "*", "all", place, words)
    elif origins:
        yield Header("Access-Control-Allow-Origin", origins.split(",")[0].strip(), "all", place, words)
    if origins and given.get("cors.support.credentials", "false").lower() == "true":
        yield Header("Access-Control-Allow-Credentials", "true", "all", place, words)
    yield from _of_filter(given, element, method)


FOR_ANY: Final = (
    "Access-Control-Expose-Headers", "Access-Control-Max-Age", "Access-Control-Allow-Methods", "Access-Control-Allow-Headers",
)  # fmt: skip
"""Headers that hang on no origin."""


def _of_filter(given: Mapping[str, str], element: Element, method: str) -> Iterator[Header]:
    """What hangs on no origin."""
    place = element.provenance()
    exposed = _words(given.get("cors.exposed.headers", ""))
    if exposed:
        yield Header("Access-Control-Expose-Headers", ",".join(exposed), "all", place)
    if method == "OPTIONS":
        age = given.get("cors.preflight.maxage", _MAX_AGE).strip()
        if not age.startswith("-") and age != "0":
            yield Header("Access-Control-Max-Age", age, "all", place)
        yield Header("Access-Control-Allow-Methods", "…", "all", place)  # in an order of Java's own
        yield Header("Access-Control-Allow-Headers", "…", "all", place)


def _sent(given: Mapping[str, str], element: Element, method: str, origin: str, origins: set[str]) -> Iterator[Header]:
    place = element.provenance()
    yield Header("Access-Control-Allow-Origin", "*" if "*" in origins else origin, "all", place)
    if given.get("cors.support.credentials", "false").lower() == "true":
        yield Header("Access-Control-Allow-Credentials", "true", "all", place)
    yield from _of_filter(given, element, method)


def _words(text: str) -> list[str]:
    return [word.strip() for word in text.split(",") if word.strip()]


def _is_origin(text: str) -> bool:
    """Whether an Origin is one at all (RequestUtil.isValidOrigin)."""
    if "%" in text or not text:
        return False
    return text == "null" or text.startswith("file://") or _SCHEME.match(text) is not None
