"""The rules of mod_rewrite, as far as a request decides them (modules/mappers/mod_rewrite.c, httpd 2.4)."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import lru_cache, partial
from typing import Final, Literal, NamedTuple

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
    """``flags``: lower-case name to its value, empty without one, those apart that may come more than once: ``variables``, what E
    sets, and ``cookies``, what CO does; ``start``: the characters with which every path begins that the pattern is found in."""

    pattern: str
    substitution: str
    flags: dict[str, str]
    conditions: tuple[Condition, ...]
    directive: Directive
    start: str
    variables: tuple[str, ...] = ()
    cookies: tuple[str, ...] = ()

    def has(self, *names: str) -> bool:
        return any(name in self.flags for name in names)


class Rewritten(Struct, frozen=True):
    """What rules made of a request: a ``redirect`` (status and Location), a ``status`` alone, requests passed on to
    ``proxied``, or a changed ``path`` (``changed``), ``written`` by the rules without its folder. ``by``: the
    directive that decided last; ``steps``: those that matched."""

    kind: Literal["none", "redirect", "status", "proxy", "changed"]
    by: Directive | None = None
    status: int | None = None
    location: str | None = None
    proxied: str | None = None
    steps: tuple[Directive, ...] = ()
    path: str = ""
    passes_through: bool = False
    reflects: str | None = None
    written: str = ""


NOTHING: Final = Rewritten("none")
_STATUS_FLAGS: Final = (("f", 403), ("g", 410))


class RuleSet(Struct, frozen=True):
    """The rules that hold in one place. ``own``: the blocks that they are taken from, the last first for the server's maps."""

    is_on: bool
    rules: tuple[Rule, ...]
    own: tuple[Block, ...]


def options_of(block: Block) -> frozenset[str]:
    """The RewriteOptions of one server or section, in lower case."""
    return frozenset(word.lower() for directive in block.named("rewriteoptions") for word in directive.args)


def rules_of(blocks: Sequence[Block], *, is_server: bool, is_on: bool = False) -> RuleSet:
    """The rules that hold where the last of ``blocks`` does: the main server and a virtual host, or the sections that hold for a
    file, in the order of merging.

    The switch is taken over from the block before, and so are the options, but rules only where they say so
    (mod_rewrite.c, config_server_merge and config_perdir_merge). ``is_on``: the switch before all of them, for sections that of
    the server (cmd_rewriteengine).
    """
    found, options = RuleSet(is_on, (), ()), frozenset[str]()
    for number, block in enumerate(blocks):
        own = options_of(block)
        switches = [d.word == "on" for d in block.named("rewriteengine")]
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
            pairs = _flag_text(more[0]) if more else ()
            flags = dict(pairs)
            start = "" if "nc" in flags or pattern.startswith("!") else literal_start(pattern)
            variables, cookies = (tuple(value for name, value in pairs if name == key) for key in ("e", "co"))
            found.append(Rule(pattern, substitution, flags, tuple(waiting), directive, start, variables, cookies))
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
    "cookie": "co", "discardpath": "dpi", "handler": "h", "type": "t", "ornext": "or", "novary": "nv", "nosubreq": "ns",
}  # fmt: skip


def _flags(text: str) -> dict[str, str]:
    return dict(_flag_text(text)) if text else {}


