"""The rules of mod_rewrite, as far as a request decides them (modules/mappers/mod_rewrite.c, httpd 2.4)."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import lru_cache, partial
from typing import Final, Literal
from urllib.parse import quote

from msgspec import Struct

from rupex.masking.quoting import quoted
from rupex.model.budget import spend
from rupex.model.numbers import whole_number
from rupex.servers.apache.exchange import Exchange, escaped
from rupex.servers.apache.expanding import Captured, RewriteMaps, escaped_capture, expanded
from rupex.servers.apache.expressions import compare, evaluate
from rupex.servers.apache.syntax import Block, Directive
from rupex.servers.common.patterns import UndeterminedError, literal_start, search

_ABSOLUTE = re.compile(r"[a-z][a-z0-9+.-]*://", re.IGNORECASE)
_STATUS_WORDS: Final = {"temp": 302, "permanent": 301, "seeother": 303}
_OPERATOR = re.compile(r"[<>=]=?|-(?:eq|ne|lt|gt|le|ge)", re.IGNORECASE)
_RULES_A_STEP: Final = 4
"""Rules that are passed over in one step, since the path begins with other characters than theirs."""
_MARK: Final = "\ue003"
"""Stands for a question mark that is part of a path."""
_MOST_ROUNDS: Final = 100
"""``[N]`` starts again at most so often here; the server gives up after 10,000 (2.4.8)."""


class Condition(Struct, frozen=True):
    test: str
    pattern: str
    flags: frozenset[str]
    directive: Directive


class Rule(Struct, frozen=True):
    """``flags``: lower-case name to its value, empty without one; ``start``: the characters with which every path begins that
    the pattern is found in."""

    pattern: str
    substitution: str
    flags: dict[str, str]
    conditions: tuple[Condition, ...]
    directive: Directive
    start: str

    def has(self, *names: str) -> bool:
        return any(name in self.flags for name in names)


class Rewritten(Struct, frozen=True):
    """What rules made of a request: a ``redirect`` (status and Location), a ``status`` alone, requests passed on to
    ``proxied``, or a changed ``path`` (``changed``). ``by``: the directive that decided last; ``steps``: those that matched."""

    kind: Literal["none", "redirect", "status", "proxy", "changed"]
    by: Directive | None = None
    status: int | None = None
    location: str | None = None
    proxied: str | None = None
    steps: tuple[Directive, ...] = ()
    path: str = ""
    passes_through: bool = False
    reflects: str | None = None


NOTHING: Final = Rewritten("none")
_STATUS_FLAGS: Final = (("f", 403), ("g", 410))


class RuleSet(Struct, frozen=True):
    """The rules that hold in one place. ``own``: the blocks that they are taken from, the last first for the server's maps."""

    is_on: bool
    rules: tuple[Rule, ...]
    own: tuple[Block, ...]


def rules_of(blocks: Sequence[Block], *, is_server: bool, is_on: bool = False) -> RuleSet:
    """The rules that hold where the last of ``blocks`` does: the main server and a virtual host, or the sections that hold for a
    file, in the order of merging.

    The switch is taken over from the block before, and so are the options, but rules only where they say so
    (mod_rewrite.c, config_server_merge and config_perdir_merge). ``is_on``: the switch before all of them, for sections that of
    the server (cmd_rewriteengine).
    """
    found, options = RuleSet(is_on, (), ()), frozenset[str]()
    for number, block in enumerate(blocks):
        own = frozenset(word.lower() for d in block.named("rewriteoptions") for word in d.args)
        switches = [d.raw.strip().lower() == "on" for d in block.named("rewriteengine")]
        before, options = options, own or options
        rules = read_rules(block)
        places: tuple[Block, ...] = (block,)
        is_taken_down = number > 0 and is_server and "ignoreinherit" not in options
        if "inherit" in options or (is_taken_down and "inheritdown" in before):
            rules, places = (*rules, *found.rules), (block, *found.own)
        elif "inheritbefore" in options or (is_taken_down and "inheritdownbefore" in before):
            rules, places = (*found.rules, *rules), (block, *found.own)
        found = RuleSet(switches[-1] if switches else found.is_on, rules, places)
    return found


