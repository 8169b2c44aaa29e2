"""httpd's configuration as it may leave a machine, and that of Tomcat's rewrite valve, whose lines look alike."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Final

from rupex.masking.leaves import classes
from rupex.masking.values import SAFE_SOURCES, Masker, is_plain

_LINE: Final = re.compile(r"((?:[ \t\r\f\v]|\\\r?\n)*+)((?:[^\n\\]|\\\r?\n|\\)*+)(\n|\Z)")
_WORD: Final = re.compile(
    r"""((?:[ \t\r\f\v]|\\\r?\n)*+)("(?:[^"\\]|\\.)*+"|'(?:[^'\\]|\\.)*+'|(?:[^\s\\]|\\(?!\r?\n))++)""", re.DOTALL
)
_LINE_END: Final = re.compile(r"\\?\r?\n")
_VARIABLE: Final = re.compile(r"%\{([^}]*)\}")
_IN_EXPRESSION: Final = re.compile(
    r"""('[^']*'|"[^"]*"|m(?P<mark>[#|!,@%]).*?(?P=mark)[a-z]*|(?<=[\s~])/(?:[^/\\]|\\.)*/[a-z]*)"""
)
_COOKIE_FLAG: Final = re.compile(r"(?i)(\[?\s*(?:CO|cookie)=(?:;[\w.-]+;|[\w.-]+:))([^\]]*)(\]?)")
_FLAG_VALUE: Final = re.compile(r"(?i)(\[?\s*(?:E|env|CO|cookie)=!?[\w.-]+:)([^\]]*)(\]?)")
_VALUES_OF: Final = {"edit": 2, "edit*": 2, "unset": 0, "echo": 0}
"""By action of ``Header``, how many values follow the name; one for any other action."""
OPEN_TO: Final = ("all", "ip", "host", "local", "env", "method", "valid-user", "forward-dns")


def mask_apache(text: str, masker: Masker) -> str:
    made = []
    for found in _LINE.finditer(text):
        blank, line, end = found.groups()
        if line.startswith("#"):
            made += [blank, "#" + "\n" * line.count("\n"), end]
        else:  # what was continued still is, whatever stands for it
            made += [_LINE_END.sub(r"\\\n", blank + _line(line, masker)), end]
        if found.end() == len(text):
            break
    return "".join(made)


def _line(line: str, masker: Masker) -> str:
    """A directive, or the start or end of a section."""
    mark = re.match(r"</?[ \t]*", line)
    head = "" if mark is None else mark[0]
    body, end = line[len(head) :], ""
    if head:
        closing = re.search(r">[ \t\r]*\Z", body)
        body, end = (body, "") if closing is None else (body[: closing.start()], body[closing.start() :])
    pieces = list(_words(body))
    if not pieces:
        return head + body + end
    name = pieces[0][2].lower()
    if ("apache", name) not in classes():
        made = [masker.value(word, "look=") for _, _, word in pieces]
    elif classes()["apache", name] == ("expression",):
        first = len(pieces[0][0]) + len(pieces[0][1]) * 2 + len(pieces[0][2])
        return head + body[:first] + _expression(body[first:], masker) + end
    else:
        made = [pieces[0][2], *_arguments(name, [word for _, _, word in pieces[1:]], masker)]
    shown = [f"{blank}{quote}{word}{quote}" for (blank, quote, _), word in zip(pieces, made, strict=True)]
    rest = body[sum(len(blank) + 2 * len(quote) + len(word) for blank, quote, word in pieces) :]
    return "".join([head, *shown, rest if is_plain(rest) else masker.value(rest, "never"), end])


def _words(body: str) -> Iterator[tuple[str, str, str]]:
    """The blanks before each word, its quote, and the word without it, as written."""
    position = 0
    while (found := _WORD.match(body, position)) is not None:
        position = found.end()
        quote = found[2][0] if found[2][0] in "\"'" and len(found[2]) > 1 and found[2][-1] == found[2][0] else ""
        yield found[1], quote, found[2][1:-1] if quote else found[2]


def _arguments(name: str, words: list[str], masker: Masker) -> list[str]:
    kinds = classes()["apache", name]
    match kinds[0]:
        case "condition":
            return _condition(words, masker)
        case "header-line" | "request-line":
            return _header(words, kinds[0].removesuffix("-line"), masker)
        case "require":
            return _require(words, masker)
        case "last":
            return [
                *(masker.value(word, "all") for word in words[:-1]),
                *(masker.value(w, kinds[1]) for w in words[-1:]),
            ]
    return [_argument(word, kinds[min(index, len(kinds) - 1)], masker) for index, word in enumerate(words)]


