"""What verbs that judge nothing say: endpoints, answers, lines, suites, and certificates and keys."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from rupex.documents.run import ProblemDocument
from rupex.model.endpoint import Endpoint
from rupex.model.provenance import Provenance


class EffectiveDocument(Struct, frozen=True, kw_only=True):
    schema: Literal["rupex.effective/1"] = "rupex.effective/1"
    endpoints: tuple[Endpoint, ...]
    problems: tuple[ProblemDocument, ...]


class Because(Struct, frozen=True):
    message: str
    provenance: Provenance


class UncertainHeader(Struct, frozen=True):
    """``value``: as the configuration has it; ``why`` it is not known whether it is sent so."""

    name: str
    value: str
    why: str


class Response(Struct, frozen=True):
    """``headers``: name and value of those that are sent; ``uncertain``: those of which it is not known whether they are, or with
    which value; ``closed``: the connection is closed without an answer."""

    status: int | None
    location: str | None
    headers: tuple[tuple[str, str], ...]
    closed: bool = False
    uncertain: tuple[UncertainHeader, ...] = ()


class AnswerDocument(Struct, frozen=True, kw_only=True):
    """What a request will get. ``unknown``: why it cannot be told to its end."""

    schema: Literal["rupex.answer/1"] = "rupex.answer/1"
    url: str
    endpoint: str
    scope: str
    transport: str
    response: Response
    why: tuple[Because, ...]
    unknown: str | None = None


class SuiteDocument(Struct, frozen=True, kw_only=True):
    """One suite that an expression selects. ``openssl`` null: the library never had it; ``version``: the lowest that can
    use it; ``bits``: of the key; ``breaks``: the controls that a listener fails which negotiates it; ``refused``: the
    security level in force keeps it from being negotiated."""

    code: str
    name: str
    openssl: str | None
    version: str
    key_exchange: str | None
    authentication: str | None
    encryption: str
    bits: int
    mac: str
    forward_secrecy: bool
    breaks: tuple[str, ...]
    refused: bool


class ExpressionDocument(Struct, frozen=True, kw_only=True):
    """What one expression selects, in order of preference. ``level``: the security level in force; ``unknown_words``:
    the parts that name nothing, which the library passes over."""

    expression: str
    library: str
    level: int
    suites: tuple[SuiteDocument, ...]
    unknown_words: tuple[str, ...]


class SuitesDocument(Struct, frozen=True, kw_only=True):
    schema: Literal["rupex.suites/1"] = "rupex.suites/1"
    expressions: tuple[ExpressionDocument, ...]


class GovernedDocument(Struct, frozen=True, kw_only=True):
    """One endpoint or scope that a line governs, and the settings of it that the line decides."""

    endpoint: str
    scope: str | None
    settings: tuple[str, ...]


class LineDocument(Struct, frozen=True, kw_only=True):
    """What a line of a configuration governs. ``text``: the line as written; ``because``: why it is not in force, where it is
    not and that is known."""

    schema: Literal["rupex.line/1"] = "rupex.line/1"
    file: str
    line: int
    text: str
    governs: tuple[GovernedDocument, ...]
    because: str | None = None


class CertifiedKey(Struct, frozen=True):
    type: str
    bits: int | None


class CertificateItem(Struct, frozen=True, kw_only=True, tag_field="kind", tag="certificate"):
    """A certificate in a file; ``position`` counts from 1. ``days_left`` is rounded down; of ``lifetime_days`` a part day
    counts as a day. ``usable``: made for a server. ``entry``: its name in a key store."""

    file: str
    mode: str | None
    owner: str | None
    group: str | None
    position: int
    subject: str
    issuer: str
    names: tuple[str, ...]
    not_before: str
    not_after: str
    days_left: int
    lifetime_days: int
    key: CertifiedKey
    digest: str | None
    self_signed: bool
    is_ca: bool
    usable: bool
    serial: str
    sha256: str
    public_sha256: str
    entry: str | None = None


class KeyItem(Struct, frozen=True, kw_only=True, tag_field="kind", tag="key"):
    """A private key in a file, described. ``sound`` null: it was not looked at, or is encrypted; ``flaw``: why it is not.
    ``primes``: of an RSA key, whether they were tried for being primes, which takes long and is done for the first few only.
    ``readers``: the accounts but root that can read the file, null when nobody can tell; ``everyone``: anybody can."""

    file: str
    mode: str | None
    owner: str | None
    group: str | None
    type: str
    bits: int | None
    encrypted: bool
    sound: bool | None
    flaw: str | None
    public_sha256: str | None
    readers: tuple[str, ...] | None
    everyone: bool | None
    entry: str | None = None
    primes: Literal["tried", "not tried"] | None = None


class KeystoreItem(Struct, frozen=True, kw_only=True, tag_field="kind", tag="keystore"):
    """A key store. ``password``: which one opens it: a well-known ``default``, the one ``given``, ``none``, or ``unknown``."""

    file: str
    mode: str | None
    owner: str | None
    group: str | None
    format: str
    entries: int | None
    password: Literal["default", "given", "none", "unknown"]


class AccountItem(Struct, frozen=True, kw_only=True, tag_field="kind", tag="account"):
    """The store of an automatic certificate client: its account's key and its ``certificates``, counted."""

    file: str
    mode: str | None
    owner: str | None
    group: str | None
    certificates: int


CredentialItem = CertificateItem | KeyItem | KeystoreItem | AccountItem


class PairDocument(Struct, frozen=True):
    """Whether a key belongs to a certificate, each by its file."""

    certificate: str
    key: str
    match: bool


class ChainDocument(Struct, frozen=True):
    """The certificates of a file as a chain: ``ordered``, leaf first; ``missing``: the issuer at which it ends, null where it
    ends at a certificate that signs itself."""

    file: str
    ordered: bool
    missing: str | None


class CredentialDocument(Struct, frozen=True, kw_only=True):
    schema: Literal["rupex.credential/1"] = "rupex.credential/1"
    items: tuple[CredentialItem, ...]
    pairs: tuple[PairDocument, ...]
    chains: tuple[ChainDocument, ...]
    problems: tuple[ProblemDocument, ...]
