"""The scopes of a virtual host: what its paths answer, one after the other."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Iterator, Mapping
from functools import cached_property
from typing import Final, Literal, NamedTuple

from msgspec import structs

from rupex.host import HostTree
from rupex.host.tree.paths import normalize_path
from rupex.model import (
    Condition,
    Dropped,
    Header,
    Listing,
    Provenance,
    Redirect,
    RedirectSample,
    Refusal,
    Scope,
    Setting,
    Upstream,
    default_of,
    unknown,
)
from rupex.model.budget import PER_SCOPE, spend
from rupex.servers.apache.access import closed
from rupex.servers.apache.connections import verification
from rupex.servers.apache.exchange import Exchange
from rupex.servers.apache.expiry import expiry_headers
from rupex.servers.apache.headers import Action, Sent, components, headers_of, read_action, server_header, signature
from rupex.servers.apache.hosts import Listener, VirtualHost, is_wildcard
from rupex.servers.apache.inventory import unmodelled
from rupex.servers.apache.load import LoadedConfig, Skipped, all_of, sections_of
from rupex.servers.apache.mapping import Mapper
from rupex.servers.apache.outcome import Outcome, error_page
from rupex.servers.apache.process import Processor
from rupex.servers.apache.release import Release, default, is_debian_build
from rupex.servers.apache.sections import Context, SectionReader, all_in, is_pattern, last_in, options
from rupex.servers.apache.syntax import Directive
from rupex.servers.apache.tls import speaks_tls, tls_host
from rupex.servers.apache.types import ContentTypes
from rupex.servers.apache.upstream import UpstreamReader
from rupex.servers.common.clients import NONE
from rupex.servers.common.document_roots import DocumentRoots, exposed
from rupex.servers.common.patterns import UndeterminedError, search
from rupex.servers.common.samples import ANY_NAME, SAMPLE_QUERY, SAMPLE_TAIL
from rupex.servers.common.scopes import Part, Reply, redirect_samples, scope_of
from rupex.tls.openssl import Library

_STATUS_PAGES: Final[Mapping[str, Literal["status", "admin"]]] = {
    "server-status": "status", "server-info": "status", "ldap-status": "status", "balancer-manager": "admin",
}  # fmt: skip
_OVERRIDES: Final = ("allowoverride", "allowoverridelist")
_ONLY_HANDLERS: Final = (
    "it goes with answers of a handler only, and every answer here is the server's own; write Header always"
)


class Place(NamedTuple):
    """A part of a virtual host with an answer of its own: a path, or a pattern for paths. ``sample``: a path in it, or None and
    why there is none in ``unseen``."""

    match: Literal["any", "prefix", "regex", "folder"]
    path: str
    sample: str | None
    directive: Directive | None
    unseen: str = "no path could be made up that the pattern takes"


class Places:
    """Places of one virtual host, each path once: the first that is added counts. ``found``: by kind and path."""

    def __init__(self) -> None:
        self.found: dict[tuple[str, str], Place] = {}

    def add_prefix(self, path: str, directive: Directive) -> None:
        if path.startswith("/") and path not in ("/", "") and not any(mark in path for mark in "*?["):
            sample = path + SAMPLE_TAIL if path.endswith("/") else path
            self.found.setdefault(("prefix", path), Place("prefix", path, sample, directive))

    def add_pattern(self, text: str, directive: Directive) -> None:
        self.found.setdefault(("regex", text), Place("regex", text, _sample_of(text), directive))

    def add_folder(self, path: str) -> None:
        """A folder with an override file; ``path``: its URL path, without the slash at its end."""
        self.found.setdefault(("prefix", path + "/"), Place("folder", path + "/", f"{path}/{SAMPLE_TAIL}", None))


class ScopeReader:
    """Reads the scopes of virtual hosts, each at one of its listeners."""

    def __init__(self, config: LoadedConfig, release: Release, library: Library, tree: HostTree, sites: int) -> None:
        self.config, self.release, self.tree = config, release, tree
        self._is_debian = is_debian_build(tree)
        self._components = components(config.modules, library)
        self._upstreams = UpstreamReader(config, release)
        self.roots = DocumentRoots(tree, sites)
        self.types = ContentTypes(config, tree)
        self._processors: dict[int, Processor] = {}
        self._asked: tuple[Listener, VirtualHost, tuple[bool, str]] | None = None

    def processor(self, virtual: VirtualHost) -> Processor:
        found = self._processors.get(id(virtual))
        if found is None:
            mapper = Mapper(self.config, virtual, self.tree)
            sections = SectionReader(self.config, virtual, self.tree, self.config.problems, mapper.folders)
            found = self._processors[id(virtual)] = Processor(
                self.config, virtual, self.tree, sections, mapper, self.types
            )
        return found

    def exchange(
        self, listener: Listener, virtual: VirtualHost, name: str | None, path: str, *, method: str = "GET"
    ) -> Exchange:
        """A sample request for a name of a virtual host."""
        host = _concrete(name)
        port = listener.port
        is_tls, word = self._asked_of_clients(listener, virtual)
        return Exchange(
            method=method, scheme="https" if is_tls else "http", host=host, port=port, uri=path,
            args=SAMPLE_QUERY, sent=f"{path}?{SAMPLE_QUERY}", server_name=virtual.server_name,
            is_made_up=name is None or is_wildcard(name), asks_clients=word, is_sample=True,
            client=(NONE, None) if word == "none" else None,
        )  # fmt: skip

    def _asked_of_clients(self, listener: Listener, virtual: VirtualHost) -> tuple[bool, str]:
        """Whether a listener speaks TLS, and what its handshake asks of clients (the word of SSLVerifyClient); that of the last
        virtual host is kept, of which many samples are asked."""
        if self._asked is None or self._asked[0] is not listener or self._asked[1] is not virtual:
            is_tls = speaks_tls(self.config, listener)
            line = tls_host(self.config, listener, virtual).last("sslverifyclient") if is_tls else None
            word = verification(line)
            self._asked = listener, virtual, (is_tls, word)
        return self._asked[2]

    def of(self, listener: Listener, virtual: VirtualHost) -> Iterator[Scope]:
        names: tuple[str | None, ...] = virtual.names or (None,)
        processor = self.processor(virtual)
        root = Place("any", "/", "/" + SAMPLE_TAIL, None)
        by_answer: dict[tuple[object, ...], list[str | None]] = {}
        for name in names:
            outcome = processor.answer_client(self.exchange(listener, virtual, name, root.sample or "/"), lenient=True)
            decides = outcome.by is not None and outcome.location is not None
            by_answer.setdefault((id(outcome.by), outcome.status) if decides else (None,), []).append(name)
        order = 0
        for group in by_answer.values():
            only = tuple(name for name in group if name is not None) if len(by_answer) > 1 else None
            yield self._scope(listener, virtual, root, order, tuple(group), only)
            order += 1
        for place in self._places(processor, self.exchange(listener, virtual, names[0], "/")):
            yield self._scope(listener, virtual, place, order, names, None)
            order += 1
        proxy = self._forward_proxy(listener, virtual, order)
        if proxy is not None:
            yield proxy

    def _places(self, processor: Processor, front: Exchange) -> Iterator[Place]:
        """The parts of a virtual host that configuration speaks of, each path once, the longest last."""
        places = Places()
        for section in processor.sections.paths:
            if section.args:
                is_regex = section.key == "locationmatch" or is_pattern(section)
                (places.add_pattern if is_regex else places.add_prefix)(section.args[-1], section)
        for directive in processor.mapper.aliases:
            if len(directive.args) > 1 and not directive.key.endswith("match"):
                places.add_prefix(directive.args[0], directive)
        for redirect in processor.moves:
            if redirect.fake is not None:
                places.add_prefix(redirect.fake, redirect.directive)
            elif redirect.pattern is not None and not _takes_all(redirect.pattern):
                places.add_pattern(redirect.pattern, redirect.directive)
        for rule in processor.rules if processor.is_rewriting else ():
            if rule.has("r", "p", "f", "g") and not _takes_all(rule.pattern):
                places.add_pattern(rule.pattern, rule.directive)
        for directive in processor.passes:
            if directive.args and directive.key == "proxypass":
                places.add_prefix(directive.args[0], directive)
        self._add_folders(places, processor, front)
        yield from sorted(places.found.values(), key=lambda place: (place.match == "regex", len(place.path)))

    def _add_folders(self, places: Places, processor: Processor, front: Exchange) -> None:
        """The folders below the document root with a section or an override file of their own."""
        try:
            root = processor.mapper.root_of(front).rstrip("/")
        except UndeterminedError:
            return
        if not root:
            return
        for section in processor.sections.folders:
            folder = "/" + section.args[-1].strip("/") if section.args else "/"
            if folder.startswith(root + "/"):
                places.add_prefix(folder[len(root) :] + "/", section)
        below = self.roots.below(root)
        for folder in below.overrides:
            path = "/" + folder[len(normalize_path(root)) :].strip("/")
            if path != "/":
                places.add_folder(path)
        if below.not_seen and _may_be_overridden(processor):
            reason = f"override files below it were not searched: {below.not_seen}"
            places.found["folder", "/…"] = Place("folder", "/…", None, None, reason)

    def _scope(
        self,
        listener: Listener,
        virtual: VirtualHost,
        place: Place,
        order: int,
        names: tuple[str | None, ...],
        only: tuple[str, ...] | None,
    ) -> Scope:
        spend(PER_SCOPE)
        processor = self.processor(virtual)
        provenance = (place.directive or virtual.section or listener.listen.directive).provenance()
        identity = "any" if place.match == "any" else f"{place.match}:{place.path}"
        path = "" if place.match == "any" else place.path
        part = Part(identity, place.match, path, order, provenance, only)
        if place.sample is None:
            return structs.replace(scope_of(part, Reply()), undecided=place.unseen)
        exchange = self.exchange(listener, virtual, names[0], place.sample)
        outcome = processor.answer_client(exchange, lenient=True)
        context = outcome.context
        reply = self._reply(listener, virtual, place, provenance, outcome, names)
        is_own = reply.redirect is not None or reply.refusal is not None
        sent, dropped = self._headers(virtual, outcome, exchange, is_own=is_own)
        serves_files = reply.listing is not None and not part.is_assets
        text, by = signature(context, self.banner(context).value)
        return structs.replace(
            scope_of(part, reply),
            headers=sent,
            dropped=dropped,
            signature=Setting(text, by or default_of(f"httpd {self.release}", "ServerSignature Off")),
            undecided=outcome.unknown,
            errors=self._error_headers(listener, virtual, names[0], outcome),
            closed=closed(context, exchange),
            overrides=self._overrides(context) if outcome.file is not None else None,
            exposes=self._exposes(listener, virtual, processor, names)
            if serves_files and place.match == "any"
            else None,
        )

    def _reply(
        self,
        listener: Listener,
        virtual: VirtualHost,
        place: Place,
        provenance: Provenance,
        outcome: Outcome,
        names: tuple[str | None, ...],
    ) -> Reply:
        status, by, role = outcome.status, outcome.by, self._role(outcome.context)
        if outcome.location is not None and status is not None:
            return Reply(redirect=self._redirect(listener, virtual, place, outcome, names), role=role)
        if outcome.proxied is not None:
            upstream = self._upstreams.of(outcome.proxied, by, outcome.context, virtual)
            return Reply(upstream=upstream, role=role)
        if status == 410 or (by is not None and status is not None and 400 <= status <= 500):
            return Reply(refusal=Refusal(status, provenance if by is None else by.provenance()), role=role)
        is_files = outcome.handler is None and outcome.unknown is None
        return Reply(listing=self._listing(outcome.context) if is_files else None, role=role)

    def headers(self, context: Context, exchange: Exchange, *, is_proxied: bool = False, is_own: bool = False) -> Sent:
        """What ``Header``, mod_expires, cookies of rules and what is not modelled set where ``context`` holds. ``is_own``: in an
        answer that the server makes itself, in which ``Header`` sees nothing of what others set."""
        others = (d for applied in context for d in unmodelled(applied.directives, self.config.unmodelled))
        acting = context if "headers" in self.config.modules else ()
        before = [Header("Set-Cookie", text, "all", rule.provenance()) for text, rule in exchange.cookies.values()]
        if "expires" in self.config.modules:
            before += expiry_headers(context, exchange, is_proxied=is_proxied)
        seen = () if is_own else before
        found = headers_of(acting, exchange, is_proxied=is_proxied, unmodelled=others, before=seen)
        return Sent((*found.sent, *before), found.dropped) if is_own else found

    def banner(self, context: Context) -> Header:
        return server_header(context, str(self.release), self._components, is_debian=self._is_debian)

    def _headers(
        self, virtual: VirtualHost, outcome: Outcome, exchange: Exchange, *, is_own: bool
    ) -> tuple[tuple[Header, ...], tuple[Dropped, ...]]:
        """The headers of a scope's answers, and those that are declared and never go out."""
        is_proxied = outcome.proxied is not None
        kind = self.types.of(outcome, outcome.context, exchange, is_own=True) if is_own else None
        asking = dataclasses.replace(outcome.exchange or exchange, content_type=kind)
        if is_own:
            asking = dataclasses.replace(asking, status=outcome.status)
        sent, dropped = self.headers(outcome.context, asking, is_proxied=is_proxied, is_own=is_own)
        lost = [*dropped, *self.without_effect(virtual, outcome)]
        if is_own:
            status = outcome.status or 0
            lost += [Dropped(h.name, h.value, h.provenance, _ONLY_HANDLERS) for h in sent if not h.is_on(status)]
            sent = tuple(header for header in sent if header.is_on(status))
        return (self.banner(outcome.context), *sent), tuple(lost)

    def without_effect(self, virtual: VirtualHost, outcome: Outcome) -> Iterator[Dropped]:
        """Headers that are written where they do nothing: under a condition that is not met, in an override file that is not
        read, or without the module."""
        sections = (virtual.section, *(applied.section for applied in outcome.context))
        for place in dict.fromkeys((None, *(_place_of(section) for section in sections if section is not None))):
            for action, skipped in self._skipped.get(place, ()):
                yield Dropped(action.name, action.value, skipped.directive.provenance(), skipped.because)
        if outcome.file is not None:
            yield from self._unread_overrides(self.processor(virtual).sections, outcome)

    @cached_property
    def _skipped(self) -> dict[tuple[str, int] | None, list[tuple[Action, Skipped]]]:
        """The headers that stand under conditions which are not met, by the section that they stand in."""
        found: dict[tuple[str, int] | None, list[tuple[Action, Skipped]]] = {}
        for skipped in self.config.skipped:
            action = read_action(skipped.directive) if skipped.directive.key == "header" else None
            if action is not None and action.verb in ("set", "add", "append", "merge", "setifempty"):
                place = _place_of(skipped.within[-1]) if skipped.within else None
                found.setdefault(place, []).append((action, skipped))
        return found

    @staticmethod
    def _unread_overrides(reader: SectionReader, outcome: Outcome) -> Iterator[Dropped]:
        folder = normalize_path(outcome.file or "")
        while folder := folder.rpartition("/")[0]:
            override = reader.override("/" + folder, outcome.context)
            for directive in override.directives if override is not None else ():
                action = read_action(directive) if directive.key == "header" else None
                if override is not None and action is not None and directive not in override.holding:
                    yield Dropped(action.name, action.value, directive.provenance(), override.because)

    def _error_headers(
        self, listener: Listener, virtual: VirtualHost, name: str | None, outcome: Outcome
    ) -> tuple[Header, ...] | None:
        """The headers of a 404 where a page of the site's own answers: that page is a handler's answer, so that both tables
        go out."""
        directive = error_page(outcome.context, 404)
        page = "" if directive is None else directive.args[1]
        if not page.startswith("/"):
            return None
        exchange = self.exchange(listener, virtual, name, page)
        inner = self.processor(virtual).answer(exchange, lenient=True)
        sent, _ = self.headers(inner.context, exchange)
        return (self.banner(inner.context), *(structs.replace(header, on="all") for header in sent))

    def _redirect(
        self, listener: Listener, virtual: VirtualHost, place: Place, outcome: Outcome, names: tuple[str | None, ...]
    ) -> Redirect:
        processor = self.processor(virtual)

        def sample(name: str | None) -> RedirectSample:
            exchange = self.exchange(listener, virtual, name, place.sample or "/")
            url = exchange.url
            answer = outcome if name == names[0] else processor.answer_client(exchange, lenient=True)
            return RedirectSample(url, answer.location, name)

        by = outcome.by
        samples, unnamed = redirect_samples(names, sample, is_default=listener.default is virtual)
        return Redirect(
            outcome.status or 302,
            "" if by is None else _declared_target(by),
            Provenance("default") if by is None else by.provenance(),
            samples,
            unnamed,
            outcome.reflects,
        )

    @staticmethod
    def _role(context: Context) -> Literal["status", "admin"] | None:
        """What kind of page a handler makes where ``context`` holds, whoever is let in."""
        handler = last_in(context, "sethandler")
        return _STATUS_PAGES.get(handler.args[0].lower()) if handler is not None and handler.args else None

    def _overrides(self, context: Context) -> Setting[Literal["off", "limited", "open"]]:
        """How far override files count where ``context`` holds."""
        allowed, listed = last_in(context, "allowoverride"), last_in(context, "allowoverridelist")
        default_setting = default("AllowOverride", self.release)
        words = allowed.word.split() if allowed is not None else [str(default_setting.value).lower()]
        place = allowed.provenance() if allowed is not None else default_setting.provenance
        if words != ["none"]:
            return Setting("open", place)
        names = [] if listed is None else [word for word in listed.args if word.lower() != "none"]
        return Setting("limited" if names else "off", listed.provenance() if names and listed is not None else place)

    def _listing(self, context: Context) -> Listing:
        directives = list(all_in(context, "options"))
        place = (
            directives[-1].provenance() if directives else default_of(f"httpd {self.release}", "Options FollowSymLinks")
        )
        return Listing("Indexes" in options(context) and "autoindex" in self.config.modules, place)

    def _exposes(
        self, listener: Listener, virtual: VirtualHost, processor: Processor, names: tuple[str | None, ...]
    ) -> Setting[tuple[str, ...]]:
        """What is served that should not be; for each name where each has a root of its own."""
        some_names = names if processor.mapper.by_name is not None else names[:1]
        found = [self._exposes_for(listener, virtual, processor, name) for name in some_names]
        served = tuple(dict.fromkeys(path for setting in found for path in setting.value or ()))
        doubtful = next((setting for setting in found if not setting.is_known), None)
        return doubtful if doubtful is not None and not served else Setting(served)

    def _exposes_for(
        self, listener: Listener, virtual: VirtualHost, processor: Processor, name: str | None
    ) -> Setting[tuple[str, ...]]:
        def is_refused(path: str) -> bool:
            outcome = processor.answer(self.exchange(listener, virtual, name, path), lenient=True)
            return (
                outcome.unknown is None
                and outcome.status is not None
                and 300 <= outcome.status < 500
                and outcome.by is not None
            )

        try:
            root = processor.mapper.root_of(self.exchange(listener, virtual, name, "/"))
        except UndeterminedError as undetermined:
            return unknown(undetermined.why)
        if not root:
            return unknown("no document root is set")
        below = self.roots.below(root) if processor.mapper.has(root) else None
        may_refuse = bool(
            processor.sections.files
            or processor.sections.folder_patterns
            or processor.sections.paths
            or processor.rules
        )
        return exposed(
            below,
            is_refused,
            may_refuse or bool(processor.sections.folders) or bool(processor.moves),
        )

    def _forward_proxy(self, listener: Listener, virtual: VirtualHost, order: int) -> Scope | None:
        """The scope of requests for other servers, where the server is a forward proxy."""
        requests = virtual.last("proxyrequests")
        if requests is None or requests.word != "on" or "proxy" not in self.config.modules:
            return None
        sections = [s for block in virtual.chain for s in sections_of(block, "proxy") if s.args[-1:] == ("*",)]
        from rupex.servers.apache.sections import AppliedSection

        context = tuple(AppliedSection("path", s.inner, s) for s in sections)
        exchange = self.exchange(listener, virtual, None, "/")
        return Scope(
            id="proxy:*", match="condition", path="", order=order, provenance=requests.provenance(),
            when=(Condition("other", "the request line names another server"),),
            upstream=Upstream(
                url="*", provenance=requests.provenance(), chosen_by="the request line", unknown="the client chooses it"
            ),
            closed=closed(context, exchange),
        )  # fmt: skip


