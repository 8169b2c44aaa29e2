"""The way of one request through a server block: rewriting, location, access, files, content, error pages.

Follows the phases of ngx_http_core_module (src/http/ngx_http_core_module.c), ngx_http_rewrite_module and
``ngx_http_special_response_handler``. The same code answers one concrete request and finds out what a location does; it
never guesses: where the way hangs on something that only run time knows, the outcome says so.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from typing import Final

from rupex.model import Provenance, bounds
from rupex.model.budget import PER_REQUEST, spend
from rupex.model.numbers import whole_number
from rupex.servers.common.inventory import Unmodelled, affecting
from rupex.servers.common.patterns import UndeterminedError
from rupex.servers.nginx.access import NO_ACCESS_RULES, Access, AccessReader, client_address, realm_of
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.content import OWN_PAGES, Content, Kind, content_type, own_page
from rupex.servers.nginx.inventory import InventoryReader, comes_before_access, may_come_first
from rupex.servers.nginx.locations import UPSTREAM_DIRECTIVES, AutoRedirect, Location, select_location
from rupex.servers.nginx.rewriting import REDIRECT_STATUSES, REWRITING, Ended, Way, run_rewrites
from rupex.servers.nginx.syntax import Directive
from rupex.servers.nginx.variables import Exchange, escape_path

# Directives that answer by themselves, whatever lies under the document root.
HANDLERS: Final = (*UPSTREAM_DIRECTIVES, "stub_status", "empty_gif", "vhost_traffic_status_display", "api", "status")

LISTS_FOLDERS: Final = ("autoindex", "fancyindex")
"""Directives that list the files of a folder."""

_HANDLERS: Final = frozenset(HANDLERS)
_ANSWERED_BY_DEFAULT: Final = frozenset({"GET", "HEAD"})
_DECIDES: Final = frozenset(("status", "redirect"))
_REFUSES: Final = frozenset(("access",))
_METHODS: Final = frozenset(("methods",))
_FILES: Final = frozenset(("files",))
_TYPE_OF_HANDLER: Final = {"empty_gif": "image/gif", "stub_status": "text/plain"}
_PACKED: Final = (("gzip_static", ".gz"), ("brotli_static", ".br"))
"""Directives with which a file is served from another one that holds it compressed, and how that is called."""


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of a request. ``chain``: the blocks in force at its end, outermost first.

    ``status`` None: the content decides. ``closed``: the connection is closed without an answer (status 444).
    ``by``: the directive that decided, if one did. ``unknown``: why the way could not be followed to its end.
    ``fallback``: the location that takes requests for files that are not there, where nobody knows whether they are.
    ``steps``: what happened on the way.
    ``content_type``: of the answer, where the configuration decides it.
    """

    chain: tuple[Block, ...]
    location: Location | None
    status: int | None = None
    target: str | None = None
    closed: bool = False
    by: Directive | None = None
    body: str | None = None
    unknown: str | None = None
    steps: tuple[tuple[str, Provenance], ...] = ()
    fallback: Location | None = None
    handler: Directive | None = None
    content_type: str | None = None

    @property
    def is_redirect(self) -> bool:
        return self.target is not None


