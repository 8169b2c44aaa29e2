"""OpenSSL's cipher list language: which suites an expression selects, in which order.

Follows ``ssl_create_cipher_list`` and ``ssl_cipher_process_rulestr`` (ssl/ssl_ciph.c of OpenSSL 1.0.2 to 3.x, and
ciphers(1)). The library keeps one list of all suites it knows, in its own order of preference; each item of an
expression moves suites in that list, or takes them out. Nothing here asks the local library.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import cache, lru_cache
from typing import Final

from msgspec import Struct

from rupex.model import Provenance
from rupex.model.budget import spend
from rupex.tls.suites import CipherSuite, all_suites

Test = Callable[[CipherSuite], bool]


LEVEL_BITS: Final = (0, 80, 112, 128, 192, 256)
"""Bits of security that a level asks of every algorithm (SSL_CTX_set_security_level(3), "DEFAULT CALLBACK BEHAVIOUR")."""


class Library(Struct, frozen=True):
    """The crypto library of a host. ``release`` None: not known, and then every suite it ever had is assumed.

    ``security_level``: the level in force where an expression sets none (SSL_CTX_set_security_level(3)). The rest is the
    system's policy (config(5), "SSL Configuration"), as its file words it, None where it says nothing: ``minimum`` and
    ``maximum`` version, ``ciphers`` (TLS 1.2 and older), ``ciphersuites`` (TLS 1.3), ``groups``, ``signatures``,
    ``options``; ``profile``: what ``PROFILE=SYSTEM`` stands for. ``provenance``: where the policy stands.
    """

    release: tuple[int, ...] | None = None
    security_level: int = 1
    minimum: str | None = None
    maximum: str | None = None
    ciphers: str | None = None
    ciphersuites: str | None = None
    groups: str | None = None
    signatures: str | None = None
    options: str | None = None
    profile: str | None = None
    provenance: Provenance | None = None

    def __str__(self) -> str:
        if self.release is None:
            return "an unknown crypto library (the most permissive is assumed)"
        return "OpenSSL " + ".".join(map(str, self.release))


def told_as_declared(words: str, library: Library | None = None) -> str:
    """What a note says of a setting beside its place: the ``words`` of the configuration, and the library that reads them."""
    shortened = words if len(words) <= _NOTE_CHARACTERS else f"{words[:_NOTE_CHARACTERS]}…"
    return f"declared: {shortened}" if library is None else f"declared: {shortened}; library: {library}"


class Selection(Struct, frozen=True):
    """What an expression selects: ``suites`` in order of preference (TLS 1.2 and older), and the ``security_level`` it
    sets, if it does. ``unknown_words``: the parts that name nothing, which the library passes over."""

    suites: tuple[CipherSuite, ...]
    security_level: int | None
    unknown_words: tuple[str, ...]


def _exchange(*names: str) -> Test:
    return lambda suite: suite.key_exchange in names and suite.authentication != "PSK"


def _psk(*names: str) -> Test:
    return lambda suite: (
        suite.key_exchange in names and (suite.authentication == "PSK" or suite.key_exchange == "RSA_PSK")
    )


def _authentication(*names: str) -> Test:
    return lambda suite: suite.authentication in names


def _encryption(*prefixes: str) -> Test:
    return lambda suite: suite.encryption.startswith(prefixes)


def _mac(*names: str) -> Test:
    return lambda suite: suite.mac in names


def _version(version: str) -> Test:
    return lambda suite: suite.version == version


def _ccm8(suite: CipherSuite) -> bool:
    return suite.encryption.endswith("CCM_8")


def _ccm(suite: CipherSuite) -> bool:
    return "_CCM" in suite.encryption


def _gost(suite: CipherSuite) -> bool:
    return suite.encryption.startswith(("28147", "MAGMA", "KUZNYECHIK"))


def _null(suite: CipherSuite) -> bool:
    return suite.bits == 0


def _strength(suite: CipherSuite) -> str:
    """The strength class of OpenSSL 1.1.0 and newer (SSL_LOW, SSL_MEDIUM, SSL_HIGH)."""
    if _null(suite):
        return "NONE"
    if suite.export or suite.bits < 112:
        return "LOW"
    return "MEDIUM" if suite.encryption.startswith(("RC4", "3DES", "IDEA", "SEED", "RC2", "DES_192")) else "HIGH"


def _not_default(suite: CipherSuite) -> bool:
    """SSL_NOT_DEFAULT of the library's table."""
    return (
        suite.anonymous
        or _null(suite)
        or _strength(suite) != "HIGH"
        or suite.authentication == "DSS"
        or suite.encryption.startswith(("CAMELLIA", "ARIA"))
        or _ccm(suite)
    )


