"""Text of a configuration in a sentence: what may be a secret becomes an ellipsis."""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Final

from rupex.masking.marks import MARK
from rupex.masking.secrets import find_secrets
from rupex.masking.values import Masker

ELLIPSIS: Final = "…"
_LONGEST: Final = 40
_URL: Final = re.compile(r"((?:(?<![a-z0-9+.-])[a-z][a-z0-9+.-]*+:)?//)([^\s/?#@\"'<>]*+@)", re.IGNORECASE)
_ITEM: Final = re.compile(r"(?<=[?&;])([^\s?&;\"'<>#]+)|(?<=%3[fF])([^\s?&;\"'<>#]+)")
_QUERY: Final = re.compile(r"(\?|%3[fF])[^\s\"'<>]*")
_COOKIE: Final = re.compile(
    r"(?i)(\bset-cookie2?[\"']?[:=]?\s+[\"']?|\bcookie[\"']?:\s*[\"']?)([!#$%&'*+.^_`|~\w-]{1,80})=([^;\s\"',]+)"
)
_VARIABLE: Final = re.compile(r"\$\{?\w|%\{|%[0-9A-Za-z](?![0-9A-Fa-f])|\$\d")
SAMPLE_VALUES: Final = frozenset(("high", "tide=high"))
"""Of the requests that an audit asks by example."""


def quoted(text: str) -> str:
    """A word of a configuration, or a few, for a sentence about it: each word that looks like a path, a host, a number or a
    keyword, or that is a directive's name, stays; any other becomes an ellipsis."""
    masker = Masker()
    words = [word if masker.looks_safe(word) or _is_name(word) else ELLIPSIS for word in text[:_LONGEST].split(" ")]
    return " ".join(words) + (ELLIPSIS if len(text) > _LONGEST else "")


def _is_name(word: str) -> bool:
    from rupex.masking.leaves import classes

    bare = word.strip("<>/").lower()
    return any((language, bare) in classes() for language in ("nginx", "apache"))


_MARKS: Final = re.compile(r"[=@:$?]")
"""One of these is in every text in which something has to go."""


@lru_cache(maxsize=16_384)
def redacted(text: str, asked: str = "") -> str:
    """``text``, of which some may come from a configuration or a listener, for a document: secrets, accounts in URLs, values of
    cookies and literal values in query strings become ellipses. Values that the user's own URL ``asked`` has stay."""
    if _MARKS.search(text) is None:
        return text
    kept, behind = [], 0
    for secret in find_secrets(text):
        kept += [text[behind : secret.start], ELLIPSIS, "\n" * text.count("\n", secret.start, secret.end)]
        behind = secret.end
    text = "".join([*kept, text[behind:]])
    text = _URL.sub(lambda found: f"{found[1]}{ELLIPSIS}@", text)
    text = _COOKIE.sub(lambda found: f"{found[1]}{found[2]}={ELLIPSIS}", text)
    return (
        _QUERY.sub(lambda found: _ITEM.sub(lambda item: _item(item[0], asked), found[0]), text) if "?" in text else text
    )


@lru_cache(maxsize=1024)
def _values_in(url: str) -> frozenset[str]:
    """What may come back of a URL: it, its path, the parts of that, and the values of its query."""
    path, _, query = url.partition("?")
    path = path.partition("://")[2].partition("/")[2] if "://" in path else path.removeprefix("/")
    values = (item.partition("=")[2] or item for item in re.split("[&;]", query.partition("#")[0]))
    return frozenset((url, path, f"/{path}", *path.split("/"), *values)) - {""}


def _item(item: str, asked: str) -> str:
    """One item of a query string: its value stays where it is empty, a variable, or the asker's own."""
    name, equals, value = item.partition("=")
    literal = value if equals else name
    is_own = literal in SAMPLE_VALUES or literal in _values_in(asked)
    if not literal or is_own or literal == ELLIPSIS or _VARIABLE.search(literal):
        return item
    return f"{name}={ELLIPSIS}" if equals else ELLIPSIS


def redacted_header(name: str, value: str, asked: str = "") -> str:
    """The value of a header for a document: that of a cookie, or of one that is called like a secret, becomes an ellipsis."""
    if name.lower() in ("set-cookie", "set-cookie2", "cookie"):
        first, mark, rest = value.partition(";")
        cookie, equals, _ = first.partition("=")
        return f"{cookie}{equals}{ELLIPSIS if equals else ''}{mark}{rest}" if equals else ELLIPSIS
    if find_secrets(f"{name}: some-value"):  # it is called like a secret
        return ELLIPSIS
    return redacted(value, asked)


def listed_header(name: str, value: str) -> str:
    """As :func:`redacted_header`, for a document in which nobody asked for this header: a value that no verdict reads becomes an
    ellipsis too, but for what looks like a path, a host, a number or a keyword, and for variables."""
    masker = Masker()
    masker.begin("nginx", "")
    is_variable = "%{" in value  # httpd's, of which every part may stay
    shown = value if is_variable else MARK.sub(ELLIPSIS, masker.value(value, "header", name.lower()))
    return redacted_header(name, shown)


__all__ = ["ELLIPSIS", "listed_header", "quoted", "redacted", "redacted_header"]