class RuleFolder(NamedTuple):
    """What rules in a section or override file are written for.

    ``path``: the folder, the URL path or the pattern, with a slash at its end.
    ``stripped``: what is taken off the names of files that they see.
    ``base``: the URL path that RewriteBase says.
    ``path_info``: what follows the name of the file in the request; rules see it behind every target too.
    """

    path: str
    stripped: str
    base: str | None
    path_info: str = ""

    def seen(self, target: str, path_info: str) -> str:
        """What the rules behind the one with a ``target`` see of it (apply_rewrite_rule)."""
        if _ABSOLUTE.match(target) is not None:
            return target + path_info
        return (self.file(target) + path_info).removeprefix(self.path)

    def file(self, path: str) -> str:
        """What a target is a name of."""
        return path if path.startswith("/") else self.path + path

    def address(self, url: str) -> str:
        """An absolute URL that rules redirect to: where its path begins like the folder, RewriteBase stands for it there too
        (hook_fixup)."""
        scheme, mark, rest = url.partition("://")
        authority, slash, path = rest.partition("/")
        if self.base is None or not path or self.path == "/":
            return url
        return f"{scheme}{mark}{authority}{self.url(slash + path)}"

    def url(self, path: str) -> str:
        """What is made of a target: RewriteBase stands for the folder (subst_prefix_path)."""
        file = self.file(path)
        if self.base is None or not file.startswith(self.path):
            return file
        return f"{self.base.rstrip('/')}/{file[len(self.path) :]}"


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

    def apply(self, rules: tuple[Rule, ...], exchange: Exchange, folder: RuleFolder | None = None) -> Rewritten:
        """Run ``rules`` over a request, changing its ``uri`` and ``args``. ``folder``: that of rules which stand in a section or
        override file. Raises :class:`UndeterminedError`."""
        try:
            return self._applied(rules, exchange, folder)
        finally:
            exchange.rewritten = ""

    def _applied(self, rules: tuple[Rule, ...], exchange: Exchange, folder: RuleFolder | None) -> Rewritten:
        subject = exchange.uri if folder is None else exchange.file.removeprefix(folder.stripped)
        steps: list[Directive] = []
        passes = False
        position = rounds = 0
        query = exchange.args
        spend(1 + len(rules) // _RULES_A_STEP)
        last: Rule | None = None
        redirect: Rule | None = None
        path = subject
        path_info = "" if folder is None else folder.path_info
        is_chain_broken = False
        while position < len(rules):
            rule = rules[position]
            position += 1
            if exchange.is_inner and rule.has("r", "ns"):
                continue  # never for a request that the server makes itself (apply_rewrite_list)
            is_tried = not is_chain_broken and subject.startswith(rule.start)
            captured = self._matches(rule, subject, exchange) if is_tried else None
            is_chain_broken = captured is None and "c" in rule.flags
            if captured is None:
                continue
            steps.append(rule.directive)
            self._environment(rule, exchange, captured)
            self._cookies(rule, exchange, captured)
            exchange.is_past_rules = exchange.is_past_rules or rule.has("end")
            if "t" in rule.flags:
                exchange.forced_type = expanded(rule.flags["t"], captured, exchange, self.maps).lower()
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
                if folder is None and not path.startswith("/") and _ABSOLUTE.match(path) is None:
                    path = f"/{path}"
                last, subject = rule, path
            ended = self._ended(rule, path, tuple(steps))
            if ended is not None:
                return ended
            if rule.has("r") or (_ABSOLUTE.match(path) is not None and rule.substitution != "-"):
                redirect, path = rule, self._address(rule, path, exchange, folder)
                subject = path
            if rule.substitution != "-":
                is_address = _ABSOLUTE.match(path) is not None
                exchange.rewritten = path if folder is None or is_address else folder.file(path)
            if folder is not None and rule.substitution != "-":
                path_info = "" if rule.has("dpi") else path_info
                subject = folder.seen(path, path_info)
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
        if redirect is not None:
            path = path if folder is None else folder.address(path)
            return _redirected(redirect, last or redirect, path, exchange, tuple(steps), query)
        if last is None:
            return NOTHING
        written = path
        path = path if folder is None else folder.url(path)
        if passes or folder is not None:
            exchange.uri = path  # else it stays as it was, and only the file is another one
        passes = passes or folder is not None
        return Rewritten(
            "changed", last.directive, path=path, steps=tuple(steps), passes_through=passes, written=written
        )

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
            new = f"{path}?{query.replace(_MARK, '?')}"
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
        for assignment in rule.variables:
            name, _, value = assignment.partition(":")
            if name.startswith("!"):
                exchange.environment.unset(name[1:])
            else:
                exchange.environment.set(name, expanded(value, captured, exchange, self.maps))

    def _cookies(self, rule: Rule, exchange: Exchange, captured: Captured) -> None:
        """Set the cookies of a rule (add_cookie): name, value, domain, minutes, path, secure, httponly and samesite, between
        colons, or between semicolons behind a first one."""
        for text in rule.cookies:
            words = expanded(text, captured, exchange, self.maps)
            separator = ";" if words.startswith(";") else ":"
            name, value, domain, minutes, path, secure, httponly, samesite, *_ = [
                *filter(None, words.split(separator)), *[""] * 8
            ]  # fmt: skip
            if not domain:
                continue
            cookie = f"{name}={value}; path={path or '/'}; domain={domain}"
            cookie += "; expires=…" if (whole_number(minutes) or 0) > 0 else ""
            cookie += "; secure" if secure.lower() in ("1", "true", "secure") else ""
            cookie += "; HttpOnly" if httponly.lower() in ("1", "true", "httponly") else ""
            cookie += f"; SameSite={samesite}" if samesite and samesite.lower() not in ("0", "false") else ""
            exchange.cookies.setdefault(name, (cookie, rule.directive))

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

    @staticmethod
    def _ended(rule: Rule, path: str, steps: tuple[Directive, ...]) -> Rewritten | None:
        """What ends the rules at once: a request that is passed on, or a status that is no redirect's."""
        if rule.has("p"):
            return Rewritten("proxy", rule.directive, proxied=path, steps=steps)
        status = _redirect_status(rule)
        return None if 300 <= status < 400 else Rewritten("status", rule.directive, status, steps=steps)

    @staticmethod
    def _address(rule: Rule, path: str, exchange: Exchange, folder: RuleFolder | None) -> str:
        """The address that a rule redirects to. Without ``[L]`` the rules behind it go on with that address."""
        if _ABSOLUTE.match(path) is None:
            path = path if folder is None else folder.url(path)
            return exchange.absolute(path if path.startswith("/") else "/" + path)
        own = f"{exchange.scheme}://{exchange.own_name}"
        if not rule.has("r") and path.lower().startswith(own.lower() + "/"):
            raise UndeterminedError("the rule names this very server, whose name for itself is known at run time only")
        return path


def _redirect_status(rule: Rule) -> int:
    word = rule.flags.get("r", "")
    return _STATUS_WORDS.get(word.lower()) or (whole_number(word) if len(word) == 3 else None) or 302


def _redirected(
    redirect: Rule, last: Rule, path: str, exchange: Exchange, steps: tuple[Directive, ...], query: str | None
) -> Rewritten:
    """The redirect that rules end with. ``redirect``: the last rule that says one, whose status holds; ``last``: the last one
    that changed the path; ``query``: that of the request, which goes on as it is."""
    if _ABSOLUTE.match(path) is None:
        raise UndeterminedError(
            f"{last.directive} turns the target of the redirect by {redirect.directive} into a path"
        )
    location = path if last.has("ne") else _escaped_target(path)
    if exchange.args:
        location += "?" + (exchange.args if last.has("ne") or exchange.args == query else escaped(exchange.args))
    return Rewritten(
        "redirect", last.directive, _redirect_status(redirect), location, steps=steps, reflects=_reflected(last)
    )


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


def _reflected(rule: Rule) -> str | None:
    """The part of the request that reaches Location as it is, by a rule that escapes nothing."""
    if not rule.has("ne"):
        return None
    found = re.search(r"\$\d|%\d|%\{(?:REQUEST_URI|REQUEST_FILENAME)\}", rule.substitution)
    return found[0] if found else None