def has_short_tag(suite: CipherSuite, release: tuple[int, ...] | None) -> bool:
    """Whether a suite counts for 64 bits only, since its authentication tag is short: since 3.2.0 (its CHANGES: "CCM8 cipher
    suites in TLS have been downgraded to security level zero")."""
    return _ccm8(suite) and (release is None or release >= (3, 2, 0))


def _newest_strength_bits(suite: CipherSuite) -> int:
    return 64 if has_short_tag(suite, None) else _strength_bits(suite)


def _strength_bits(suite: CipherSuite) -> int:
    """The effective bits by which the library sorts, until 3.2.0."""
    if suite.encryption.startswith("3DES"):
        return 112
    if suite.encryption.startswith("RC4_128"):
        return 80
    return suite.bits


def _old_strength_bits(suite: CipherSuite) -> int:
    return 112 if suite.encryption.startswith("3DES") else suite.bits


def _bits_of(release: tuple[int, ...] | None) -> Callable[[CipherSuite], int]:
    """How a release counts the strength of suites."""
    if release is None or release >= (3, 2, 0):
        return _newest_strength_bits
    return _old_strength_bits if release < (1, 1, 0) else _strength_bits


def _both(*tests: Test) -> Test:
    return lambda suite: all(test(suite) for test in tests)


def _not(test: Test) -> Test:
    return lambda suite: not test(suite)


_anonymous: Test = _authentication("anon")

# ciphers(1), "CIPHER STRINGS"; the table cipher_aliases of ssl_ciph.c.
_ALIASES: Final[dict[str, Test]] = {
    "ALL": _not(_null),
    "COMPLEMENTOFALL": _null,
    "COMPLEMENTOFDEFAULT": _both(_not_default, _not(_null)),
    "kRSA": _exchange("RSA"),
    "kEDH": _exchange("DHE"),
    "kDHE": _exchange("DHE"),
    "DH": _exchange("DHE"),
    "kDHr": _both(_exchange("DH"), _authentication("RSA")),
    "kDHd": _both(_exchange("DH"), _authentication("DSS")),
    "kDH": _exchange("DH"),
    "kEECDH": _exchange("ECDHE"),
    "kECDHE": _exchange("ECDHE"),
    "ECDH": _exchange("ECDHE"),
    "kECDHr": _both(_exchange("ECDH"), _authentication("RSA")),
    "kECDHe": _both(_exchange("ECDH"), _authentication("ECDSA")),
    "kECDH": _exchange("ECDH"),
    "kPSK": _psk("PSK"),
    "kRSAPSK": _psk("RSA_PSK"),
    "kECDHEPSK": _psk("ECDHE"),
    "kDHEPSK": _psk("DHE"),
    "kSRP": _exchange("SRP"),
    "kGOST": _exchange("GOST"),
    "aRSA": _authentication("RSA"),
    "aDSS": _authentication("DSS"),
    "DSS": _authentication("DSS"),
    "aNULL": _anonymous,
    "aECDSA": _authentication("ECDSA"),
    "ECDSA": _authentication("ECDSA"),
    "aPSK": _authentication("PSK"),
    "aGOST": _authentication("GOST01", "GOST12"),
    "aGOST01": _authentication("GOST01"),
    "aGOST12": _authentication("GOST12"),
    "aSRP": _authentication("SRP"),
    "EDH": _both(_exchange("DHE"), _not(_anonymous)),
    "DHE": _both(_exchange("DHE"), _not(_anonymous)),
    "EECDH": _both(_exchange("ECDHE"), _not(_anonymous)),
    "ECDHE": _both(_exchange("ECDHE"), _not(_anonymous)),
    "NULL": _null,
    "eNULL": _null,
    "RSA": _both(_exchange("RSA"), _authentication("RSA")),
    "ADH": _both(_exchange("DHE"), _anonymous),
    "AECDH": _both(_exchange("ECDHE"), _anonymous),
    "PSK": _psk("PSK", "RSA_PSK", "DHE", "ECDHE"),
    "SRP": _exchange("SRP"),
    "3DES": _encryption("3DES", "DES_192"),
    "DES": _encryption("DES_CBC", "DES40", "DES_64"),
    "RC4": _encryption("RC4"),
    "RC2": _encryption("RC2"),
    "IDEA": _encryption("IDEA"),
    "SEED": _encryption("SEED"),
    "GOST89": _encryption("28147"),
    "AES128": _encryption("AES_128"),
    "AES256": _encryption("AES_256"),
    "AES": _encryption("AES_"),
    "AESGCM": _encryption("AES_128_GCM", "AES_256_GCM"),
    "AESCCM": _both(_encryption("AES_"), _ccm),
    "AESCCM8": _ccm8,
    "CAMELLIA128": _encryption("CAMELLIA_128"),
    "CAMELLIA256": _encryption("CAMELLIA_256"),
    "CAMELLIA": _encryption("CAMELLIA"),
    "CHACHA20": _encryption("CHACHA20"),
    "ARIA128": _encryption("ARIA_128"),
    "ARIA256": _encryption("ARIA_256"),
    "ARIAGCM": _encryption("ARIA_128_GCM", "ARIA_256_GCM"),
    "ARIA": _encryption("ARIA"),
    "CBC": lambda suite: suite.encryption.endswith("_CBC"),
    "MD5": _mac("MD5"),
    "SHA1": _mac("SHA"),
    "SHA": _mac("SHA"),
    "SHA256": _mac("SHA256"),
    "SHA384": _mac("SHA384"),
    "GOST12": _mac("GOSTR3411_2012"),
    "SSLv3": _version("SSLv3"),
    "TLSv1": _version("TLSv1"),
    "TLSv1.0": _version("TLSv1"),
    "TLSv1.2": _version("TLSv1.2"),
    "LOW": lambda suite: _strength(suite) == "LOW",
    "MEDIUM": lambda suite: _strength(suite) == "MEDIUM",
    "HIGH": lambda suite: _strength(suite) == "HIGH",
    "EXP": lambda suite: suite.export,
    "EXPORT": lambda suite: suite.export,
}
_STRENGTHS: Final = ("LOW", "MEDIUM", "HIGH")
_OLD_NAMES: Final = {
    "EDH-DSS-DES-CBC3-SHA": "DHE-DSS-DES-CBC3-SHA",
    "EDH-RSA-DES-CBC3-SHA": "DHE-RSA-DES-CBC3-SHA",
}
_DEFAULT: Final = "ALL:!COMPLEMENTOFDEFAULT:!eNULL"  # OSSL_default_cipher_list(3)