class Processor:
    """One server block, ready to take requests. ``chain``: its blocks, ``http`` first and ``server`` last."""

    def __init__(
        self,
        chain: tuple[Block, ...],
        locations: list[Location],
        content: Content,
        access: AccessReader,
        inventory: InventoryReader,
    ) -> None:
        self.chain, self.locations, self.content = chain, locations, content
        self.access, self.inventory = access, inventory
        self.rewrites = not REWRITING.isdisjoint(chain[-1].by_name)
        self.named = {location.pattern: location for location in locations if location.kind == "named"}

    def answer(self, exchange: Exchange, forced: Location | None = None, *, lenient: bool = False) -> Outcome:
        """Follow ``exchange`` to its end. Changes ``exchange`` as the server would.

        ``forced``: the location that is asked about, whatever the URI would select. ``lenient``: a condition that only
        run time knows and that can do no more than refuse, or send on inside, is taken not to hold.
        """
        way = Way(self.chain)
        exchange.asks_files = not lenient  # a sample's path is made up: that no such file is there means nothing
        try:
            spend(PER_REQUEST)
            exchange.link = _secure_link(self.chain)
            return self._run(exchange, way, forced, lenient)
        except UndeterminedError as undetermined:
            return Outcome(way.chain, way.location, unknown=undetermined.why, steps=tuple(way.steps))

    def error_answer(self, exchange: Exchange, location: Location | None, status: int) -> Outcome:
        """What a request gets that ends in ``location`` with the error ``status``."""
        way = Way(self.chain if location is None else location.chain, location)
        try:
            return self._ended(Way(way.chain, location), exchange, status, None, None)
        except UndeterminedError as undetermined:
            return Outcome(way.chain, location, unknown=undetermined.why)

    def _run(self, exchange: Exchange, way: Way, forced: Location | None, lenient: bool) -> Outcome:
        exchange.is_off_location = False
        self._stop_at_unknown_words(self.chain)
        if self.rewrites and (forced is None or forced.kind != "named"):
            final = run_rewrites(self.chain[-1], exchange, way, self.content, lenient=lenient)
            if isinstance(final, Ended):
                return self._final(way, exchange, final)
        while exchange.uri_changes:
            exchange.changed = False
            if forced is not None:
                way.location, forced = forced, None
            else:
                spend(1 + len(self.locations))
                try:
                    way.location, _ = select_location(exchange, self.locations) if self.locations else (None, False)
                except AutoRedirect as redirect:
                    way.location, way.chain = redirect.location, redirect.location.chain
                    place = redirect.location.block.provenance()
                    way.tell("only the last slash is missing, so the request is sent there", place)
                    target = escape_path(redirect.location.pattern) + (f"?{exchange.args}" if exchange.args else "")
                    return self._ended(way, exchange, 301, target, redirect.location.block.directive)
            location = way.location
            way.chain = self.chain if location is None else location.chain
            if location is not None:
                exchange.link = _secure_link(location.chain)
                self._stop_at_unknown_words(way.chain)
                if location.is_internal and location.kind != "named" and not exchange.is_internal:
                    place = location.block.provenance()
                    way.tell("this location is internal, so clients get 404", place)
                    return self._ended(way, exchange, 404, None, location.block.last("internal"))
                limits = next(location.block.blocks("limit_except"), None)
                if limits is not None and exchange.method not in _named_methods(limits.args):
                    # The limiting block takes the location's place, and it has no rewrite directives.
                    way.chain = (*location.chain, limits)
                    way.tell(
                        "this limits the methods, and the location's rewrite directives do not run", limits.provenance()
                    )
                elif not REWRITING.isdisjoint(location.block.by_name):
                    result = run_rewrites(location.block, exchange, way, self.content, lenient=lenient)
                    if isinstance(result, Ended):
                        return self._final(way, exchange, result)
                    if exchange.changed and result != "break":
                        exchange.uri_changes -= 1
                        continue
            return self._content(exchange, way, lenient)
        way.tell(f"the URI was rewritten more than {bounds.REWRITE_CYCLES} times", way.chain[-1].provenance())
        return Outcome(way.chain, way.location, status=500, steps=tuple(way.steps))

    def _stop_at_unknown_words(self, chain: tuple[Block, ...]) -> None:
        """Raises ``UndeterminedError`` where a directive is in force that may decide before anything else does."""
        for one in self.inventory.of(chain):
            if may_come_first(one):
                raise UndeterminedError(str(one))

    # Ends

    def _final(self, way: Way, exchange: Exchange, final: Ended) -> Outcome:
        if final.status == 444:
            return Outcome(way.chain, way.location, closed=True, by=final.by, steps=tuple(way.steps))
        if final.body is not None:  # a text of its own: no error page takes its place
            status = final.status if way.error is None else way.error
            kind = content_type(exchange.uri, way.chain)
            return Outcome(
                way.chain, way.location, status, by=final.by, body=final.body, steps=tuple(way.steps), content_type=kind
            )
        return self._ended(way, exchange, final.status, final.target, final.by)

    def _ended(self, way: Way, exchange: Exchange, status: int, target: str | None, by: Directive | None) -> Outcome:
        """The request ends with ``status``, unless an ``error_page`` takes it elsewhere."""
        if status >= 300:
            page = _error_page(way.chain, status)
            if page is not None and not way.in_error_page:
                return self._error_page(way, exchange, status, page, by)
        if target is not None and target.startswith("/"):
            target = _absolute(target, way.chain, exchange)
        shown = status if status >= 300 or way.error is None else way.error
        kind = own_page(status) if status >= 400 or status in REDIRECT_STATUSES else None
        if 300 <= status < 400 and kind is None:
            kind = content_type(exchange.uri, way.chain)  # it is content like any other
        return Outcome(way.chain, way.location, shown, target, by=by, steps=tuple(way.steps), content_type=kind)

    def _error_page(self, way: Way, exchange: Exchange, status: int, page: Directive, by: Directive | None) -> Outcome:
        answer = next((word for word in page.args[:-1] if word.startswith("=")), None)
        uri = exchange.fill(page.args[-1])
        way.tell(f"{page}: for status {status}", page.provenance())
        way.in_error_page = not _is_on(way.chain, "recursive_error_pages", False)
        if not uri.startswith(("/", "@")):
            code = whole_number(answer[1:]) if answer else None
            code = code if code in REDIRECT_STATUSES else 302
            return Outcome(way.chain, way.location, code, uri, by=page, steps=tuple(way.steps), content_type=OWN_PAGES)
        way.error = status if answer is None else whole_number(answer[1:])
        if uri.startswith("@"):
            named = self.named.get(uri)
            if named is None:
                return Outcome(way.chain, way.location, status=500, by=page, steps=tuple(way.steps))
            inner = self._inside(exchange, way, named)
        else:
            path, _, args = uri.partition("?")  # the request's own arguments are gone
            if exchange.method not in _ANSWERED_BY_DEFAULT:
                exchange.method = "GET"
            inner = self._inside(exchange, way, None, path, args)
        if inner.status is None and way.error is not None:
            inner = replace(inner, status=way.error)
        return replace(inner, by=inner.by or by or page)

    def _inside(
        self, exchange: Exchange, way: Way, forced: Location | None, uri: str | None = None, args: str | None = None
    ) -> Outcome:
        """An internal redirect: the request starts again, at its named location or at ``uri`` with ``args``.

        The redirect that is one too many does not take place: ``$uri`` stays as it was.
        """
        exchange.uri_changes -= 1
        if not exchange.uri_changes:
            way.tell("internal redirects go round in a circle", way.chain[-1].provenance())
            if _error_page(way.chain, 500) is not None:
                raise UndeterminedError("internal redirects go round in a circle, and end at the error page for 500")
            return Outcome(way.chain, way.location, status=500, steps=tuple(way.steps))
        exchange.uri = exchange.uri if uri is None else uri
        exchange.args = exchange.args if args is None else args
        exchange.is_internal, way.chain, way.location = True, self.chain, None
        return self._run(exchange, way, forced, lenient=False)

    # Access and content

    def _content(self, exchange: Exchange, way: Way, lenient: bool) -> Outcome:
        exchange.root = exchange.filename = None
        others = self.inventory.of(way.chain)
        for one in others:
            if comes_before_access(one):
                raise UndeterminedError(str(one))
        exchange.source = client_address(way.chain, exchange)
        if exchange.source != exchange.peer:
            way.tell(f"{exchange.peer} may name its client: {exchange.source}", way.chain[-1].provenance())
        access: Access = self.access.of(way.chain)
        refused, why = access.refusal(exchange) if access is not NO_ACCESS_RULES else (None, None)
        if others and (access.any or refused is None):
            self._stop_at_unmodelled(others, exchange, way, lenient)
        if refused is not None and refused[0] is not None:
            realm = realm_of(access, exchange) if refused[0] == 401 else None
            if realm is not None:
                exchange.challenges.append(realm)
            return self._ended(way, exchange, refused[0], None, refused[1])
        if why is not None and not lenient:
            raise UndeterminedError(why)
        admitting = access.admitting(exchange)
        if admitting is not None:
            way.tell(f"{admitting} lets {exchange.source} in", admitting.provenance())
        asking = access.asked_of(exchange)
        if asking is not None:
            way.tell(f"{asking} asks for a password, and {exchange.account} has one", asking.provenance())
        try_files = way.chain[-1].last("try_files")
        if try_files is not None and len(try_files.args) >= 2:
            outcome = self._try_files(exchange, way, try_files)
            if outcome is not None:
                return outcome
        handler = _handler(way.chain)
        if handler is not None:
            status = None if handler.name in UPSTREAM_DIRECTIVES else way.error or 200
            kind = _TYPE_OF_HANDLER.get(handler.name)
            return Outcome(way.chain, way.location, status, handler=handler, steps=tuple(way.steps), content_type=kind)
        return self._static(exchange, way)

    def _stop_at_unmodelled(self, others: tuple[Unmodelled, ...], exchange: Exchange, way: Way, lenient: bool) -> None:
        """Raises ``UndeterminedError`` where one of ``others`` may decide what happens after the rewrite directives."""
        effects = _DECIDES if lenient else _DECIDES | _REFUSES
        if exchange.method not in (*_ANSWERED_BY_DEFAULT, "POST"):
            effects |= _METHODS
        for one in affecting(others, effects):
            raise UndeterminedError(str(one))
        for block in way.chain:
            for setting in block.all("auth_request_set"):
                exchange.lose(setting)

    def _try_files(self, exchange: Exchange, way: Way, try_files: Directive) -> Outcome | None:
        """The outcome where none of the files is there; None where one is, and then it is the URI."""
        if way.chain[-1].args[:1] in (("~",), ("~*",)) and way.chain[-1].last("alias") is not None:
            raise UndeterminedError("try_files beside an alias in a location that is a pattern")  # can end in 500
        root = self.content.root_of(way.chain, exchange)
        exchange.root, exchange.filename = root, self.content.path_of(exchange.uri, way.chain, exchange)
        last = try_files.args[-1]
        for word in try_files.args[:-1]:
            wants_folder = word.endswith("/")  # as written: a URI that ends in a slash is no question for a folder
            path = exchange.fill(word)[: -1 if wants_folder else None]
            kind = self._kind(self.content.path_of(path, way.chain, exchange), root, exchange)
            if kind is None:
                if self._cannot_be(word):
                    continue
                return Outcome(
                    way.chain, way.location, steps=tuple(way.steps), fallback=self._fallback(last, exchange, way)
                )
            if kind == ("folder" if wants_folder else "file"):
                way.tell(f"{word} is there: {path}", try_files.provenance())
                exchange.uri = path
                return None
        way.tell(f"none of these files is there, so it goes on to {last}", try_files.provenance())
        if last.startswith("="):
            code = whole_number(last[1:])
            return self._ended(way, exchange, 500 if code is None else code, None, try_files)
        if last.startswith("@"):
            named = self.named.get(last)
            if named is None:
                return Outcome(way.chain, way.location, status=500, by=try_files, steps=tuple(way.steps))
            return self._inside(exchange, way, named)
        path, _, args = exchange.fill(last).partition("?")
        return self._inside(exchange, way, None, path, args)

    @staticmethod
    def _cannot_be(word: str) -> bool:
        """A file that is named only so that it is not there: a way to write "always go on"."""
        return "$" not in word and re.search(r"non-?exist|does-?not|\.unknown|/dev/null", word) is not None

    def _fallback(self, last: str, exchange: Exchange, way: Way) -> Location | None:
        if last.startswith("@"):
            return self.named.get(last)
        if last.startswith("/"):
            inner = replace(exchange, uri=last.partition("?")[0])
            try:
                found, _ = select_location(inner, self.locations)
            except (AutoRedirect, UndeterminedError):
                return None
            return found if found is not way.location else None
        return None

    def _kind(self, path: str, root: str, exchange: Exchange) -> Kind | None:
        """What lies at ``path``; None where nobody knows, or it does not matter."""
        if not exchange.asks_files:
            return None
        spend(1 + path.count("/"))
        return self.content.kind(path, root)

    def _static(self, exchange: Exchange, way: Way) -> Outcome:
        """The index, autoindex and static modules."""
        if exchange.method not in (*_ANSWERED_BY_DEFAULT, "POST"):
            return self._ended(way, exchange, 405, None, None)
        if exchange.is_off_location and self.content.is_alias(way.chain):
            way.tell("an alias cannot be used where the URI was rewritten", way.chain[-1].provenance())
            return self._ended(way, exchange, 500, None, None)
        root = self.content.root_of(way.chain, exchange)
        path = self.content.path_of(exchange.uri, way.chain, exchange)
        kind = self._kind(path, root, exchange)
        done = Outcome(way.chain, way.location, steps=tuple(way.steps))
        if kind is None:
            return done
        for one in affecting(self.inventory.of(way.chain), _FILES):
            raise UndeterminedError(str(one))
        if kind == "missing":
            self._stop_at_packed(path, root, exchange, way)
        if exchange.uri.endswith("/"):
            index = next((b.last("index") for b in reversed(way.chain) if b.last("index") is not None), None)
            for name in index.args if index is not None else ("index.html",):
                page = exchange.fill(name)
                if page.startswith("/"):
                    return self._inside(exchange, way, None, page)
                if self._kind(f"{path}{page}", root, exchange) == "file":
                    return self._inside(exchange, way, None, exchange.uri + page)
            lists = any(_is_on(way.chain, name, False) for name in LISTS_FOLDERS)
            shown = exchange.method in _ANSWERED_BY_DEFAULT and lists
            if kind == "folder" and shown:
                is_page = find(way.chain, "autoindex_format") is None
                return replace(done, status=way.error or 200, content_type=OWN_PAGES if is_page else None)
            return self._ended(way, exchange, 403 if kind == "folder" else 404, None, None)
        if kind == "folder":
            target = escape_path(exchange.uri) + "/" + (f"?{exchange.args}" if exchange.args else "")
            return self._ended(way, exchange, 301, target, None)
        if kind == "missing":
            return self._ended(way, exchange, 404, None, None)
        if exchange.method not in _ANSWERED_BY_DEFAULT:
            return self._ended(way, exchange, 405, None, None)
        return replace(done, status=way.error or 200, content_type=content_type(exchange.uri, way.chain))

    def _stop_at_packed(self, path: str, root: str, exchange: Exchange, way: Way) -> None:
        """Raises ``UndeterminedError`` where a file that is not there may be served from one that holds it compressed."""
        for name, ending in _PACKED:
            directive = find(way.chain, name)
            if directive is None or directive.args[:1] == ("off",):
                continue
            if self._kind(f"{path}{ending}", root, exchange) == "file":
                raise UndeterminedError(
                    f"{directive} ({directive.provenance()}): clients that take it get {path}{ending}"
                )


