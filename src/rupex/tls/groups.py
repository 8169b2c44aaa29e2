"""Named groups, and the lists of them that OpenSSL offers by default or is told to offer.

Rows of fact stand in ``groups.tsv``: code, IANA name, kind, bits of classical security, OpenSSL's other names, source.
"""

from __future__ import annotations

import re
from functools import cache
from typing import Final, Literal

from msgspec import Struct

from rupex.package_files import folder_of
from rupex.tls.openssl import LEVEL_BITS, Library


class Group(Struct, frozen=True, gc=False):
    """One named group. ``kind``: elliptic curve, finite field, key encapsulation, or a hybrid of a curve and one.

    ``bits``: of security against a classical attacker.
    """

    code: int
    name: str
    kind: Literal["ec", "ff", "kem", "hybrid"]
    bits: int
    aliases: tuple[str, ...]
    source: str

    @property
    def is_post_quantum(self) -> bool:
        """Whether it holds against a quantum computer: ML-KEM as FIPS 203 has it, not a draft of it."""
        return "MLKEM" in self.name


@cache
def all_groups() -> tuple[Group, ...]:
    """Every known group by ascending code."""
    text = folder_of("rupex.tls").joinpath("groups.tsv").read_text("utf-8")
    found = []
    for row in text.splitlines():
        if not row.startswith("#"):
            code, name, kind, bits, aliases, source = row.split("\t")
            known_as = () if aliases == "-" else tuple(aliases.split())
            found.append(Group(int(code), name, kind, int(bits), known_as, source))  # type: ignore[arg-type]
    return tuple(found)


@cache
def _by_name() -> dict[str, Group]:
    return {name.lower(): group for group in all_groups() for name in (group.name, *group.aliases)}


def group_called(name: str) -> Group | None:
    """The group with that name, IANA's or OpenSSL's, in any case; or None."""
    return _by_name().get(name.lower())


# What a server offers when nothing names groups (tls1_groups / ssl/t1_lib.c of each release), oldest first.
# Those of 3.0 are measured against the real library in the tests, the others are from its source.
_BY_DEFAULT: Final[tuple[tuple[tuple[int, ...], tuple[str, ...]], ...]] = (
    (
        (1, 0, 2),
        tuple(
            "secp256r1 secp521r1 brainpoolP512r1 brainpoolP384r1 secp384r1 brainpoolP256r1 secp256k1 sect571r1"
            " sect571k1 sect409k1 sect409r1 sect283k1 sect283r1".split()
        ),
    ),
    ((1, 1, 0), ("x25519", "secp256r1", "secp521r1", "secp384r1")),
    ((1, 1, 1), ("x25519", "secp256r1", "x448", "secp521r1", "secp384r1")),
    (
        (3, 0, 0),
        tuple("x25519 secp256r1 x448 secp521r1 secp384r1 ffdhe2048 ffdhe3072 ffdhe4096 ffdhe6144 ffdhe8192".split()),
    ),
    (
        (3, 5, 0),
        tuple("X25519MLKEM768 x25519 secp256r1 x448 secp384r1 secp521r1 ffdhe2048 ffdhe3072".split()),
    ),
)
_FIRST_OF_KIND: Final[dict[str, tuple[int, ...]]] = {
    "x25519": (1, 1, 0),
    "x448": (1, 1, 1),
    "hybrid": (3, 5, 0),
    "kem": (3, 5, 0),
    "ff": (3, 0, 0),
}


def default_groups(library: Library) -> tuple[str, ...] | None:
    """The groups that ``library`` offers by itself; None for a release that is not known."""
    if library.release is None:
        return None
    found: tuple[str, ...] = ("secp256r1",)
    for since, names in _BY_DEFAULT:
        if library.release >= since:
            found = names
    return found


def negotiable_groups(declared: str, library: Library, level: int, newest_tls: bool) -> tuple[str, ...] | None:
    """The groups (IANA names, in order) that a server offers which is told ``declared`` (``""``: nothing).

    ``level``: the security level in force; ``newest_tls``: whether TLS 1.3 is spoken, which alone has finite-field
    groups by name. None where the library's own list is wanted and its release is not known.
    """
    names = default_groups(library) if not declared else _listed(declared)
    if names is None:
        return None
    minimum_bits = LEVEL_BITS[level] if library.release is None or library.release >= (1, 1, 0) else 0
    return tuple(name for name in names if _is_offered(name, library, minimum_bits, newest_tls))


def _listed(declared: str) -> tuple[str, ...]:
    """The names of a list, those that mean nothing left out. OpenSSL 3.5's marks for key shares are passed over."""
    found: dict[str, None] = {}
    for word in re.split(r"[:/]", declared):
        name = word.strip().lstrip("?*")
        if name.upper() == "DEFAULT" or not name or name.startswith("-"):
            continue
        group = group_called(name)
        found[name if group is None else group.name] = None
    return tuple(found)


def _is_offered(name: str, library: Library, wanted_bits: int, newest_tls: bool) -> bool:
    group = group_called(name)
    if group is None:
        return False
    release = library.release or (99,)
    since = _FIRST_OF_KIND.get(group.name) or _FIRST_OF_KIND.get(group.kind, (0,))
    if release < since:
        return False
    if group.kind in ("ff", "hybrid", "kem"):
        return newest_tls and (group.kind != "ff" or group.bits + 9 >= wanted_bits)  # the library counts 112 for 2048
    return group.bits >= wanted_bits
