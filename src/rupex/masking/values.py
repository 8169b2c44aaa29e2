"""One value as it may leave a machine: whole, in part, or as a mark (``marks.py``), by its class in ``leaves.tsv``."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from functools import cache
from typing import Final

from rupex.masking.leaves import keywords, shapes, variable
from rupex.masking.marks import FACTORY_SECRET, MARK, MASKED, SECRET
from rupex.masking.secrets import FACTORY_WORDS, find_secrets

_ALNUM: Final = re.compile(r"[A-Za-z0-9]")
_SEPARATORS: Final = re.compile(r"([ \t\r\n,;|]+)")
_EDGES: Final = "\"'()<>{}[]!^$"
_TOKEN_RUN: Final = re.compile(r"[A-Za-z0-9]{20,}")
"""A run of so many letters and digits is a token, if a digit is among them, and no name."""

SAFE_SOURCES: Final = frozenset(
    "host http_host server_name uri request_uri document_uri request_filename script_filename document_root scheme"
    " request_scheme https server_port request_method remote_addr remote_host server_addr server_protocol status"
    " the_request content_type is_subreq ssl_protocol ssl_cipher http_upgrade http_connection http_x_forwarded_proto"
    " sent_http_content_type upstream_http_content_type http:x-forwarded-proto http:upgrade http:connection"
    " env:https env:redirect_status ssl:https".split()
)
"""Variables of nginx and httpd whose values no client keeps secret: what they are compared with may leave."""

POLICY_HEADERS: Final = frozenset(
    "strict-transport-security content-security-policy content-security-policy-report-only x-frame-options"
    " x-content-type-options x-xss-protection referrer-policy permissions-policy feature-policy cross-origin-opener-policy"
    " cross-origin-embedder-policy cross-origin-resource-policy access-control-allow-origin access-control-allow-credentials"
    " access-control-allow-methods access-control-allow-headers access-control-max-age access-control-expose-headers"
    " cache-control pragma expires vary server x-powered-by via x-aspnet-version x-aspnetmvc-version x-generator"
    " clear-site-data origin-agent-cluster timing-allow-origin x-robots-tag x-download-options"
    " x-permitted-cross-domain-policies x-dns-prefetch-control content-type content-disposition alt-svc expect-ct etag"
    " last-modified allow report-to nel reporting-endpoints upgrade connection".split()
)
"""Response headers whose values a verdict reads, and every visitor sees."""
PLACE_HEADERS: Final = frozenset(("location", "refresh", "link"))
REQUEST_HEADERS: Final = frozenset(
    "host connection upgrade x-real-ip x-forwarded-for x-forwarded-proto x-forwarded-host x-forwarded-port"
    " x-forwarded-ssl x-forwarded-server front-end-https accept-encoding early-data range if-range proxy".split()
)
"""Request headers whose values a verdict reads; no credential stands in them."""
COOKIE_ATTRIBUTES: Final = frozenset("secure httponly partitioned path domain max-age expires samesite".split())


class Masker:
    """Masks the texts of one snapshot, whose marks it numbers. Characters stand for bytes (Latin-1)."""

    def __init__(self) -> None:
        self._count = 0
        self._equal: dict[str, str] = {}
        self._secrets: dict[str, str] = {}
        self._held: list[tuple[str, str]] = []
        self.language = ""

    def begin(self, language: str, text: str) -> str:
        """Begin with a text in ``language``: what it is without its secrets, each a place holder that :meth:`value` knows."""
        self._held, self._secrets, self.language = [], {}, language
        text = text.replace("\x01", " ").replace("\x02", " ")
        kept, behind = [], 0
        for secret in find_secrets(text):
            value = text[secret.start : secret.end]
            if MARK.fullmatch(value):
                continue
            kind = MASKED if secret.kind == "hash" else FACTORY_SECRET if value.lower() in FACTORY_WORDS else SECRET
            self._secrets[value] = kind
            kept += [text[behind : secret.start], f"\x01{len(self._held)}\x02", "\n" * value.count("\n")]
            self._held.append((kind, value))
            behind = secret.end
        return "".join([*kept, text[behind:]])

    # One value

    def value(self, text: str, kind: str, name: str = "") -> str:
        """``text`` as it may leave. ``kind``: its class, with ``=`` behind it where a verdict compares it with other values;
        ``name``: of the header whose value it is, in lower case."""
        compared = kind.endswith("=")
        match kind.removesuffix("="):
            case "all":
                return self._each(text, _anything)
            case "file":  # some directives take the content of a file in the place of its name
                if text.startswith("data:"):
                    return "data:" + self.value(text[5:], "never")
                return self.place(text) if len(text) <= 512 else self.value(text, "never")
            case "place":
                return self.place(text)
            case "answer":
                is_place = re.match(r"[a-z][a-z0-9+.-]*://|[/$@]|[0-9]+$", text) is not None
                return self.place(text) if is_place else self._each(text, self.looks_safe)
            case "look":
                return self._each(text, self.looks_safe, compared=compared)
            case "test":
                return self.test(text, "look=")
            case "setting":
                return self._each(text, lambda part: is_plain(part) or has_shape(part, "boolean"))
            case "kind" | "image" | "name" as shape:
                return self._each(text, lambda part: is_plain(part) or has_shape(part, shape))
            case "header":
                return self._header(name, text)
            case "request":
                return self.value(text, "look" if name in REQUEST_HEADERS else "parts")
            case "parts":
                return self._each(text, lambda part: is_plain(part) or part.strip(" ").lower() in ("basic", "bearer"))
            case "assign" | "pairs" | "env" as form:
                given, equals, right = text.partition("=")
                if not equals:
                    return self.value(text, "look" if form == "pairs" else "name")
                of_value = {"assign": "look=", "pairs": "look", "env": "setting"}[form]
                return f"{self.value(given, 'name')}={self.value(right, of_value)}"
            case "defines":
                return self._defines(text)
            case "shutdown":
                return text if text == "SHUTDOWN" else self._each(text, is_plain)
            case "compare":
                return self._each(text, lambda part: part == "", compared=True)
        return text if text in ("", "off") else self._each(text, _nothing, compared=compared, variables=False)

    def place(self, text: str) -> str:
        """A path or URL, without the account in it and what stands behind a question or number mark."""
        if "\n" in text or (re.search(r"\s", text) and not re.match(r"[a-z]+://|/", text)):
            return self._each(text, self.looks_safe)
        found = re.match(r"((?:[a-z][a-z0-9+.-]*:)?//)([^/?#@]*@)", text)
        head = "" if found is None else found[1] + self._between(found[2], "@:")
        rest = text if found is None else text[found.end() :]
        cut = next((index for index, char in enumerate(rest) if char in "?#"), len(rest))
        return (
            head + self._each(rest[:cut], _anything) + rest[cut : cut + 1] + self._between(rest[cut + 1 :], "&=;?#/+")
        )

    def test(self, text: str, kind: str) -> str:
        """What a value is compared with, or a pattern for it. ``kind``: ``all`` where it may leave."""
        if kind == "all":
            return self.value(text, "all")
        return self._each(text, lambda part: self.looks_safe(part) or _is_plain_pattern(part), compared=True)

    def _header(self, name: str, text: str) -> str:
        if name == "set-cookie":
            return self._cookie(text)
        if name in PLACE_HEADERS:
            return self.place(text)
        if name not in POLICY_HEADERS:
            return self._each(text, self.looks_safe, compared=True)
        parts = re.split(r"(\?[^\s;,'\"]*)", text)
        return "".join(
            "?" + self._between(part[1:], "&=;?#/+") if index % 2 else self.value(part, "all")
            for index, part in enumerate(parts)
        )

    def _cookie(self, text: str) -> str:
        """A cookie: its value is masked, its name and attributes stay."""
        first, *attributes = text.split(";")
        name, equals, value = first.partition("=")
        if not equals:  # a part of one, as httpd's edit has it
            made = [self._each(first, self.looks_safe)]
        elif re.fullmatch(r"\s*[!#$%&'*+.^_`|~\w-]{1,60}\s*", name):
            made = [self.value(name, "all") + equals + self._each(value, is_plain)]
        else:
            made = [self._each(first, is_plain)]
        for part in attributes:
            is_attribute = part.partition("=")[0].strip().lower() in COOKIE_ATTRIBUTES
            made.append(self.value(part, "all") if is_attribute else self._each(part, is_plain))
        return ";".join(made)

    def _defines(self, text: str) -> str:
        """The options that a server is started with: ``-D NAME`` says which sections hold."""
        made, before = [], ""
        for part in re.split(r"([ \t]+)", text):
            is_name = before == "-D" or part.startswith("-D")
            made.append(
                self.value(part, "name" if is_name and part != "-D" else "look")
                if part.strip() and part != "-D"
                else part
            )
            before = part if part.strip() else before
        return "".join(made)

    # Parts of a value

    def atoms(self, text: str, *, variables: bool = True) -> Iterator[tuple[str, str]]:
        """``text`` as what stays (``kept``: references to variables, and marks), place holders of secrets (``held``), and the
        rest (``literal``)."""
        start = 0
        for found in _pattern(self.language if variables else "").finditer(text):
            if found.start() > start:
                yield "literal", text[start : found.start()]
            yield ("held" if text[found.start()] == "\x01" else "kept"), found[0]
            start = found.end()
        if start < len(text):
            yield "literal", text[start:]

    def _each(
        self, text: str, is_safe: Callable[[str], bool], *, compared: bool = False, variables: bool = True
    ) -> str:
        """``text`` with a mark for each literal part of it that is not safe, and for each secret. ``variables``: whether
        references to variables stay."""
        atoms, made = list(self.atoms(text, variables=variables)), []
        for index, (kind, part) in enumerate(atoms):
            if kind == "kept":
                made.append(part)
            elif kind == "held":
                made.append(self._mark(*self._held[int(part[1:-1])], compared=compared))
            elif is_safe(part):
                made.append(part)
            else:  # what separates it from a variable's name, or a secret's mark, stays
                start = _edge(part) if index else 0
                end = len(part) - _edge(part[::-1]) if index + 1 < len(atoms) else len(part)
                made.append(
                    part[:start] + self._masked(part[start:end], compared=compared) + part[end:]
                    if start < end
                    else part
                )
        return "".join(made)

    def _between(self, text: str, marks: str) -> str:
        """``text`` with what stands between ``marks`` masked."""
        made = []
        for kind, part in self.atoms(text):
            if kind != "literal":
                made.append(self._each(part, is_plain))
                continue
            for piece in re.split(f"([{re.escape(marks)}]+)", part):
                made.append(self._masked(piece) if _ALNUM.search(piece) else piece)
        return "".join(made)

    def looks_safe(self, literal: str) -> bool:
        """Whether each part of ``literal`` looks like a path, a host, a number or a keyword."""
        return all(self._token_looks_safe(token) for token in _SEPARATORS.split(literal)[::2])

    def _token_looks_safe(self, token: str) -> bool:
        bare = token.strip(_EDGES)
        if _is_safe_word(bare) or (self.language in ("script", "unit", "ini") and has_shape(bare, "option")):
            return True
        left, equals, right = bare.partition("=")
        return (
            bool(equals)
            and (not left or left.lower() in keywords() or has_shape(left, "option"))
            and _is_safe_word(right)
        )

    # Marks

    def _masked(self, literal: str, *, compared: bool = False) -> str:
        return self._mark(MASKED, literal, compared=compared) + "\n" * literal.count("\n")

    def _mark(self, kind: str, value: str, *, compared: bool) -> str:
        if compared:
            kind = self._secrets.get(value, kind)
            known = self._equal.get(value, "")
            if known.startswith(f"{kind}-"):  # else it was met before where nothing said that it is a secret
                return known
        self._count += 1
        mark = f"{kind}-{self._count}"
        if compared:
            self._equal[value] = mark
        return mark


@cache
def _pattern(language: str) -> re.Pattern[str]:
    return re.compile(f"\x01[0-9]+\x02|{MARK.pattern}|{variable(language).pattern}", re.ASCII)


def _nothing(_: str) -> bool:
    return False


def _anything(_: str) -> bool:
    return True


def is_plain(literal: str) -> bool:
    """Whether no letter and no digit stands in ``literal``."""
    return _ALNUM.search(literal) is None


def _edge(literal: str) -> int:
    """How many characters at its start belong to no name."""
    found = re.search(r"[A-Za-z0-9_]", literal)
    return len(literal) if found is None else found.start()


def has_shape(text: str, group: str) -> bool:
    """Whether ``text`` is a value of one of the shapes of ``group``, and no token in the clothes of one."""
    if any(re.search(r"[0-9]", run) for run in _TOKEN_RUN.findall(text)):
        return False
    return any(len(text) <= most and pattern.fullmatch(text) for _, pattern, most in shapes(group))


def _is_safe_word(word: str) -> bool:
    return is_plain(word) or word.lower() in keywords() or has_shape(word, "shape")


def _is_plain_pattern(pattern: str) -> bool:
    """Whether a pattern has no words of its own but keywords: only classes, repetitions and the like."""
    rest = re.sub(r"\\[A-Za-z]|\[[^\]]*\]|\{[0-9,]*\}|\(\?[a-z:!=<]*", " ", pattern)
    return all(len(run) < 2 or run.lower() in keywords() for run in re.findall(r"[A-Za-z0-9_-]+", rest))
