"""Secrets in text: where passwords, tokens and keys stand in clear in a configuration or a deployment file.

Text in, places out: nothing here keeps or returns a value. Written for the forms that such files share: ``NAME=value``,
``name: value``, ``name="value"`` and ``name value``, the ``name``/``value`` pairs of manifests and XML, a password in a URL,
a credential in an Authorization header, and PEM blocks. A reference to a secret kept elsewhere is none.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Final, Literal, NamedTuple

from msgspec import Struct

from rupex.masking.marks import MASKED, SECRET_MARK, is_factory_secret

FACTORY_WORDS: Final = frozenset(
    "changeit changeme password passwd secret admin tomcat s3cret manager root test role1 both 123456".split()
)
"""Secrets that everybody tries first, among them the factory passwords of key stores; in lower case."""

Kind = Literal["password", "key", "hash"]

_HINTS: Final = (
    *(
        "rupex-",
        "passw",
        "stats",
        "passphrase",
        "secret",
        "token",
        "credential",
        "authorization",
        "private key",
        "@",
        "$$",
        "{s",
    ),
    *("$1$", "$2", "$5$", "$6$", "$y$", "$apr1", "$argon", "pass=", "pass:", "pass =", "pass :", 'pass"', "pass'"),
)
"""Of these, in lower case, one is in any text that holds a secret, or one of the words that make a key a secret stands before
``key``. Most texts hold none, and this is the quick way to tell."""
_KEY_OF: Final = ("api", "access", "auth", "private", "signing", "encryption", "client")

_CORE: Final = re.compile(
    r"passw(?:or)?d|passwd|passphrase|pass(?=[\"']?[ \t]*[=:])|secret|token|"
    r"(?:api|access|auth|private|signing|encryption)[_-]?key|client[_-]key[_-]data|credential"
)
_CORE_ANY_CASE: Final = re.compile(_CORE.pattern, re.IGNORECASE)
_BEFORE: Final = re.compile(r"[\w.$-]{0,60}\Z")
_AFTER: Final = re.compile(
    r"""(?P<rest>[\w.-]{0,60})
        (?: (?P<pair>["']?[ \t]*\n[ \t]*["']?value["']?[ \t]*:[ \t]* | ["'][ \t\n]+value[ \t]*=[ \t]*)
          | (?P<mark>["']?\]?[ \t]*[=:]>?[ \t]*)
          | (?P<blank>["']?[ \t]+) )
        (?P<value>"[^"\n]{0,4096}" | '[^'\n]{0,4096}' | [^\s;,"'{}<>\#&()]{1,4096})""",
    re.VERBOSE,
)
_HEADER: Final = re.compile(
    r"(?i)authorization[\"']?[ \t:=]+[\"']?(?:basic|bearer|token)[ \t]+(?P<value>[^\s\"';$]{4,4096})"
)
_STATISTICS: Final = re.compile(r"(?m)^[ \t]*stats[ \t]+auth[ \t]+[^\s:]{1,64}:(?P<value>[^\s$]{1,256})")
_IN_URL: Final = re.compile(r"\w://[^\s/:@\"']{0,128}:(?P<value>[^\s/@\"'$]{1,256})@")
_PEM: Final = re.compile(
    r"-----BEGIN (?:[A-Z0-9 ]{0,40}PRIVATE KEY|RUPEX KEY DESCRIPTION)-----"
    r"(?:.*?-----END (?:[A-Z0-9 ]{0,40}PRIVATE KEY|RUPEX KEY DESCRIPTION)-----|.*)",
    re.DOTALL,
)
_HASH: Final = re.compile(
    r"\$\$?(?:apr1|2[abxy]|[156y]|argon2(?:id?|d))\$[./\w$=,+-]{8,256}|\{SSHA?\}[\w+/=]{8,256}|\{SHA\}[\w+/=]{20,64}"
)

_NOT_SECRET: Final = re.compile(
    r"(?i)(?:file|path|dir|folder|url|uri|endpoint|name|(?:[_-]|(?-i:(?<=[a-z])[IR]))(?:id|d|ref|ef)|type|length|size|expires?|"
    r"expiry|ttl|lifetime|[_-](?:age|min|max|len|alg)|timeout|policy|header|algorithm|format|field|location|issuer|count|limit|"
    r"required|enabled|prompt|tokens|secrets|passwords|credentials|method|schemes?|hint|alias|zone|dialog|policy|agent)$"
)
"""Names that speak about a secret and do not hold one."""

_REFERENCE: Final = re.compile(
    r"(?i)[$%@!*<|>/~\[].*|\.{1,2}/.*|\{\{.*|(?:file|exec|vault|env|secret|sops|arn|ref|op|https?|ssm|kms)[+:].*|enc\(.*|"
    r"null|none|nil|true|false|on|off|yes|no|required|optional|default|prompt|redacted|x+|\d{1,4}|all|any|full|prod|min(?:or|imal)?"
)
"""Values that stand for a secret, or for none."""

_COMMENT: Final = re.compile(r"[ \t]*(?:\#|//|;|--|<!--)")
_COMMENT_BLOCK: Final = re.compile(r"<!--.*?(?:-->|\Z)", re.DOTALL)
_LEADING: Final = re.compile(
    r"[ \t]*(?:set[ \t]+\$|(?:SetEnv|PassEnv|Define|export|ENV|ARG|env)[ \t]+[\"']?|user[ \t]+\S{1,64}[ \t]+)?[\"']?[\w.$-]*\Z",
    re.IGNORECASE,
)
_END: Final = re.compile(r"[\"']?[ \t]*(?:;|\r?\n|\Z|#|groups )")
"""What may stand behind the value of a directive; in prose other words do."""
_WIDEST_LINE: Final = 512


def is_factory_word(secret: str) -> bool:
    """Whether ``secret``, or in a snapshot its mark, is one that everybody tries first."""
    return secret.lower() in FACTORY_WORDS or is_factory_secret(secret)


class PlainSecret(Struct, frozen=True):
    """Where a secret's value stands: ``start`` and ``end`` count characters from 0, ``line`` from 1. ``name``: what it is
    called there. ``kind``: a ``hash`` is no plain secret, and still nobody else's business. ``commented``: in a comment."""

    start: int
    end: int
    line: int
    name: str
    kind: Kind
    commented: bool


def find_secrets(text: str) -> tuple[PlainSecret, ...]:
    """The secrets in ``text``, in order, none within another."""
    lowered = text.lower()
    if not any(map(lowered.__contains__, _HINTS)) and not _has_secret_key(lowered):
        return ()
    found: list[PlainSecret] = []
    behind = 0
    line, counted, line_start = 1, 0, 0
    blocks = iter([match.span() for match in _COMMENT_BLOCK.finditer(text)] if "<!--" in text else [])
    block_start, block_end = next(blocks, (len(text), len(text)))
    for start, end, name, kind in sorted(_spans(text, lowered), key=lambda span: (span[0], span[2] == "a secret")):
        if start < behind:
            continue
        behind = end
        line_start = max(line_start, text.rfind("\n", counted, start) + 1)
        line, counted = line + text.count("\n", counted, start), start
        while block_end <= start < len(text):
            block_start, block_end = next(blocks, (len(text), len(text)))
        commented = _COMMENT.match(text, line_start) is not None or block_start <= start < block_end
        found.append(PlainSecret(start, end, line, name, kind, commented))
    return tuple(found)


def _has_secret_key(lowered: str) -> bool:
    """Whether ``key`` stands somewhere behind a word that makes it a secret, joined or with one mark between them."""
    position = lowered.find("key")
    while position >= 0:
        end = position - lowered.startswith(("_", "-"), position - 1, position) if position else 0
        if lowered.endswith(_KEY_OF, 0, end):
            return True
        position = lowered.find("key", position + 3)
    return False


class _Form(NamedTuple):
    """A form that a secret has by itself. ``hints``: one of these, in lower case, is in any text with it."""

    hints: tuple[str, ...]
    pattern: re.Pattern[str]
    group: str | int
    name: str
    kind: Kind


_FORMS: Final = (
    _Form(("-----begin",), _PEM, 0, "a private key", "key"),
    _Form(("authorization",), _HEADER, "value", "Authorization", "password"),
    _Form(("stats",), _STATISTICS, "value", "stats auth", "password"),
    _Form(("@",), _IN_URL, "value", "the password of a URL", "password"),
    _Form(("$", "{s"), _HASH, 0, "a password's hash", "hash"),
    _Form(("rupex-",), SECRET_MARK, 0, "a secret", "password"),  # of a snapshot
)


def _spans(text: str, lowered: str) -> Iterator[tuple[int, int, str, Kind]]:
    for form in _FORMS:
        if any(map(lowered.__contains__, form.hints)):
            for match in form.pattern.finditer(text):
                if form.pattern is not _IN_URL or not _REFERENCE.fullmatch(match["value"]):
                    yield *match.span(form.group), form.name, form.kind
    # The telling words are looked for in lower case: five times as fast; where that moves letters, in the text itself.
    cores = _CORE.finditer(lowered) if text.isascii() else _CORE_ANY_CASE.finditer(text)
    for core in cores:
        after = _AFTER.match(text, core.end())
        if after is not None:
            span = _value_span(text, core.start(), after)
            if span is not None:
                yield span


def _value_span(text: str, core: int, after: re.Match[str]) -> tuple[int, int, str, Kind] | None:
    """The value that follows a telling word, which starts at ``core``, unless it is none or only refers to one."""
    before = _BEFORE.search(text, max(0, core - 60), core)
    name = (before[0] if before else "").lstrip("$.-") + text[core : after.start()] + after["rest"]
    if _NOT_SECRET.search(name.replace(".", "_")):
        return None
    if after["blank"] is not None:  # "name value" is a directive only at the start of a line, and prose elsewhere
        begin = max(0, core - _WIDEST_LINE)
        begin = max(begin, *(text.rfind(mark, begin, core) + 1 for mark in "\n;{"))
        if not _LEADING.match(text, begin, core) or not _END.match(text, after.end()):
            return None
    start, end = after.span("value")
    if text[start] in "\"'":
        start, end = start + 1, end - 1
    value = text[start:end].strip()
    is_kept = value.startswith((f"{MASKED}-", "-----BEGIN"))
    if len(value) < 3 or is_kept or _REFERENCE.fullmatch(value):
        return None
    return start, end, name, "password"


__all__ = ["FACTORY_WORDS", "Kind", "PlainSecret", "find_secrets", "is_factory_word", "without_secrets"]


def without_secrets(text: str) -> str:
    """``text`` with an ellipsis for each secret in it, on as many lines as before."""
    kept, behind = [], 0
    for secret in find_secrets(text):
        lines = text.count("\n", secret.start, secret.end)
        kept += [text[behind : secret.start], "…", "\n" * lines]
        behind = secret.end
    return _PEM_KEY.sub(lambda block: "…" + "\n" * block[0].count("\n"), "".join([*kept, text[behind:]]))


_PEM_KEY = re.compile(
    r"-----BEGIN [A-Z0-9 ]{0,40}PRIVATE KEY-----(?:.*?-----END [A-Z0-9 ]{0,40}PRIVATE KEY-----|.*)", re.DOTALL
)
