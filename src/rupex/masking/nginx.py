"""nginx's configuration as it may leave a machine. Its words are found as :mod:`rupex.servers.nginx.syntax` finds them, but a
break of the grammar ends nothing here: the rest is masked by the same rules."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import Final

from rupex.masking.leaves import classes
from rupex.masking.values import SAFE_SOURCES, Masker

_TOKEN: Final = re.compile(
    r"""(?P<blank>[ \t\r\n]++) | \#(?P<comment>[^\n]*+) | (?P<mark>[;{}])
      | "(?P<double>(?:[^"\\]++|\\.)*+)" | '(?P<single>(?:[^'\\]++|\\.)*+)' | (?P<open>["'].*+)
      | (?P<bare>(?:[^ \t\r\n;{}\#"'\\$] | \\. | \$\{*+ | \\\Z)(?:[^ \t\r\n;{\\$]++ | \\. | \$\{*+ | \\\Z)*+)""",
    re.VERBOSE | re.DOTALL,
)
_LUA: Final = re.compile(
    r"""--\[(=*)\[.*?\]\1\] | --[^\n]*+ | \[(=*)\[.*?\]\2\] | "(?:[^"\\\n]|\\.)*+" | '(?:[^'\\\n]|\\.)*+'
      | ([{}]) | [^-\["'{}]++ | .""",
    re.VERBOSE | re.DOTALL,
)
_QUOTES: Final = {"double": '"', "single": "'", "bare": ""}
_TABLES: Final = ("map", "geo", "split_clients", "types")
_OPERATOR: Final = re.compile(r"\(|\)|!?=|!?~\*?|\(?!?-[fdex]")


def mask_nginx(text: str, masker: Masker) -> str:
    return "".join(_pieces(text, masker))


def _pieces(text: str, masker: Masker) -> Iterator[str]:
    blocks: list[list[str]] = []
    held: list[tuple[str, str]] = []  # the directive so far: (kind of token, text)
    position = 0
    while (token := _TOKEN.match(text, position)) is not None:
        kind, position = str(token.lastgroup), token.end()
        if kind != "mark":
            held.append((kind, token[kind]))
            continue
        words = [word for kind, word in held if kind in _QUOTES]
        yield _directive(held, blocks[-1] if blocks else [], masker) + token[0]
        held = []
        if token[0] == "}":
            del blocks[-1:]
        elif token[0] == "{" and words and words[0].endswith("_by_lua_block"):
            end = _end_of_lua(text, position)
            yield "\n" * text.count("\n", position, end) + text[end : end + 1]
            position = end + 1
        elif token[0] == "{":
            blocks.append(words or [""])
    yield _directive(held, blocks[-1] if blocks else [], masker)


def _directive(held: Sequence[tuple[str, str]], block: list[str], masker: Masker) -> str:
    """A directive as it may leave. ``block``: the words of the block it stands in."""
    words = [word for kind, word in held if kind in _QUOTES]
    context = block[0] if block else ""
    if context in _TABLES and words:
        made = _entry(words, block, masker)
    elif words and (("nginx", words[0].lower()) in classes()):
        made = [words[0], *_arguments(words[0].lower(), words[1:], context, masker)]
    else:
        made = [masker.value(word, "look=") for word in words]
    rest = iter(made)
    shown = []
    for kind, word in held:
        if kind == "open":  # a quote that nothing closes: the rest of the file
            shown.append(masker.value(word, "never"))
        elif kind in _QUOTES:
            shown.append(f"{_QUOTES[kind]}{next(rest)}{_QUOTES[kind]}")
        else:
            shown.append("#" if kind == "comment" else word)
    return "".join(shown)


def _arguments(name: str, words: list[str], context: str, masker: Masker) -> list[str]:
    kinds = classes().get(("nginx", f"{context}/{name}")) or classes()["nginx", name]
    match kinds[0]:
        case "condition":
            return _condition(words, masker)
        case "headers" | "requests":
            return _headers_more(words, kinds[0].removesuffix("s"), masker)
    return [
        masker.value(word, kinds[min(index, len(kinds) - 1)], words[index - 1].lower() if index else "")
        for index, word in enumerate(words)
    ]


def _condition(words: list[str], masker: Masker) -> list[str]:
    """The words of an ``if``. What a variable is compared with leaves where no client keeps that variable secret."""
    subject = words[0].lstrip("(") if words else ""
    kind = "all" if subject.strip("${})").lower() in SAFE_SOURCES else "test="
    made = []
    for word in words:
        if word.lstrip("(").startswith("$") or _OPERATOR.fullmatch(word):
            made.append(masker.value(word, "all"))
        else:
            end = ")" if word.endswith(")") and word.count(")") > word.count("(") else ""
            made.append(masker.test(word.removesuffix(end), kind) + end)
    return made


def _entry(words: list[str], block: list[str], masker: Masker) -> list[str]:
    """One line of a table: a key, which is compared with the table's source, and a value."""
    if block[0] == "types":
        return [masker.value(word, "all") for word in words]
    if words[0] == "include":
        return [words[0], *(masker.value(word, "file") for word in words[1:])]
    source = block[1].strip("${}").lower() if len(block) > 2 else "remote_addr"
    head = words[0][: len(words[0]) - len(words[0].lstrip("~*"))] if words[0].startswith("~") else ""
    key = masker.test(words[0].removeprefix(head), "all" if source in SAFE_SOURCES else "test=")
    return [head + key, *(masker.value(word, "look=") for word in words[1:])]


def _headers_more(words: list[str], kind: str, masker: Masker) -> list[str]:
    """Words of headers-more: ``Name: value``, or an option with its value."""
    made = []
    for index, word in enumerate(words):
        name, colon, value = word.partition(":")
        if (index and words[index - 1] in ("-s", "-t")) or word.startswith("-"):
            made.append(masker.value(word, "all"))
        elif colon:
            blank = value[: len(value) - len(value.lstrip())]
            made.append(
                f"{masker.value(name, 'name')}:{blank}{masker.value(value.lstrip(), kind, name.strip().lower())}"
            )
        else:
            made.append(masker.value(word, "name"))
    return made


def _end_of_lua(text: str, position: int) -> int:
    """The offset of the brace that closes a Lua block opened before ``position``; the end of the text without one."""
    depth = 1
    for token in _LUA.finditer(text, position):
        if token[3] is not None:
            depth += 1 if token[3] == "{" else -1
            if depth == 0:
                return token.start()
    return len(text)
