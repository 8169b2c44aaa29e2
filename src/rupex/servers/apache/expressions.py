"""Expressions of If sections, headers and rules (httpd's manual, "Expressions in Apache HTTP Server"), as far as a request
decides them: comparisons, patterns, and, or, not, and the variables of :class:`Exchange`.
"""

from __future__ import annotations

import re
from typing import Final

from rupex.masking.quoting import quoted
from rupex.model import bounds
from rupex.model.budget import CHARACTERS_A_STEP, filled, spend
from rupex.model.numbers import signed_number
from rupex.servers.apache.exchange import Exchange
from rupex.servers.common.patterns import UndeterminedError, search

_TOKEN = re.compile(
    r"""\s*+(?: (?P<string>"(?:[^"\\]|\\.)*+" | '(?:[^'\\]|\\.)*+')
      | (?P<match>m(?P<delimiter>[#|!,@%])(?:(?!(?P=delimiter)).)*+(?P=delimiter)[ims]* | /(?:[^/\\]|\\.)*+/[ims]*)
      | (?P<operator>==|!=|=~|!~|<=|>=|<|>|&&|\|\||!|\(|\)|=|\{|\}|,|-[A-Za-z]+\b)
      | (?P<variable>%\{[^}]*\}) | (?P<word>[A-Za-z_][\w.-]*|-?\d+) )""",
    re.VERBOSE,
)
_IN_STRING = re.compile(r"%\{([^}]*)\}")
_COMPARE: Final = frozenset(
    ("==", "!=", "=", "<", ">", "<=", ">=", "-eq", "-ne", "-lt", "-gt", "-le", "-ge", "-strmatch", "-in")
)
_MOST_TOKENS: Final = 500


def evaluate(text: str, exchange: Exchange) -> bool:
    """Whether an expression is true for a request. Raises :class:`UndeterminedError`."""
    tokens: list[tuple[str | None, str]] = []
    position = 0
    text = text.rstrip()
    spend(1 + len(text) // CHARACTERS_A_STEP)
    while position < len(text):
        found = _TOKEN.match(text, position)
        if found is None or len(tokens) > _MOST_TOKENS:
            raise UndeterminedError(f"the expression {quoted(text)} is not one that Rupex can read")
        tokens.append((found.lastgroup if found.lastgroup != "delimiter" else "match", found[0].strip()))
        position = found.end()
    parser = _Parser(tokens, exchange, text)
    value = parser.either()
    if parser.position != len(tokens):
        parser.fail()
    return value


class _Parser:
    def __init__(self, tokens: list[tuple[str | None, str]], exchange: Exchange, text: str) -> None:
        self.tokens, self.exchange, self.text, self.position, self.depth = tokens, exchange, text, 0, 0

    def fail(self) -> None:
        raise UndeterminedError(f"the expression {quoted(self.text)} is not one that Rupex can read")

    def peek(self) -> str:
        return self.tokens[self.position][1] if self.position < len(self.tokens) else ""

    def take(self) -> tuple[str | None, str]:
        if self.position >= len(self.tokens):
            self.fail()
        self.position += 1
        return self.tokens[self.position - 1]

    def either(self) -> bool:
        value = self.both()
        while self.peek() in ("||", "or"):
            self.take()
            other = self.both()
            value = value or other
        return value

    def both(self) -> bool:
        value = self.single()
        while self.peek() in ("&&", "and"):
            self.take()
            other = self.single()
            value = value and other
        return value

    def single(self) -> bool:
        self.depth += 1
        if self.depth > bounds.NESTING:
            self.fail()
        value = self._single()
        self.depth -= 1
        return value

    def _single(self) -> bool:
        if self.peek() in ("!", "not"):
            self.take()
            return not self.single()
        if self.peek() == "(":
            self.take()
            value = self.either()
            if self.take()[1] != ")":
                self.fail()
            return value
        kind, word = self.take()
        if kind == "operator":
            return self.unary(word)
        if kind == "word" and word in ("true", "false"):
            return word == "true"
        left = self.string(kind, word)
        operator = self.take()[1]
        kind, word = self.take()
        if operator in ("=~", "!~"):
            if kind != "match":
                self.fail()
            return self.matches(left, word) is (operator == "=~")
        if operator not in _COMPARE or operator in ("-strmatch", "-in"):
            self.fail()
        return compare(left, operator, self.string(kind, word))

    def unary(self, operator: str) -> bool:
        kind, word = self.take()
        if operator in ("-z", "-n"):
            return (self.string(kind, word) == "") is (operator == "-z")
        if operator == "-T":
            return self.string(kind, word).lower() not in ("", "0", "off", "false", "no")
        raise UndeterminedError(f"{operator} {quoted(word)} is known at run time only")

    def string(self, kind: str | None, word: str) -> str:
        if kind == "string":
            return fill(re.sub(r"\\(.)", r"\1", word[1:-1]), self.exchange)
        if kind == "variable":
            return self.exchange.variable(word[2:-1])
        if kind == "word" and signed_number(word) is not None:
            return word
        raise UndeterminedError(f"{quoted(word)} is known at run time only")

    def matches(self, subject: str, pattern: str) -> bool:
        start = 1 if pattern.startswith("/") else 2
        end = pattern.rindex(pattern[start - 1])
        flags = pattern[end + 1 :]
        return search(pattern[start:end], subject, ignore_case="i" in flags) is not None


def fill(text: str, exchange: Exchange) -> str:
    """A string with its ``%{NAME}`` filled in. Raises :class:`UndeterminedError`."""
    return filled(_IN_STRING, lambda found: exchange.variable(found[1]), text)


def compare(left: str, operator: str, right: str) -> bool:
    """A comparison of texts, or with a letter operator of whole numbers."""
    if operator.startswith("-"):
        a, b = signed_number(left), signed_number(right)
        if a is None or b is None:
            a, b = 0, 0
        return {"-eq": a == b, "-ne": a != b, "-lt": a < b, "-gt": a > b, "-le": a <= b, "-ge": a >= b}[operator]
    if operator in ("==", "=", "!="):
        return (left == right) is (operator != "!=")
    return {"<": left < right, ">": left > right, "<=": left <= right, ">=": left >= right}[operator]