def _argument(word: str, kind: str, masker: Masker) -> str:
    if kind == "flags":
        return _flags(word, masker)
    return masker.value(word, kind)


def _condition(words: list[str], masker: Masker) -> list[str]:
    """``RewriteCond TESTSTRING PATTERN [FLAGS]``."""
    if words[:1] == ["expr"]:
        return [
            "expr",
            *(_expression(word, masker) for word in words[1:2]),
            *(masker.value(w, "look") for w in words[2:]),
        ]
    kind = "all" if words and _asks_only_safe(words[0]) else "test="
    made = [masker.value(word, "all" if kind == "all" else "look=") for word in words[:1]]
    for word in words[1:2]:
        head = re.match(r"!?(?:-[a-zA-Z]{1,3}\Z|[<>=]{1,2})?", word)
        start = 0 if head is None else head.end()
        made.append(word[:start] + masker.test(word[start:], kind))
    return [*made, *(masker.value(word, "all") for word in words[2:])]


def _asks_only_safe(text: str) -> bool:
    """Whether a text names variables, and only those that no client keeps secret."""
    names = _VARIABLE.findall(text)
    return bool(names) and all(name.lower() in SAFE_SOURCES for name in names)


def _expression(text: str, masker: Masker) -> str:
    """An expression: strings and patterns are masked where they are compared with what a client may keep secret."""
    core = text.strip()
    if len(core) > 1 and core[0] in "\"'" and core[-1] == core[0]:
        start = text.index(core) + 1
        return text[:start] + _expression(core[1:-1], masker) + text[start + len(core) - 2 :]
    clauses = re.split(r"(&&|\|\|)", text)
    return "".join(clause if index % 2 else _clause(clause, masker) for index, clause in enumerate(clauses))


def _clause(text: str, masker: Masker) -> str:
    """One comparison of an expression."""
    if _asks_only_safe(text):
        return masker.value(text, "all")
    made = []
    for index, part in enumerate(_IN_EXPRESSION.split(text)):
        if index % 3 == 2:  # only the mark that a pattern stands between
            continue
        if part[:1] in ("'", '"') and len(part) > 1:
            made.append(part[0] + masker.test(part[1:-1], "test=") + part[-1])
        elif part[:1] == "/" and part.rfind("/") > 0:
            made.append("/" + masker.test(part[1 : part.rfind("/")], "test=") + part[part.rfind("/") :])
        elif part[:1] == "m" and len(part) > 2 and part[1] in "#|!,@%" and part.rfind(part[1]) > 1:
            close = part.rfind(part[1])
            made.append(part[:2] + masker.test(part[2:close], "test=") + part[close:])
        else:
            made.append(masker.value(part, "all"))
    return "".join(made)


def _flags(word: str, masker: Masker) -> str:
    """Flags of a rule: what ``E=NAME:VALUE`` and ``CO=NAME:VALUE:DOMAIN:…`` set goes by its look."""
    made = []
    for part in re.split(r"(,)", word):
        cookie = _COOKIE_FLAG.fullmatch(part)
        if cookie is not None:
            value, mark, rest = cookie[2].partition(cookie[1][-1])
            made.append(cookie[1] + masker.value(value, "look=") + mark + masker.value(rest, "all") + cookie[3])
            continue
        found = _FLAG_VALUE.fullmatch(part)
        made.append(
            masker.value(part, "all") if found is None else found[1] + masker.value(found[2], "look=") + found[3]
        )
    return "".join(made)


def _header(words: list[str], kind: str, masker: Masker) -> list[str]:
    """``Header`` and ``RequestHeader``: condition, action and name stay, the value goes by the name."""
    rest, made = list(words), []
    while rest and rest[0].lower() in ("always", "onsuccess", "early"):
        made.append(rest.pop(0))
    action, name = (rest[0].lower() if rest else ""), (rest[1].lower().rstrip(":") if len(rest) > 1 else "")
    made += [masker.value(word, "name") for word in rest[:2]]
    end = 2 + _VALUES_OF.get(action, 1)
    made += [masker.value(word, kind, name) for word in rest[2:end]]
    return made + [
        _expression(word, masker) if word.startswith("expr=") else masker.value(word, "all") for word in rest[end:]
    ]


def _require(words: list[str], masker: Masker) -> list[str]:
    """``Require``: names of users and groups are masked."""
    position = 1 if words[:1] and words[0].lower() == "not" else 0
    kind = words[position].lower() if len(words) > position else ""
    made = [masker.value(word, "name") for word in words[: position + 1]]
    if kind == "expr":
        return [*made, *(_expression(word, masker) for word in words[position + 1 :])]
    return [*made, *(masker.value(word, "all" if kind in OPEN_TO else "never") for word in words[position + 1 :])]
