"""What language a file is written in, by its name, for files that no table names."""

from __future__ import annotations

import re
from typing import Final

_FAMILIES: Final = {"nginx": "nginx", "apache": "apache"}
_NAMES: Final = (
    (re.compile(r".*\.xml"), "xml"),
    (re.compile(r".*\.(?:properties|security)"), "properties"),
    (re.compile(r".*\.(?:html?|jsp)"), "page"),
    (re.compile(r"rewrite\.config|\.htaccess"), "apache"),
    (re.compile(r".*\.(?:pem|crt|cer|key|der|p8|pk8|p12|pfx|jks|keystore)(?:[.~].*)?"), "credential"),
    (re.compile(r".*\.cnf"), "openssl"),
    (re.compile(r".*\.(?:timer|service)"), "unit"),
    (re.compile(r".*\.ya?ml"), "yaml"),
    (re.compile(r".*\.ini|cli\.conf"), "ini"),
)


def language_of(path: str, family: str | None = None, otherwise: str = "map") -> str:
    """The language of the file at ``path``. ``family``: whose configuration it is, if anybody's."""
    if family in _FAMILIES:
        return _FAMILIES[family]
    name = path.rpartition("/")[2].lower()
    return next((language for pattern, language in _NAMES if pattern.fullmatch(name)), otherwise)
