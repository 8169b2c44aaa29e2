"""Private keys as a snapshot has them: described in a block of text that stands where the key stood, in a form that any tool
can write. The key itself is not in it.

    -----BEGIN RUPEX KEY DESCRIPTION-----
    Type: RSA
    Bits: 2048
    Encrypted: no
    Public-SHA256: 0a1b…                  (of the public key's DER form, SubjectPublicKeyInfo)
    Flaw: none                            (or what makes it unsound; ``unknown`` where nobody looked)
    -----END RUPEX KEY DESCRIPTION-----
"""

from __future__ import annotations

import re
from typing import Final

from rupex.model import Key

BEGIN: Final = "-----BEGIN RUPEX KEY DESCRIPTION-----"
END: Final = "-----END RUPEX KEY DESCRIPTION-----"

_BLOCK = re.compile(rf"{BEGIN}\r?\n(.{{0,2000}}?){END}".encode(), re.DOTALL)
_UNKNOWN: Final = "unknown"


def render_description(key: Key) -> str:
    """The block that describes ``key``, with a line end behind it."""
    rows = {
        "Type": key.type,
        "Bits": _UNKNOWN if key.bits is None else str(key.bits),
        "Encrypted": "yes" if key.encrypted else "no",
        "Public-SHA256": key.public_sha256 or _UNKNOWN,
        "Flaw": _UNKNOWN if key.flaw is None else key.flaw or "none",
    }
    return "\n".join((BEGIN, *(f"{name}: {value}" for name, value in rows.items()), END)) + "\n"


def parse_description(content: bytes) -> Key | None:
    """The first key described in ``content``; None when there is none."""
    found = _BLOCK.search(content)
    if found is None:
        return None
    rows = dict(line.split(": ", 1) for line in found[1].decode("utf-8", "replace").splitlines() if ": " in line)
    bits, digest, flaw = rows.get("Bits", ""), rows.get("Public-SHA256", ""), rows.get("Flaw", _UNKNOWN).strip()
    return Key(
        type=rows.get("Type", "other").strip()[:40],
        bits=int(bits) if bits.strip().isdecimal() and len(bits) < 8 else None,
        encrypted=rows.get("Encrypted", "no").strip() == "yes",
        public_sha256=digest.strip() if re.fullmatch(r"\s*[0-9a-f]{64}\s*", digest) else None,
        flaw=None if flaw == _UNKNOWN else "" if flaw == "none" else flaw[:200],
    )
