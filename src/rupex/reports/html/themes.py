"""The themes under which people look for controls, by the first word of their identifiers."""

from __future__ import annotations

from typing import Final

THEMES: Final = {
    "transport": "Transport and redirects", "redirect": "Transport and redirects", "proxy": "Transport and redirects",
    "tls": "TLS", "cert": "Certificates", "key": "Keys, files, secrets", "keystore": "Keys, files, secrets",
    "secret": "Keys, files, secrets", "acme": "Keys, files, secrets", "config": "Keys, files, secrets",
    "webroot": "Keys, files, secrets", "override": "Keys, files, secrets", "renewal": "Keys, files, secrets",
    "header": "Response headers", "cookie": "Response headers", "exposure": "Exposed details and surface",
    "surface": "Exposed details and surface", "drift": "Disk against wire",
}  # fmt: skip
NAMES: Final = tuple(dict.fromkeys(THEMES.values()))


def theme_of(control: str) -> str:
    """The theme of a control; a third party's own words stand for themselves."""
    word = control.partition(".")[0]
    return THEMES.get(word, word.capitalize())
