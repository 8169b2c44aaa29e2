"""Expressions of If sections, headers, rules and access (httpd's manual, "Expressions in Apache HTTP Server"; ap_expr), as far
as a request decides them.

``or`` and ``and`` look at their right side only where the left one does not decide, as the server does: what only run time
knows matters only where it is asked for.
"""

from __future__ import annotations

import base64
import hashlib
import ipaddress
import re
from collections.abc import Callable, Mapping
from fnmatch import translate
from typing import Final, Literal, NamedTuple, NoReturn
from urllib.parse import quote, unquote

from rupex.masking.quoting import quoted
from rupex.model import bounds
from rupex.model.budget import CHARACTERS_A_STEP, filled, joined, spend
from rupex.model.numbers import signed_number
from rupex.servers.apache.exchange import Exchange
from rupex.servers.apache.sections import fits
from rupex.servers.common.patterns import UndeterminedError, search

_TOKEN = re.compile(
    r"""\s*+(?: (?P<string>"(?:[^"\\]|\\.)*+" | '(?:[^'\\]|\\.)*+')
      | (?P<match>m(?P<delimiter>[#|!,@%/])(?:(?!(?P=delimiter)).)*+(?P=delimiter)[ims]* | /(?:[^/\\]|\\.)*+/[ims]*)
      | (?P<number>-?\d+)
      | (?P<operator>==|!=|=~|!~|<=|>=|<|>|&&|\|\||!|\(|\)|=|\{|\}|,|\.|-[A-Za-z]+\b)
      | (?P<variable>%\{(?:%\{[^{}]*\}|[^{}])*+\}) | (?P<group>\$\d) | (?P<word>[A-Za-z_]\w*) )""",
    re.VERBOSE,
)
_IN_STRING = re.compile(r"%\{((?:%\{[^{}]*\}|[^{}])*+)\}|\$(\d)")
_WORDS: Final = {
    "and": "&&",
    "or": "||",
    "not": "!",
    "in": "-in",
    "eq": "-eq",
    "ne": "-ne",
    "lt": "-lt",
    "le": "-le",
} | {
    "gt": "-gt",
    "ge": "-ge",
}
_WORDS_OF_SSL: Final = _WORDS | {"eq": "==", "ne": "!=", "lt": "<", "le": "<=", "gt": ">", "ge": ">="}
_COMPARE: Final = frozenset(
    (
        "==",
        "!=",
        "=",
        "<",
        ">",
        "<=",
        ">=",
        "-eq",
        "-ne",
        "-lt",
        "-gt",
        "-le",
        "-ge",
        "-strmatch",
        "-strcmatch",
        "-fnmatch",
    )
)
_MOST_TOKENS: Final = 500


class _State:
    """What an expression is worked out against: the request, and what its last pattern captured."""

    def __init__(self, exchange: Exchange) -> None:
        self.exchange, self.groups = exchange, tuple[str, ...]()

    def group(self, number: int) -> str:
        return self.groups[number] if number < len(self.groups) else ""


_Test = Callable[[_State], bool]
_Text = Callable[[_State], str]


class _Token(NamedTuple):
    kind: str
    text: str


def evaluate(text: str, exchange: Exchange, *, is_of_ssl: bool = False) -> bool:
    """Whether an expression is true for a request. ``is_of_ssl``: it is one of SSLRequire, in which words that compare numbers
    elsewhere compare texts (AP_EXPR_FLAG_SSL_EXPR_COMPAT). Raises :class:`UndeterminedError`."""
    return _Parser(text, _WORDS_OF_SSL if is_of_ssl else _WORDS).whole()(_State(exchange))