def _declared_target(by: Directive) -> str:
    """Where a directive that redirects says that it leads, as it is written."""
    if by.key == "rewriterule":
        return by.args[1]
    return by.args[-1] if by.args else ""


def _takes_all(pattern: str) -> bool:
    """Whether a pattern plainly takes every path, so that it is the whole site's."""
    return re.fullmatch(r"\^?/?\??(?:\(?\.\*\)?)?\$?|!.*", pattern) is not None


def _may_be_overridden(processor: Processor) -> bool:
    """Whether override files are read in some folder."""
    directives = (d for section in processor.sections.folders for d in all_of(section.inner, *_OVERRIDES))
    return any(directive.word != "none" for directive in directives)


def _concrete(name: str | None) -> str:
    """A name that a client would ask for: wildcards filled in."""
    if name is None:
        return ANY_NAME
    return name.replace("*", "pier").replace("?", "7")


def _place_of(section: Directive) -> tuple[str, int]:
    return section.path, section.start


def _sample_of(pattern: str) -> str | None:
    """A path that a pattern takes, for patterns that are nearly a path; None for others."""
    text = pattern.removeprefix("^").removesuffix("$")
    text = re.sub(r"\((?:\?:)?([\w.-]+)(?:\|[\w.-]+)*\)", r"\1", text)  # the first of several words
    text = re.sub(r"\((?:\.[*+]|\[\^/\][*+])\)|\.[*+]|\[\^/\][*+]", SAMPLE_TAIL, text)
    text = re.sub(r"\(\\d\+\)|\\d\+", "7", text)
    text = re.sub(r"\\([./-])", r"\1", text).replace("/?", "/")
    if re.search(r"[\\^$*+?()\[\]{}|]", text):
        return None
    candidate = text if text.startswith("/") else f"/{SAMPLE_TAIL}{text}"
    try:
        return candidate if search(pattern, candidate) is not None else None
    except UndeterminedError:
        return None