def _handler(chain: tuple[Block, ...]) -> Directive | None:
    """The directive that makes the content; an ``if`` block takes over that of its location."""
    for block in reversed(chain):
        for name in () if _HANDLERS.isdisjoint(block.by_name) else HANDLERS:
            found = block.last(name)
            if found is not None:
                return found
        if block.name not in ("if", "limit_except"):
            return None
    return None


def _named_methods(args: tuple[str, ...]) -> set[str]:
    """The methods of a ``limit_except``; GET stands for HEAD too."""
    return set(args) | ({"HEAD"} if "GET" in args else set())


def _error_page(chain: tuple[Block, ...], status: int) -> Directive | None:
    """The ``error_page`` in force for ``status``: of the innermost block that has any."""
    for block in reversed(chain):
        pages = list(block.all("error_page")) if "error_page" in block.by_name else ()
        if pages:
            return next((page for page in pages if str(status) in page.args[:-1]), None)
    return None


def find(chain: tuple[Block, ...], name: str) -> Directive | None:
    """The directive ``name`` in force in the innermost block of ``chain``: its own, or the nearest above."""
    for block in reversed(chain):
        found = block.last(name) if name in block.by_name else None
        if found is not None:
            return found
    return None


def _secure_link(chain: tuple[Block, ...]) -> tuple[str, str] | None:
    """What ``secure_link`` and ``secure_link_md5`` say, empty texts where one is not there; None for the older form."""
    if find(chain, "secure_link_secret") is not None:
        return None
    said, hashed = find(chain, "secure_link"), find(chain, "secure_link_md5")
    if said is None or hashed is None or not said.args or not hashed.args:
        return "", ""
    return said.args[0], hashed.args[0]


def _is_on(chain: tuple[Block, ...], name: str, default: bool) -> bool:
    found = find(chain, name)
    return default if found is None or not found.args else found.args[0] == "on"


def _absolute(path: str, chain: tuple[Block, ...], exchange: Exchange) -> str:
    """A relative redirect as it is sent (ngx_http_header_filter)."""
    if not _is_on(chain, "absolute_redirect", True):
        return path
    named = _is_on(chain, "server_name_in_redirect", False)
    host = exchange.server_name if named else exchange.host
    default_port = 443 if exchange.scheme == "https" else 80
    shown = _is_on(chain, "port_in_redirect", True) and exchange.port not in (None, default_port)
    return f"{exchange.scheme}://{host}{f':{exchange.port}' if shown else ''}{path}"