class _Parser:
    """Makes functions of the grammar's parts: those of conditions give a truth, those of words a text."""

    def __init__(self, text: str, words: Mapping[str, str]) -> None:
        self.text, self.position, self.depth = text, 0, 0
        self.operators = words
        self.tokens = self._read(text.rstrip())

    def _read(self, text: str) -> list[_Token]:
        spend(1 + len(text) // CHARACTERS_A_STEP)
        tokens: list[_Token] = []
        position = 0
        while position < len(text):
            found = _TOKEN.match(text, position)
            if found is None or len(tokens) > _MOST_TOKENS:
                self.fail()
            kind = found.lastgroup if found.lastgroup != "delimiter" else "match"
            word = found[0].strip()
            if kind == "word" and word in self.operators:
                kind, word = "operator", self.operators[word]
            tokens.append(_Token(kind or "", word))
            position = found.end()
        return tokens

    def fail(self) -> NoReturn:
        raise UndeterminedError(f"the expression {quoted(self.text)} is not one that Rupex can read")

    def peek(self) -> str:
        return self.tokens[self.position].text if self.position < len(self.tokens) else ""

    def take(self) -> _Token:
        if self.position >= len(self.tokens):
            self.fail()
        self.position += 1
        return self.tokens[self.position - 1]

    def expect(self, text: str) -> None:
        if self.take().text != text:
            self.fail()

    # Conditions

    def whole(self) -> _Test:
        found = self.either()
        if self.position != len(self.tokens):
            self.fail()
        return found

    def either(self) -> _Test:
        parts = [self.both()]
        while self.peek() == "||":
            self.take()
            parts.append(self.both())
        return parts[0] if len(parts) == 1 else lambda state: any(part(state) for part in parts)

    def both(self) -> _Test:
        parts = [self.single()]
        while self.peek() == "&&":
            self.take()
            parts.append(self.single())
        return parts[0] if len(parts) == 1 else lambda state: all(part(state) for part in parts)

    def single(self) -> _Test:
        self.depth += 1
        if self.depth > bounds.NESTING:
            self.fail()
        found = self._single()
        self.depth -= 1
        return found

    def _single(self) -> _Test:
        kind, word = self.tokens[self.position] if self.position < len(self.tokens) else self.take()
        if word == "!":
            self.take()
            negated = self.single()
            return lambda state: not negated(state)
        if word == "(":
            self.take()
            inner = self.either()
            self.expect(")")
            return inner
        if kind == "operator":
            return self.unary(self.take().text)
        if kind == "word" and word in ("true", "false"):
            self.take()
            return lambda _: word == "true"
        return self.compared(self.words())

    def unary(self, operator: str) -> _Test:
        word = self.words()
        if operator in ("-z", "-n"):
            return lambda state: (word(state) == "") is (operator == "-z")
        if operator == "-T":
            return lambda state: word(state).lower() not in ("", "0", "off", "false", "no")
        if operator == "-R":
            return lambda state: _is_in_network(state.exchange.source_text, word(state))
        if operator in _FILES:
            return lambda state: _is_there(state, _FILES[operator], word(state))

        def at_run_time(state: _State) -> bool:
            raise UndeterminedError(f"{operator} {quoted(word(state))} is known at run time only")

        return at_run_time

    def compared(self, left: _Text) -> _Test:
        operator = self.take().text
        if operator in ("=~", "!~"):
            kind, pattern = self.take()
            if kind != "match":
                self.fail()
            return lambda state: _matches(state, left(state), pattern) is (operator == "=~")
        if operator == "-in":
            return self.among(left)
        if operator == "-ipmatch":
            network = self.words()
            return lambda state: _is_in_network(left(state), network(state))
        if operator not in _COMPARE:
            self.fail()
        right = self.words()
        return lambda state: compare(left(state), operator, right(state))

    def among(self, left: _Text) -> _Test:
        self.expect("{")
        words = [self.words()]
        while self.peek() == ",":
            self.take()
            words.append(self.words())
        self.expect("}")

        def test(state: _State) -> bool:
            value = left(state)
            return any(word(state) == value for word in words)

        return test

    # Words

    def words(self) -> _Text:
        parts = [self.word()]
        while self.peek() == ".":
            self.take()
            parts.append(self.word())
        return parts[0] if len(parts) == 1 else lambda state: joined(part(state) for part in parts)

    def word(self) -> _Text:
        kind, word = self.take()
        if kind == "string":
            text = re.sub(r"\\(.)", r"\1", word[1:-1])
            return lambda state: _filled(text, state)
        if kind == "variable":
            return lambda state: _variable(word[2:-1], state)
        if kind == "group":
            return lambda state: state.group(int(word[1]))
        if kind == "number":
            return lambda _: word
        if kind != "word" or self.peek() != "(":
            self.fail()
        return self.function(word.lower())

    def function(self, name: str) -> _Text:
        self.expect("(")
        argument = self.words()
        self.expect(")")
        return lambda state: _call(name, argument(state), state)


def _matches(state: _State, subject: str, pattern: str) -> bool:
    start = 1 if pattern.startswith("/") else 2
    end = pattern.rindex(pattern[start - 1])
    found = search(pattern[start:end], subject, ignore_case="i" in pattern[end + 1 :])
    if found is not None:
        state.groups = (found[0], *(group or "" for group in found.groups()))
    return found is not None


_FILES: Final[dict[str, Literal["file", "folder", "any"]]] = {"-f": "file", "-d": "folder", "-e": "any"}


def _is_there(state: _State, kind: Literal["file", "folder", "any"], path: str) -> bool:
    found = state.exchange.is_there(path, kind) if path.startswith("/") else None
    if found is None:
        raise UndeterminedError(f"whether {quoted(path)} is there is known at run time only")
    return found


def _is_in_network(address: str, network: str) -> bool:
    try:
        return ipaddress.ip_address(address) in ipaddress.ip_network(network, strict=False)
    except ValueError:
        raise UndeterminedError(f"{quoted(network)} is no network that Rupex can read") from None


def _unescaped(text: str) -> str:
    """``text`` decoded, but for slashes; nothing where an escape is none (ap_unescape_url_keep2f)."""
    if re.search(r"%(?![0-9A-Fa-f]{2})|%00", text):
        return ""
    return "".join(
        part if part.lower() == "%2f" else unquote(part, errors="surrogateescape")
        for part in re.split(r"(%2[fF])", text)
    )


def _octets(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


_OF_TEXT: Final[dict[str, Callable[[str], str]]] = {
    "tolower": str.lower,
    "toupper": str.upper,
    "escape": lambda text: quote(text, safe="$-_.+!*'(),:@&=/~"),
    "unescape": _unescaped,
    "base64": lambda text: base64.b64encode(_octets(text)).decode(),
    "md5": lambda text: hashlib.md5(_octets(text), usedforsecurity=False).hexdigest(),
    "sha1": lambda text: hashlib.sha1(_octets(text), usedforsecurity=False).hexdigest(),
}
_OF_REQUEST: Final = {"req": "HTTP", "http": "HTTP", "req_novary": "HTTP", "reqenv": "ENV", "env": "ENV"}


def _call(name: str, argument: str, state: _State) -> str:
    """What a function makes of its argument. Raises :class:`UndeterminedError`."""
    if name in _OF_TEXT:
        return _OF_TEXT[name](argument)
    if name in _OF_REQUEST:
        return state.exchange.variable(f"{_OF_REQUEST[name]}:{argument}")
    raise UndeterminedError(f"{name}({quoted(argument)}) is known at run time only")


def _variable(name: str, state: _State) -> str:
    """``%{NAME}``, or ``%{function:argument}``."""
    function, colon, argument = name.partition(":")
    if colon and function.lower() in (*_OF_TEXT, *_OF_REQUEST):
        return _call(function.lower(), _filled(argument, state), state)
    return state.exchange.variable(name)


def _filled(text: str, state: _State) -> str:
    def one(found: re.Match[str]) -> str:
        return _variable(found[1], state) if found[2] is None else state.group(int(found[2]))

    return filled(_IN_STRING, one, text)


def fill(text: str, exchange: Exchange) -> str:
    """A string with its ``%{NAME}`` filled in. Raises :class:`UndeterminedError`."""
    return _filled(text, _State(exchange))


def compare(left: str, operator: str, right: str) -> bool:
    """A comparison of texts, or with a letter operator of whole numbers."""
    if operator == "-fnmatch":
        return fits(right, left)
    if operator in ("-strmatch", "-strcmatch"):
        flags = re.IGNORECASE if operator == "-strcmatch" else 0
        return re.match(translate(right), left, flags) is not None
    if operator.startswith("-"):
        a, b = signed_number(left), signed_number(right)
        if a is None or b is None:
            a, b = 0, 0
        return {"-eq": a == b, "-ne": a != b, "-lt": a < b, "-gt": a > b, "-le": a <= b, "-ge": a >= b}[operator]
    if operator in ("==", "=", "!="):
        return (left == right) is (operator != "!=")
    return {"<": left < right, ">": left > right, "<=": left <= right, ">=": left >= right}[operator]
