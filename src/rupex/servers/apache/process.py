"""The way of one request through httpd 2.4 (server/request.c, and the modules' hooks in their order): rules of the server,
ProxyPass, redirects, aliases, the document root; then the sections that hold there, access, rules and redirects of sections,
and in the end a handler or the file system.
"""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Final

from rupex.host import HostTree
from rupex.model.budget import PER_REQUEST, ExhaustedError, spend
from rupex.servers.apache.access import refusal
from rupex.servers.apache.environment import (
    EARLY,
    OF_FIXUPS,
    set_by_patterns,
    set_by_sections,
    set_early,
    set_in_fixups,
)
from rupex.servers.apache.exchange import Exchange
from rupex.servers.apache.expanding import RewriteMaps
from rupex.servers.apache.expressions import evaluate
from rupex.servers.apache.files import MOST_INNER, OF_FILES, Files, run_script
from rupex.servers.apache.finding import PathIndex
from rupex.servers.apache.folder_rules import folder_rules
from rupex.servers.apache.headers import change_request
from rupex.servers.apache.hosts import VirtualHost, canonical_name
from rupex.servers.apache.inventory import effects_of, unmodelled
from rupex.servers.apache.load import LoadedConfig, all_of
from rupex.servers.apache.mapping import Mapped, Mapper
from rupex.servers.apache.outcome import Outcome, moved_by_error
from rupex.servers.apache.redirects import (
    AliasRedirect,
    moved,
    moves_of_sections,
    prefix_length,
    read_moves,
    with_groups,
)
from rupex.servers.apache.rewriting import Rewriter, Rewritten, rules_of
from rupex.servers.apache.sections import (
    Context,
    SectionReader,
    WalkEndedError,
    all_in,
    last_in,
    options,
)
from rupex.servers.apache.syntax import Directive
from rupex.servers.apache.types import ContentTypes
from rupex.servers.common.accounts import AccountFiles
from rupex.servers.common.host_names import HostNames
from rupex.servers.common.patterns import UndeterminedError, search

_SLASHES = re.compile("//+")
_SCRIPTS: Final = frozenset(("cgi", "cgid"))