def read_rules(directives: Block) -> tuple[Rule, ...]:
    """The rules of one server or section, each with the conditions before it."""
    found: list[Rule] = []
    waiting: list[Condition] = []
    for directive in directives.named("rewritecond", "rewriterule"):
        if directive.key == "rewritecond" and len(directive.args) >= 2:
            flags = _flags(directive.args[2] if len(directive.args) > 2 else "")
            waiting.append(Condition(directive.args[0], directive.args[1], frozenset(flags), directive))
        elif directive.key == "rewriterule" and len(directive.args) >= 2:
            pattern, substitution, *more = directive.args
            flags = _flags(more[0] if more else "")
            start = "" if "nc" in flags or pattern.startswith("!") else literal_start(pattern)
            found.append(Rule(pattern, substitution, flags, tuple(waiting), directive, start))
            waiting = []
    return tuple(found)


@lru_cache(maxsize=1024)
def _flag_text(text: str) -> tuple[tuple[str, str], ...]:
    inner = text.strip()[1:-1] if text.strip().startswith("[") else text.strip()
    pairs = (part.strip().partition("=") for part in inner.split(",") if part.strip())
    return tuple((_FLAG_NAMES.get(name.lower(), name.lower()), value) for name, _, value in pairs)


_FLAG_NAMES: Final = {
    "redirect": "r", "forbidden": "f", "gone": "g", "last": "l", "chain": "c", "next": "n", "nocase": "nc", "noescape": "ne",
    "qsappend": "qsa", "qsdiscard": "qsd", "qslast": "qsl", "proxy": "p", "passthrough": "pt", "skip": "s", "env": "e",
    "cookie": "co", "handler": "h", "type": "t", "ornext": "or", "novary": "nv", "nosubreq": "ns",
}  # fmt: skip


def _flags(text: str) -> dict[str, str]:
    return dict(_flag_text(text)) if text else {}


