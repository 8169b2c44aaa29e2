"""Content security policies (Content Security Policy Level 3, 2.2 and 6)."""

from __future__ import annotations

from functools import lru_cache
from typing import Final

from msgspec import Struct

HEADER: Final = "Content-Security-Policy"

# Directives that restrict nothing that a page loads, runs or is framed by.
_NOT_RESTRICTING: Final = frozenset({"upgrade-insecure-requests", "block-all-mixed-content", "report-uri", "report-to"})


class CspPolicy(Struct, frozen=True):
    """One policy: directive names (lower case) to their source lists, as written. A repeated directive is ignored."""

    directives: dict[str, tuple[str, ...]]

    @property
    def restricts(self) -> bool:
        """Whether it restricts anything at all."""
        return any(name not in _NOT_RESTRICTING for name in self.directives)

    def sources(self, name: str) -> tuple[str, ...] | None:
        """The source list of ``name``, or None when the policy does not have it."""
        return self.directives.get(name)


@lru_cache(maxsize=4096)
def parse_csp(value: str) -> tuple[CspPolicy, ...]:
    """The policies of one header value, which may hold several, with commas between."""
    policies = []
    for serialized in value.split(","):
        directives: dict[str, tuple[str, ...]] = {}
        for part in serialized.split(";"):
            words = part.split()
            if words:
                directives.setdefault(words[0].lower(), tuple(words[1:]))
        if directives:
            policies.append(CspPolicy(directives))
    return tuple(policies)


_UNSAFE_SCRIPTS: Final = frozenset({"'unsafe-inline'", "'unsafe-eval'", "*", "http:", "https:", "data:"})
_STRICT: Final = ("'nonce-", "'sha256-", "'sha384-", "'sha512-")


def unsafe_script_sources(policy: CspPolicy) -> tuple[str, ...] | None:
    """The sources of a policy that let any script run; None when it does not restrict scripts at all.

    What CSP Level 3 ignores does not count: ``'unsafe-inline'`` beside a nonce or hash (6.7.3.2), and host and scheme
    sources beside ``'strict-dynamic'`` (6.7.2.5, 8.2).
    """
    sources = policy.sources("script-src")
    if sources is None:
        sources = policy.sources("default-src")
    if sources is None:
        return None
    words = [word.lower() for word in sources]
    has_nonce = any(word.startswith(_STRICT) for word in words)
    is_strict = "'strict-dynamic'" in words
    bad = []
    for word in words:
        if word not in _UNSAFE_SCRIPTS:
            continue
        if word == "'unsafe-inline'" and (has_nonce or is_strict):
            continue
        if is_strict and word in ("*", "http:", "https:", "data:"):
            continue
        bad.append(word)
    return tuple(bad)