class Processor:
    """Answers requests of one virtual host."""

    def __init__(
        self,
        config: LoadedConfig,
        virtual: VirtualHost,
        tree: HostTree,
        sections: SectionReader,
        mapper: Mapper,
        types: ContentTypes,
    ) -> None:
        self.config, self.virtual, self.tree, self.sections = config, virtual, tree, sections
        self.mapper, self.types, self.document_root = mapper, types, mapper.document_root
        self.files = Files(config.modules, tree, mapper, self.answer, self._context, types, self._at)
        self.accounts, self.host_names = AccountFiles(tree, config.path), HostNames(tree)
        rule_set = rules_of(virtual.chain, is_server=True)
        self.rules = rule_set.rules
        maps = [d for directives in reversed(rule_set.own) for d in all_of(directives, "rewritemap")]
        refuses_marks = config.release >= (2, 4, 60)
        self.rewriter = Rewriter(self.files.is_there, RewriteMaps(maps, tree, config.path), refuses_marks=refuses_marks)
        self.is_rewriting = rule_set.is_on
        modules = list(config.modules)
        before_alias = modules[: modules.index("alias")] if "alias" in modules else modules
        # Redirects of sections act in the same phase as what sets variables late: the order of LoadModule decides.
        self._set_before_redirects = OF_FIXUPS & frozenset(before_alias)
        self._canonical = canonical_name(virtual)
        # What a virtual host says comes before what the main server says (merge_alias_config).
        self.moves = [move for directives in reversed(virtual.chain) for move in read_moves(directives)]
        self.passes = [d for directives in virtual.chain for d in all_of(directives, "proxypass", "proxypassmatch")]
        self._moves = PathIndex(
            self.moves, lambda move: move.fake if move.pattern is None else None, lambda move: move.pattern or ""
        )
        self._passes = PathIndex(
            self.passes,
            lambda said: said.args[0] if said.key == "proxypass" and said.args else None,
            lambda said: said.args[0] if said.key == "proxypassmatch" and said.args else "",
        )

    # The way

    def answer(self, exchange: Exchange, *, lenient: bool = False) -> Outcome:
        """Follow a request. ``lenient``: where a rule hangs on run time, go on as if it did not hold, and say so."""
        try:
            spend(PER_REQUEST)
        except ExhaustedError as exhausted:
            return Outcome(context=self.sections.base, unknown=exhausted.why)
        exchange.document_root, exchange.is_there = self.document_root, self.files.is_there
        exchange.accounts, exchange.host_names = self.accounts, self.host_names
        server = self.sections.base
        exchange.canonical = self._canonical
        if not exchange.is_inner:
            self._set_early(exchange)
        doubt: str | None = None
        steps: tuple[Directive, ...] = ()
        rewrites = bool(self.rules) and not exchange.is_past_rules
        context = server
        try:
            context = self._context(exchange, None) if rewrites else server  # before rules change the query
            rewrites = rewrites and self._are_on(context)
            rewritten = self.rewriter.apply(self.rules, exchange) if rewrites else None
        except UndeterminedError as undetermined:
            if not lenient:
                return Outcome(context=server, unknown=undetermined.why)
            rewritten, doubt = None, undetermined.why
        try:
            if rewritten is not None and rewritten.kind != "none":
                steps = rewritten.steps
                if rewritten.kind not in ("changed", "proxy"):
                    decided = _rewritten(rewritten, context)
                    decided.exchange = exchange
                    return decided
            outcome = self._after_rules(exchange, rewritten, context if rewrites else None)
        except WalkEndedError as ended:
            return Outcome(
                context=server, status=ended.status, by=ended.by, by_server=True, steps=steps, is_early=True,
                exchange=exchange,
            )  # fmt: skip
        except UndeterminedError as undetermined:
            return Outcome(context=server, unknown=undetermined.why, steps=steps)
        if not outcome.is_early:
            set_in_fixups(outcome.context, exchange, self.config.modules)
            change_request(outcome.context, exchange)
            outcome.unknown = outcome.unknown or self._unmodelled(outcome, exchange)
        outcome.exchange = outcome.exchange or exchange
        outcome.steps = (*steps, *outcome.steps)
        outcome.unknown = outcome.unknown or doubt
        return outcome

    def _are_on(self, context: Context) -> bool:
        """Whether the server's rules are switched on: what sections of the path say comes before what the server says."""
        sections = tuple(applied for applied in context if applied.kind != "server")
        switch = last_in(sections, "rewriteengine")
        return self.is_rewriting if switch is None else switch.word == "on"

    def _set_early(self, exchange: Exchange) -> None:
        """Change the headers and set the variables that are changed and set as soon as a request is read, before its path is
        decoded."""
        change_request(self.sections.base, exchange, early=True)
        said = tuple(all_in(self.sections.base, *EARLY))
        if said:
            set_early(said, replace(exchange, uri=exchange.raw_path or exchange.uri))

    def _unmodelled(self, outcome: Outcome, exchange: Exchange) -> str | None:
        """Why an answer is not known, because of a directive in force that Rupex does not model; None for no such one."""
        meant = {"status", "access"}
        if outcome.location is not None:
            meant.add("redirect")
        if exchange.method not in ("GET", "HEAD", "POST"):
            meant.add("methods")
        if outcome.status == 404 and outcome.file is not None:
            meant.add("files")
        for applied in outcome.context:
            for directive in unmodelled(applied.directives, self.config.unmodelled):
                if effects_of(directive) & meant:
                    return f"{directive} ({directive.provenance()}) is not modelled, and may change the answer"
        return None

    def answer_client(self, exchange: Exchange, *, lenient: bool = False) -> Outcome:
        """:meth:`answer` for a request that a client sends: an error whose page has an address of its own is a redirect there,
        whatever the status (http_request.c, ap_die_r)."""
        if "%2f" in exchange.raw_path.lower() and self.virtual.own_word("allowencodedslashes") in (
            "",
            "off",
        ):
            self._set_early(exchange)
            outcome = Outcome(context=self.sections.base, status=404, by_server=True, exchange=exchange)
        else:
            outcome = self.answer(exchange, lenient=lenient)
        return moved_by_error(outcome, outcome.status) if outcome.by_server and outcome.location is None else outcome

    def _after_rules(self, exchange: Exchange, rewritten: Rewritten | None, early: Context | None = None) -> Outcome:
        """``early``: the sections of the path as it was before the rules; what is decided before there is a file has those."""
        if rewritten is not None and rewritten.kind == "proxy":
            return self._passed_on(exchange, rewritten.by, rewritten.proxied or "")
        is_direct = rewritten is not None and rewritten.kind == "changed" and not rewritten.passes_through
        if not is_direct:
            proxied = self._proxied(exchange)
            if proxied is not None:
                return self._passed_on(exchange, *proxied)
            context = early or self._context(exchange, None)
            whole = next((m for m in moves_of_sections(context) if m.fake is None and m.pattern is None), None)
            if whole is not None:  # a Redirect for all of a Location comes before access is looked at
                address = moved(whole, exchange, is_section=True) or ""
                return self._move(whole, address, exchange, context, is_early=True)
            for move in self._moves.candidates(exchange.uri):
                target = moved(move, exchange)
                if target is not None:
                    return self._move(move, target, exchange, context, is_early=True)
        if is_direct and rewritten is not None:
            path = rewritten.path if rewritten.path.startswith("/") else "/" + rewritten.path
            own = path.startswith(self.document_root.rstrip("/") + "/")
            mapped = Mapped(path if own else self.document_root.rstrip("/") + path)
        else:
            mapped = self.mapper.of(exchange)
            if mapped.location is not None:
                return Outcome(context=context, status=302, location=mapped.location, by=mapped.by, by_server=True)
            if self.mapper.by_name is not None:
                exchange.document_root = self.mapper.root_of(exchange)
        mapped = mapped._replace(file=_SLASHES.sub("/", mapped.file))
        exchange.file, exchange.mapped_by = mapped.file, mapped.by
        return self._at(exchange, mapped)

    def _passed_on(self, exchange: Exchange, by: Directive | None, url: str) -> Outcome:
        """What becomes of a request that is meant for another server: Proxy sections stand in place of folders, and access,
        rules and redirects of sections still come first."""
        context = self._context(exchange, None, url=url)
        set_by_sections(context, exchange)
        outcome = refusal(context, exchange, self.config.modules)
        if outcome is None:
            exchange.file = f"proxy:{url}"
            outcome = self._rules_of_sections(exchange, context, exchange.file)
            exchange.file = ""
        outcome = outcome or self._moved_by_sections(exchange, context)
        outcome = outcome or Outcome(context=context, by=by, proxied=url)
        outcome.is_passed_on = True
        return outcome

    def _context(self, exchange: Exchange, file: str | None, index: str = "", url: str | None = None) -> Context:
        """The sections that hold. ``file``: what the request is mapped to; ``url``: what it is passed on to."""
        if file is not None:
            exchange.walk = self.sections.walk(file, exchange.walk)
        walk = None if file is None else exchange.walk
        # If sections are chosen before anybody has logged in (ap_process_request_internal).
        unnamed = replace(exchange, is_asked=False) if exchange.is_asked else exchange
        context = self.sections.of(
            exchange.uri, walk, lambda section: evaluate(_expression(section), unnamed), index, url
        )
        set_by_patterns(context, exchange, file)
        return context

    def _proxied(self, exchange: Exchange) -> tuple[Directive, str] | None:
        """The ProxyPass that takes a request: one in a Location section, else the first of the server whose path fits."""
        for section in reversed(self.sections.meant_by(exchange.uri)):
            directive = next((d for d in all_of(section.inner, "proxypass", "proxypassmatch") if d.args), None)
            if directive is None:
                continue
            is_prefix = section.key == "location" and section.args[0] != "~"
            if directive.key == "proxypass" and not is_prefix and prefix_length(exchange.uri, section.args[-1]) is None:
                break  # it takes the pattern for a path; and what earlier sections say is replaced all the same
            if directive.args[0] == "!":
                return None
            rest = exchange.uri[len(section.args[-1]) :] if is_prefix else ""
            return directive, directive.args[0] + rest
        for directive in self._passes.candidates(exchange.uri):
            words = directive.args
            if len(words) < 2:
                continue
            if directive.key == "proxypassmatch":
                found = search(words[0], exchange.uri)
                if found is not None:
                    return None if words[1] == "!" else (directive, with_groups(words[1], found))
            elif (length := prefix_length(exchange.uri, words[0])) is not None:
                return None if words[1] == "!" else (directive, words[1] + exchange.uri[length:])
        return None

    def _move(
        self, move: AliasRedirect, target: str, exchange: Exchange, context: Context, *, is_early: bool = False
    ) -> Outcome:
        if not 300 <= move.status < 400:
            return Outcome(context=context, status=move.status, by=move.directive, by_server=True, is_early=is_early)
        relative = last_in(context, "redirectrelative")
        if target.startswith("/") and (relative is None or relative.word != "on"):
            target = exchange.absolute(target)
        if exchange.args and "?" not in target:
            target += f"?{exchange.args}"
        return Outcome(
            context=context, status=move.status, location=target, by=move.directive, by_server=True, is_early=is_early
        )

    def _at(self, exchange: Exchange, mapped: Mapped) -> Outcome:
        """What is answered for a request that is mapped to a file."""
        file = mapped.file
        exchange.found_uri = exchange.uri
        if exchange.method == "TRACE":  # it is answered before any section is looked for (ap_send_http_trace)
            context = self.sections.base
            trace = last_in(context, "traceenable")
            is_off = trace is not None and trace.word == "off"
            return Outcome(
                context=context, status=405 if is_off else 200, by=trace, by_server=is_off, file=file, is_early=True
            )
        context = self._context(exchange, file)
        set_by_sections(context, exchange)
        refused = refusal(context, exchange, self.config.modules, is_there=self.files.kind(file) != "missing")
        if refused is not None:
            refused.file = file
            return refused
        chosen = self.files.variant(exchange, context)
        if chosen is not None:
            if folder_rules(chosen.context, file) is not None:
                raise UndeterminedError("what rules of a folder make of a file that MultiViews chose is not known")
            return chosen if chosen.is_early else self._by_method(chosen, exchange)
        decided = self._rules_of_sections(exchange, context, file)
        if decided is not None:
            decided.file = decided.file or file
            return decided
        redirected = self._moved_by_sections(exchange, context)
        if redirected is not None:
            return redirected
        handler = last_in(context, "sethandler")
        if handler is None or not handler.args or handler.args[0].lower() == "none":
            handler = self.types.described(context, file).handler
        name = handler.args[0] if handler is not None else None
        if name is not None and name.startswith("proxy:"):
            return Outcome(context=context, by=handler, proxied=name[6:], file=file)
        if name is not None and name in ("server-status", "server-info", "balancer-manager", "ldap-status"):
            return Outcome(context=context, by=handler, handler=name, file=file, status=200)
        if name is not None and name.startswith("form-lo"):  # login, logout (mod_auth_form)
            raise UndeterminedError(f"{handler}: what is sent decides who is logged in or out")
        has_handler = name is not None or mapped.is_script
        answered = self.files.served(exchange, context, file, has_handler=has_handler)
        if answered.is_listing and name == "default-handler":
            answered.status, answered.by_server = 404, True  # it lists nothing
        is_script = answered.is_script or mapped.is_script or (name is not None and name.lower() == "cgi-script")
        is_of_handler = answered.is_listing or answered.status in (None, 200, 404)
        # A page elsewhere stands for the folder.
        is_other_page = answered.exchange is not None and not answered.is_script
        if is_script and is_of_handler and not (is_other_page or _SCRIPTS.isdisjoint(self.config.modules)):
            answered.is_script = answered.is_script or answered.exchange is None
            return answered if exchange.is_inner else run_script(answered, mapped, handler)
        return self._by_method(answered, exchange)

    @staticmethod
    def _by_method(answered: Outcome, exchange: Exchange) -> Outcome:
        """What the handler of files makes of other methods: it looks at the method before it looks for the file (core.c,
        default_handler)."""
        if exchange.method not in OF_FILES and not exchange.is_inner and answered.status in (200, 404):
            is_asked = exchange.method == "OPTIONS"
            answered.status, answered.by_server = (200, False) if is_asked else (405, True)
        return answered

    def _moved_by_sections(self, exchange: Exchange, context: Context) -> Outcome | None:
        for move in moves_of_sections(context):
            target = moved(move, exchange, is_section=True)
            if target is not None:
                set_in_fixups(context, exchange, self.config.modules, self._set_before_redirects)
                return self._move(move, target, exchange, context, is_early=True)
        return None

    def _rules_of_sections(self, exchange: Exchange, context: Context, file: str) -> Outcome | None:
        """What the rules of sections and override files make of a request."""
        found = None if exchange.is_past_rules else folder_rules(context, file)
        if found is None:
            return None
        place, is_proxied = found.place, file.startswith("proxy:")
        if f"{file}/" == place.path and not found.is_asked_early:
            return None  # the folder is first asked for with a slash
        if not is_proxied and not options(context) & {"FollowSymLinks", "SymLinksIfOwnerMatch"}:
            return Outcome(context=context, status=403, by=last_in(context, "options"), by_server=True, is_early=True)
        if not found.rules:
            return None
        before = exchange.uri
        if exchange.walk is not None and not is_proxied:
            place = place._replace(path_info=file.removeprefix(exchange.walk.file))
        rewritten = self.rewriter.apply(found.rules, exchange, place)
        if rewritten.kind in ("redirect", "status"):
            return _rewritten(rewritten, context)
        redirected = self._moved_by_sections(replace(exchange, uri=before), context)
        if redirected is not None:
            return redirected  # what rules changed is asked for only then
        is_taken = rewritten.kind in ("proxy", "changed")
        if is_taken and not is_proxied and not before.endswith("/") and self.files.kind(file) == "folder":
            redirect = self.files.served(replace(exchange, uri=before), context, file)
            if redirect.location is not None:
                return redirect  # mod_dir looks at the folder before the request is passed on or asked for again
        if rewritten.kind == "proxy":
            return _rewritten(rewritten, context)
        if is_proxied and rewritten.kind == "changed":
            raise UndeterminedError(f"{rewritten.by} changes a request that is passed on")
        if place.base is None:  # a redirect shows the folder on disk; inside, its URL is used
            exchange.uri = _url_of(exchange.uri, exchange.document_root)
        own = place.file(rewritten.written)
        if rewritten.kind == "changed" and not own.startswith("/"):
            return Outcome(context=context, status=400, by=rewritten.by, by_server=True, is_early=True)
        if rewritten.kind != "changed" or own == file.removesuffix(place.path_info):
            exchange.uri = before  # the very same file is not asked for again
            return None
        return self._asked_again(exchange, context, file, rewritten)

    def _asked_again(self, exchange: Exchange, context: Context, file: str, rewritten: Rewritten) -> Outcome:
        """The request that the rules of a folder changed goes through the whole server again, less than ten times."""
        exchange.rewrites += 1
        exchange.raw_path = ""
        set_in_fixups(context, exchange, self.config.modules)
        if exchange.rewrites == MOST_INNER:
            return Outcome(context=context, status=500, steps=rewritten.steps, by_server=True)
        exchange.environment = exchange.environment_behind()
        exchange.file = ""
        if exchange.is_inner:
            return Outcome(context=context, file=file, leads_to=exchange, steps=rewritten.steps)
        again = self.answer(exchange)
        again.steps = (*rewritten.steps, *again.steps)
        return again


def _url_of(file: str, document_root: str) -> str:
    root = document_root.rstrip("/") + "/"
    return "/" + file[len(root) :] if file.startswith(root) else file


def _rewritten(rewritten: Rewritten, context: Context) -> Outcome:
    """What the server's own rules decided. The sections of the path still say which headers go with it."""
    if rewritten.kind == "proxy":
        return Outcome(context=context, by=rewritten.by, proxied=rewritten.proxied, steps=rewritten.steps)
    return Outcome(
        context=context, status=rewritten.status, location=rewritten.location, by=rewritten.by, by_server=True,
        steps=rewritten.steps, reflects=rewritten.reflects, is_early=True,
    )  # fmt: skip


def _expression(section: Directive) -> str:
    words = section.args
    return words[0] if len(words) == 1 else section.raw