class Rewriter:
    """Applies rules. ``is_there``: whether a path is a file or folder, None where that is not known; ``maps``: the server's;
    ``refuses_marks``: a question mark that comes escaped in a path may not become one in a target (since 2.4.60)."""

    def __init__(
        self,
        is_there: Callable[[str, Literal["file", "folder", "any"]], bool | None],
        maps: RewriteMaps,
        *,
        refuses_marks: bool = True,
    ) -> None:
        self.is_there, self.maps, self.refuses_marks = is_there, maps, refuses_marks

    def apply(
        self, rules: tuple[Rule, ...], exchange: Exchange, prefix: str | None = None, base: str = ""
    ) -> Rewritten:
        """Run ``rules`` over a request, changing its ``uri`` and ``args``. ``prefix``: the folder of rules that stand in a
        section or override file, as a file path ending in a slash; ``base``: its URL path. Raises
        :class:`UndeterminedError`."""
        subject = exchange.uri if prefix is None else exchange.file
        if prefix is not None:
            if not (subject + "/").startswith(prefix):
                return NOTHING
            subject = subject[len(prefix) :]
        steps: list[Directive] = []
        passes = False
        position = rounds = 0
        spend(1 + len(rules) // _RULES_A_STEP)
        last: Rule | None = None
        path = subject
        is_chain_broken = False
        while position < len(rules):
            rule = rules[position]
            position += 1
            if exchange.is_inner and rule.has("r", "ns"):
                continue  # never for a request that the server makes itself (apply_rewrite_list)
            is_tried = not is_chain_broken and path.startswith(rule.start)
            captured = self._matches(rule, path, exchange) if is_tried else None
            is_chain_broken = captured is None and "c" in rule.flags
            if captured is None:
                continue
            steps.append(rule.directive)
            self._environment(rule, exchange, captured)
            status = next((status for flag, status in _STATUS_FLAGS if rule.has(flag)), None)
            if status is not None:
                return Rewritten("status", rule.directive, status, steps=tuple(steps))
            if rule.substitution != "-":
                new = expanded(rule.substitution, captured, exchange, self.maps, _escape_of(rule))
                if self.refuses_marks and "%3f" in exchange.sent.lower() and not rule.has("unsafeallow3f"):
                    new, is_refused = self._without_mark(new, rule, captured, exchange)
                    if is_refused:
                        return Rewritten("status", rule.directive, 403, steps=tuple(steps))
                path = self._query(new, rule, exchange)
                last = rule
            done = self._ends(rule, path, exchange, captured, prefix, base, tuple(steps))
            if done is not None:
                return done
            passes = passes or rule.has("pt")
            if rule.has("n"):
                if rounds == _MOST_ROUNDS:
                    raise UndeterminedError(f"[N] restarts the rules more than {_MOST_ROUNDS} times")
                position, rounds = 0, rounds + 1
                spend(1 + len(rules) // _RULES_A_STEP)
                continue
            if rule.has("l", "end", "pt"):
                break
            if rule.has("s"):
                position += whole_number(rule.flags["s"]) or 0
        if last is None:
            return NOTHING
        path = path if prefix is None else _joined(base, path)
        if passes or prefix is not None:
            exchange.uri = path  # else it stays as it was, and only the file is another one
        passes = passes or prefix is not None
        return Rewritten("changed", last.directive, path=path, steps=tuple(steps), passes_through=passes)

    def _without_mark(self, new: str, rule: Rule, captured: Captured, exchange: Exchange) -> tuple[str, bool]:
        """A target without the question marks that came from an escaped one in the path, and whether it is refused for them: one
        behind a mark of the rule's own is escaped again."""
        filled = Captured(
            [part.replace("?", _MARK) for part in captured.rule],
            [part.replace("?", _MARK) for part in captured.condition],
        )
        marked = replace(exchange, uri=exchange.uri.replace("?", _MARK))
        text = expanded(rule.substitution, filled, marked, self.maps, _escape_of(rule))
        path, mark, query = text.partition("?")
        if mark and _MARK in query:
            new = f"{path}?{query.replace(_MARK, '%3f')}"
        return new, _MARK in path

    def _matches(self, rule: Rule, path: str, exchange: Exchange) -> Captured | None:
        """What the rule's pattern and its last matching condition captured; None when the rule does not hold."""
        pattern, is_not = rule.pattern.removeprefix("!"), rule.pattern.startswith("!")
        found = search(pattern, path, ignore_case=rule.has("nc"))
        if (found is None) is not is_not:
            return None
        captured = [path] if found is None else [found[0], *(group or "" for group in found.groups())]
        from_condition: list[str] = []
        held = True
        for index, condition in enumerate(rule.conditions):
            if "or" in condition.flags or (index and "or" in rule.conditions[index - 1].flags):
                if index and "or" in rule.conditions[index - 1].flags and held:
                    continue  # one of the alternatives held already
            elif not held:
                return None
            groups = self._holds(condition, Captured(captured, from_condition), exchange)
            held = groups is not None
            if groups:
                from_condition = groups
            if not held and "or" not in condition.flags:
                return None
        return Captured(captured, from_condition) if held else None

    def _holds(self, condition: Condition, captured: Captured, exchange: Exchange) -> list[str] | None:
        """What a condition captured, an empty list for nothing; None when it does not hold."""
        pattern = condition.pattern
        if condition.test.lower() == "expr":
            return [] if evaluate(pattern, exchange) else None
        subject = expanded(condition.test, captured, exchange, self.maps)
        is_not = pattern.startswith("!")
        pattern = pattern.removeprefix("!")
        if pattern in ("-f", "-d", "-s", "-l", "-F", "-U", "-x", "-h", "-L", "-H"):
            kind: Literal["file", "folder", "any"] = "folder" if pattern == "-d" else "file"
            is_found = self.is_there(subject, kind) if pattern in ("-f", "-d", "-s") else None
            if is_found is None:
                raise UndeterminedError(f"whether {quoted(subject)} is there is known at run time only")
            return [] if is_found is not is_not else None
        compared = _OPERATOR.match(pattern)
        if compared is not None:
            operator = compared[0].lower()
            operand = expanded(pattern[len(operator) :].strip(), captured, exchange, self.maps).strip('"')
            if "nc" in condition.flags:
                subject, operand = subject.lower(), operand.lower()
            return [] if compare(subject, operator, operand) is not is_not else None
        found = search(pattern, subject, ignore_case="nc" in condition.flags)
        if (found is None) is not is_not:
            return None
        return [] if found is None else [found[0], *(group or "" for group in found.groups())]

    def _environment(self, rule: Rule, exchange: Exchange, captured: Captured) -> None:
        assignment = rule.flags.get("e")
        if assignment is None:
            return
        name, _, value = assignment.partition(":")
        if name.startswith("!"):
            exchange.environment.pop(name[1:], None)
        else:
            exchange.environment[name] = expanded(value, captured, exchange, self.maps)

    @staticmethod
    def _query(new: str, rule: Rule, exchange: Exchange) -> str:
        """The path of a substitution, its query made that of the request (splitout_queryargs)."""
        path, mark, query = new.rpartition("?") if rule.has("qsl") else new.partition("?")
        if rule.has("qsl") and not mark:
            path, query = new, ""
        if not mark:
            if rule.has("qsd"):
                exchange.args = None
            return path
        if rule.has("qsa") and exchange.args:
            query = f"{query}&{exchange.args}" if query else exchange.args
        exchange.args = query or None
        return path

    def _ends(
        self,
        rule: Rule,
        path: str,
        exchange: Exchange,
        captured: Captured,
        prefix: str | None,
        base: str,
        steps: tuple[Directive, ...],
    ) -> Rewritten | None:
        """What ends the rules here: a redirect, or a request passed on."""
        is_absolute = _ABSOLUTE.match(path) is not None and rule.substitution != "-"
        own = f"{exchange.scheme}://{exchange.own_name}"
        if is_absolute and not rule.has("r", "p") and path.lower().startswith(own.lower() + "/"):
            raise UndeterminedError("the rule names this very server, whose name for itself is known at run time only")
        if rule.has("p"):
            return Rewritten("proxy", rule.directive, proxied=path, steps=steps)
        if not rule.has("r") and not is_absolute:
            return None
        status_word = rule.flags.get("r", "")
        status = (
            _STATUS_WORDS.get(status_word.lower())
            or (whole_number(status_word) if len(status_word) == 3 else None)
            or 302
        )
        if not 300 <= status < 400:
            return Rewritten("status", rule.directive, status, steps=steps)
        if not is_absolute:
            path = exchange.absolute(
                _joined(base, path) if prefix is not None else path if path.startswith("/") else "/" + path
            )
        location = path if rule.has("ne") else _escaped_target(path)
        if exchange.args:
            location += "?" + (exchange.args if rule.has("ne") else _escaped_query(exchange.args))
        reflects = _reflected(rule)
        return Rewritten("redirect", rule.directive, status, location, steps=steps, reflects=reflects)


def _joined(base: str, path: str) -> str:
    return path if path.startswith("/") else f"{base.rstrip('/')}/{path}"


def _escape_of(rule: Rule) -> Callable[[str], str]:
    """What a rule makes of a part that its pattern captured."""
    if not rule.has("b", "bctls", "bne"):
        return str
    return partial(escaped_capture, space="%20" if rule.has("bnp") else "+")


def _escaped_target(target: str) -> str:
    """Everything behind the authority of an absolute URL, escaped (escape_absolute_uri)."""
    scheme, mark, rest = target.partition("://")
    authority, slash, path = rest.partition("/")
    return f"{scheme}{mark}{authority}{slash}{escaped(path)}"


def _escaped_query(args: str) -> str:
    return quote(args, safe="$-_.+!*'(),:@&=/~?;%") if " " in args or "\r" in args or "\n" in args else args


def _reflected(rule: Rule) -> str | None:
    """The part of the request that reaches Location as it is, by a rule that escapes nothing."""
    if not rule.has("ne"):
        return None
    found = re.search(r"\$\d|%\d|%\{(?:REQUEST_URI|REQUEST_FILENAME)\}", rule.substitution)
    return found[0] if found else None
