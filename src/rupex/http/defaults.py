"""Pages that come with a server's package, known by words that stand in them and in no site of anybody's own."""

from __future__ import annotations

import re
from functools import cache

from rupex.families import PackagedPage, all_facts


@cache
def _pages() -> tuple[tuple[re.Pattern[str], PackagedPage], ...]:
    return tuple((re.compile(page.pattern), page) for facts in all_facts() for page in facts.pages)


def default_page(body: str) -> str | None:
    """Which package's page ``body`` is, None for any other."""
    return next((page.title for pattern, page in _pages() if pattern.search(body)), None)


def default_page_words(body: str) -> str | None:
    """The words by which a package's page is known, None for any other page."""
    return next((page.words for pattern, page in _pages() if pattern.search(body)), None)
