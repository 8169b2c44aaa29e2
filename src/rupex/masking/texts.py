"""Texts as they may leave a machine: every value that is not on the list of what may go (``leaves.tsv``) is a mark.

Text in, text out. The lines, the words and their quotes stay, so that an audit of the result finds the same directives in
the same places. Two steps: what is a secret by its name or place (:mod:`rupex.masking.secrets`) becomes a secret's mark,
whatever directive it stands in; then each word goes by the class of its directive. ``mask.awk`` does the same in the script.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from functools import lru_cache
from typing import Final

from rupex.masking.apache import OPEN_TO, mask_apache
from rupex.masking.lines import (
    NAMES_AN_INTERFACE,
    SAYS_SOMETHING,
    mask_rules,
    mask_script,
    mask_settings,
    mask_words,
    mask_yaml,
)
from rupex.masking.marks import MARK
from rupex.masking.nginx import mask_nginx
from rupex.masking.quoting import ELLIPSIS
from rupex.masking.values import (
    COOKIE_ATTRIBUTES,
    PLACE_HEADERS,
    POLICY_HEADERS,
    REQUEST_HEADERS,
    SAFE_SOURCES,
    Masker,
)
from rupex.masking.xml import mask_xml

LANGUAGES: Final[dict[str, Callable[[str, Masker], str]]] = {
    "nginx": mask_nginx, "apache": mask_apache, "xml": mask_xml, "map": mask_script, "script": mask_script,
    "unit": mask_settings, "ini": mask_settings, "properties": mask_settings, "openssl": mask_settings,
    "os-release": mask_settings, "environment": mask_settings, "yaml": mask_yaml, "rules": mask_rules, "words": mask_words,
}  # fmt: skip


def mask(text: str, language: str, masker: Masker) -> str:
    """``text``, written in ``language``, as it may leave. ``masker``: that of the snapshot, which numbers its marks."""
    return LANGUAGES[language](masker.begin(language, text), masker)


def shown(text: str, language: str) -> str:
    """``text`` for a person: as :func:`mask` leaves it, with an ellipsis for each mark."""
    return _shown(text, language) if len(text) < _SHORT else _masked(text, language)


_SHORT: Final = 200


@lru_cache(maxsize=4096)
def _shown(text: str, language: str) -> str:
    """The same line stands in many files."""
    return _masked(text, language)


def _masked(text: str, language: str) -> str:
    return MARK.sub(ELLIPSIS, mask(text, language if language in LANGUAGES else "map", Masker()))


def words_of_code() -> Mapping[str, Collection[str]]:
    """The lists of words that the masking of languages knows, by the names that ``mask.awk`` has for them."""
    return {
        "source": SAFE_SOURCES, "policy-header": POLICY_HEADERS, "place-header": PLACE_HEADERS,
        "request-header": REQUEST_HEADERS, "cookie-attribute": COOKIE_ATTRIBUTES, "open-to": OPEN_TO,
        "interface": NAMES_AN_INTERFACE, "says": SAYS_SOMETHING,
    }  # fmt: skip


__all__ = ["LANGUAGES", "Masker", "mask", "shown", "words_of_code"]
