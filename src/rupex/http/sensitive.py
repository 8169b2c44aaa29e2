"""Files that nobody outside should get: version control, dot files, backups, dumps, configuration, keys."""

from __future__ import annotations

import re
from typing import Final

SAMPLES: Final = ("/.git/config", "/.env", "/backup.sql", "/site.conf.bak", "/index.html~")
"""One URL path of each kind, to ask whether a server refuses what it has no reason to serve."""

_SENSITIVE = re.compile(
    r"""^\.(?!well-known$)                              # dot files and folders, but the one of RFC 8615
      | ~$ | \.(?:bak|backup|old|orig|save|swp|swo|dist|rej)$
      | \.(?:sql|dump|mdb|sqlite3?|db)(?:\.(?:gz|xz|zst|bz2|zip))?$
      | (?:backup|dump)[^/]*\.(?:tar|tgz|zip|gz|xz|7z)
      | \.(?:conf|cnf|ini|cfg|inc)$
      | ^(?:web\.config|composer\.(?:json|lock)|package-lock\.json|Dockerfile|docker-compose\.ya?ml)$
      | \.(?:key|pem|p12|pfx|jks|keystore)$ | ^id_(?:rsa|ed25519|ecdsa)$
    """,
    re.VERBOSE | re.IGNORECASE,
)


def is_sensitive(name: str) -> bool:
    """Whether a file or folder called ``name`` (the last part of its path) is one of them."""
    return _SENSITIVE.search(name) is not None