# What was otherwise before 1.1.0 (as of 1.0.2o, against which the fixture tests/openssl_1_0_2.tsv was made).
_OLD_DEFAULT: Final = "ALL:!EXPORT:!LOW:!aNULL:!eNULL:!SSLv2"  # SSL_DEFAULT_CIPHER_LIST of 1.0.2
_OLD_ALIASES: Final[dict[str, Test | None]] = {
    "DH": _exchange("DHE", "DH"),
    "ECDH": _exchange("ECDHE", "ECDH"),
    "aECDH": _both(_exchange("ECDH")),
    "kKRB5": _exchange("KRB5"),
    "aKRB5": _exchange("KRB5"),
    "KRB5": _exchange("KRB5"),
    "PSK": _psk("PSK"),
    "kPSK": _psk("PSK"),
    "RSA": _both(_exchange("RSA"), _authentication("RSA")),
    # A suite over static keys is authenticated by those, not by the signature in the certificate.
    "aRSA": _both(_authentication("RSA"), _not(_exchange("DH", "ECDH"))),
    "aDSS": _both(_authentication("DSS"), _not(_exchange("DH"))),
    "DSS": _both(_authentication("DSS"), _not(_exchange("DH"))),
    "aECDSA": _both(_authentication("ECDSA"), _not(_exchange("ECDH"))),
    "ECDSA": _both(_authentication("ECDSA"), _not(_exchange("ECDH"))),
    "aDH": _exchange("DH"),
    "EXPORT40": lambda suite: suite.export and suite.bits == 40,
    "EXPORT56": lambda suite: suite.export and suite.bits == 56,
    "SSLv2": _version("SSLv2"),
    "SSLv3": lambda suite: suite.version in ("SSLv3", "TLSv1"),  # one flag, SSL_TLSV1 is SSL_SSLV3
    "TLSv1": lambda suite: suite.version in ("SSLv3", "TLSv1"),
    **dict.fromkeys(
        (
            "kRSAPSK kECDHEPSK kDHEPSK AESCCM AESCCM8 CHACHA20 ARIA ARIA128 ARIA256 ARIAGCM CBC TLSv1.0 kDHE kECDHE"
            " DHE ECDHE GOST12 aGOST12"
        ).split()
    ),
}
_ITEM = re.compile(r"([-+!@]?)([A-Za-z0-9\-._=+]*)")
_NOTE_CHARACTERS: Final = 2_000
"""What a note shows of the words of a configuration."""
_STEPS_A_CHARACTER: Final = 6
"""What a character of an expression costs; a word of it some microseconds."""

Codes = frozenset[int]


class _Working:
    """The library's list: suites with their place in it, and those switched on. Each method is one CIPHER_* rule for the suites
    with one of ``codes``."""

    def __init__(self, suites: list[CipherSuite]) -> None:
        self.order = suites
        self.active: set[int] = set()

    def add(self, codes: Codes) -> None:
        new = codes - self.active
        if new:
            self._to_end([s for s in self.order if s.code in new])
            self.active |= new

    def to_end(self, codes: Codes) -> None:
        self._to_end(self._switched_on(codes))

    def delete(self, codes: Codes) -> None:
        self._to_front(self._switched_on(codes))
        self.active -= codes

    def bump(self, codes: Codes) -> None:
        self._to_front(self._switched_on(codes))

    def kill(self, codes: Codes) -> None:
        self.order = [s for s in self.order if s.code not in codes]

    def sort_by_strength(self, bits_of: Callable[[CipherSuite], int]) -> None:
        for bits in sorted({bits_of(s) for s in self.order if s.code in self.active}, reverse=True):
            self._to_end([s for s in self.order if s.code in self.active and bits_of(s) == bits])

    def _switched_on(self, codes: Codes) -> list[CipherSuite]:
        meant = codes & self.active
        return [s for s in self.order if s.code in meant] if meant else []

    def _to_end(self, moved: list[CipherSuite]) -> None:
        codes = {s.code for s in moved}
        self.order = [s for s in self.order if s.code not in codes] + moved

    def _to_front(self, moved: list[CipherSuite]) -> None:
        codes = {s.code for s in moved}
        self.order = moved + [s for s in self.order if s.code not in codes]


def knows(library: Library | _Kind, suite: CipherSuite) -> bool:
    """Whether ``library``, as distributions build it, has ``suite`` (TLS 1.3 ones aside)."""
    if suite.openssl is None or suite.version in ("SSLv2", "TLSv1.3"):
        return False
    if library.release is None:
        return True
    if library.release < (1, 1, 0):
        return _knew(suite)
    gone = suite.export or 0 < suite.bits <= 56 or suite.key_exchange in ("DH", "ECDH", "KRB5", "GOST")
    # Compiled out by default (no-weak-ssl-ciphers), or by the distributions (no-idea, no-seed).
    weak = suite.encryption.startswith(("RC4", "3DES", "IDEA", "SEED"))
    return not gone and not weak


class _Kind(Struct, frozen=True):
    """What decides which suites a library has."""

    release: tuple[int, ...] | None

    @property
    def is_old(self) -> bool:
        return self.release is not None and self.release < (1, 1, 0)


def _knew(suite: CipherSuite) -> bool:
    """Whether 1.0.2 has ``suite``: none of those that came with 1.1.0, and none of those that were only tried."""
    if suite.code in (0x62, 0x63, 0x64, 0x65, 0x66) or suite.key_exchange == "GOST":
        return False  # "experimental", compiled out; GOST needs an engine
    if suite.authentication == "PSK" or suite.key_exchange == "RSA_PSK":
        return 0x8A <= suite.code <= 0x8D
    newer = suite.encryption.startswith(("CHACHA20", "ARIA")) or _ccm(suite)
    return not newer and not (suite.encryption.startswith("CAMELLIA") and suite.mac != "SHA")


@cache
def _preferred(library: _Kind) -> tuple[CipherSuite, ...]:
    """All suites of ``library`` in its own order, before any expression."""
    work = _Working([s for s in reversed(all_suites()) if knows(library, s)])
    ecdhe = _codes(_exchange("ECDHE"))
    everything = _codes(lambda _: True)
    if library.is_old:
        work.add(ecdhe)
        work.delete(ecdhe)
        work.add(_codes(_encryption("AES_")))
        work.add(everything)
        for late in (_mac("MD5"), _anonymous, _exchange("ECDH"), _exchange("RSA"), _psk("PSK"), _exchange("KRB5")):
            work.to_end(_codes(late))
        work.to_end(_codes(_encryption("RC4")))
        work.sort_by_strength(_old_strength_bits)
        work.delete(everything)
        return tuple(work.order)
    work.add(_codes(_both(_exchange("ECDHE"), _authentication("ECDSA"))))
    work.add(ecdhe)
    work.delete(ecdhe)
    work.add(_codes(_encryption("AES_128_GCM", "AES_256_GCM")))
    work.add(_codes(_encryption("CHACHA20")))
    work.add(_codes(_both(_encryption("AES_"), _not(_encryption("AES_128_GCM", "AES_256_GCM")))))
    work.add(everything)
    work.to_end(_codes(_mac("MD5")))
    work.to_end(_codes(_anonymous))
    work.to_end(_codes(_exchange("RSA")))
    work.to_end(_codes(_psk("PSK")))
    work.to_end(_codes(_encryption("RC4")))
    work.sort_by_strength(_bits_of(library.release))
    work.bump(_codes(_version("TLSv1.2")))
    work.bump(_codes(_mac("AEAD")))
    forward = _exchange("DHE", "ECDHE")
    work.bump(_codes(forward))
    work.bump(_codes(_both(forward, _mac("AEAD"))))
    return tuple(work.order)


def expand(expression: str, library: Library) -> Selection:
    """What ``library`` makes of ``expression``. Words it does not know select nothing, as in the library itself. Raises
    :class:`~rupex.model.budget.ExhaustedError`."""
    spend(_STEPS_A_CHARACTER * len(expression))
    return expand_uncounted(expression, library)


@lru_cache(maxsize=512)
def expand_uncounted(expression: str, library: Library) -> Selection:
    """As :func:`expand`, for who has counted it."""
    work = _Working(list(_preferred(_Kind(library.release))))
    rules, unknown = expression, list[str]()
    if rules.startswith("PROFILE=SYSTEM"):  # Red Hat's and its kin's own word for the system's policy
        rules = (library.profile or "DEFAULT") + rules[len("PROFILE=SYSTEM") :]
    if rules.startswith("DEFAULT"):
        _apply(work, _OLD_DEFAULT if _Kind(library.release).is_old else _DEFAULT, library, [])
        rules = rules[len("DEFAULT") :]
    level = _apply(work, rules, library, unknown)
    return Selection(tuple(s for s in work.order if s.code in work.active), level, tuple(unknown))


def _apply(work: _Working, rules: str, library: Library, unknown: list[str]) -> int | None:
    """An exclamation mark or an at sign starts a new item even without a separator before it; behind a command such as
    ``@STRENGTH``, or a word that names nothing, all is passed over up to the next separator."""
    level: int | None = None
    for written in re.split(r"[:;, ]+", rules):
        for item in re.split(r"(?<=.)(?=[!@])", written):
            match = _ITEM.fullmatch(item)
            if match is None:
                unknown.append(item)
                return level  # the library stops at a character that no item may hold
            mark, words = match[1], match[2]
            if not words:
                continue
            if mark == "@":
                if words == "STRENGTH":
                    work.sort_by_strength(_bits_of(library.release))
                elif re.fullmatch(r"SECLEVEL=[0-5]", words):
                    level = int(words[-1])
                else:
                    unknown.append(item)
                break
            codes = _selected(words, _Kind(library.release))
            if codes is None:
                unknown.append(item)
                break
            action = {"": work.add, "+": work.to_end, "-": work.delete, "!": work.kill}[mark]
            action(codes)
    return level


@cache
def _names(library: _Kind) -> dict[str, int]:
    """The suites that ``library`` knows by their names: OpenSSL's own, and since 3.2.0 those of IANA (ssl_ciph.c)."""
    found: dict[str, int] = {}
    reads_standard_names = library.release is None or library.release >= (3, 2, 0)
    for suite in all_suites():
        if knows(library, suite):
            for name in (suite.openssl, suite.name if reads_standard_names else None):
                if name is not None:
                    found.setdefault(name, suite.code)
    return found


def _codes(test: Test) -> Codes:
    return frozenset(suite.code for suite in all_suites() if test(suite))


@lru_cache(maxsize=1024)
def _selected(words: str, library: _Kind) -> Codes | None:
    """The suites that ``A+B+C`` means, or None when a word is unknown."""
    tests: list[Test] = []
    has_strength = False
    is_old = library.is_old
    for word in words.split("+"):
        test = _OLD_ALIASES.get(word, _ALIASES.get(word)) if is_old else _ALIASES.get(word)
        if not has_strength and (test is None or word in _STRENGTHS):
            # The library assigns the first strength where it should add it, and so forgets COMPLEMENTOFDEFAULT.
            has_strength = True
            tests = [earlier for earlier in tests if earlier is not _ALIASES["COMPLEMENTOFDEFAULT"]]
        if test is None:
            name = _OLD_NAMES.get(word, word)
            code = _names(library).get(name)
            if code is None:
                return None
            test = _is_suite(code)
        tests.append(test)
    return _codes(_both(*tests))


def _is_suite(code: int) -> Test:
    return lambda suite: suite.code == code
