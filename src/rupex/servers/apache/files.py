"""What httpd makes of a request that ends at a file or folder: mod_dir's index pages and redirects, listings, programs, and the
handler of files.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from itertools import takewhile
from typing import Final, Literal, Protocol

from rupex.host import HostTree, TreeError
from rupex.host.tree.paths import normalize_path
from rupex.masking.quoting import quoted
from rupex.model import bounds
from rupex.model.budget import PER_REQUEST, spend
from rupex.model.numbers import whole_number
from rupex.servers.apache.environment import set_in_fixups
from rupex.servers.apache.exchange import Exchange, escaped
from rupex.servers.apache.load import all_of
from rupex.servers.apache.mapping import Mapped, Mapper
from rupex.servers.apache.outcome import Outcome
from rupex.servers.apache.sections import Context, WalkEndedError, last_in, options
from rupex.servers.apache.syntax import Directive
from rupex.servers.apache.types import ContentTypes
from rupex.servers.common.patterns import UndeterminedError

OF_FILES: Final = ("GET", "HEAD", "POST")
"""The methods with which a file can be asked for."""
_INDEX_REDIRECTS: Final = {"on": 302, "temp": 302, "permanent": 301, "seeother": 303}
MOST_INNER: Final = 10
"""Requests of the server's own in each other (httpd's manual, LimitInternalRecursion)."""


class SectionsOf(Protocol):
    """Finds the sections that hold for a request which is mapped to ``file``, or to ``index`` in that folder."""

    def __call__(self, exchange: Exchange, file: str | None, index: str = "") -> Context: ...


class Files:
    """Answers requests for files of one virtual host. ``ask`` follows a request that the server makes itself; ``sections_of``
    finds what holds for it."""

    def __init__(
        self,
        modules: Mapping[str, Directive | None],
        tree: HostTree,
        mapper: Mapper,
        ask: Callable[[Exchange], Outcome],
        sections_of: SectionsOf,
        types: ContentTypes,
        at: Callable[[Exchange, Mapped], Outcome],
    ) -> None:
        self._modules, self._tree, self._mapper = modules, tree, mapper
        self._ask, self._sections_of, self._types, self._at = ask, sections_of, types, at

    def is_there(self, path: str, kind: Literal["file", "folder", "any"]) -> bool | None:
        """Whether a file or folder is there; None where the tree does not hold the folder that it is served from."""
        found = self.kind(path)
        return None if found is None else found != "missing" if kind == "any" else found == kind

    def served(self, exchange: Exchange, context: Context, file: str, *, has_handler: bool = False) -> Outcome:
        """What the default handler makes of a file or folder, where the tree has its folder."""
        kind = self.kind(file)
        if kind is None:
            if exchange.method not in (*OF_FILES, "OPTIONS"):
                return Outcome(context=context, status=405, by_server=True, file=file)
            return Outcome(context=context, file=file, is_folder=exchange.uri.endswith("/"))
        if kind == "folder":
            slash = last_in(context, "directoryslash")
            if not exchange.uri.endswith("/"):
                if slash is not None and slash.word == "off":
                    return self._listing(exchange, context, file)
                target = exchange.absolute(escaped(exchange.uri) + "/" + (f"?{exchange.args}" if exchange.args else ""))
                return Outcome(context=context, status=301, location=target, by_server=True, file=file, is_folder=True)
            return self._folder(exchange, context, file)
        is_file = kind == "file" and not file.endswith("/")
        if not is_file and exchange.walk is not None and self.kind(exchange.walk.file) == "file":
            accepts = last_in(context, "acceptpathinfo")  # what follows a file's name is path information
            is_file = accepts is not None and accepts.word == "on"
        elif not is_file and not has_handler:
            fallback = self._fallback(exchange, context, file)
            if fallback is not None:
                return fallback
        return Outcome(context=context, status=200 if is_file else 404, by_server=not is_file, file=file)

    def variant(self, exchange: Exchange, context: Context) -> Outcome | None:
        """What MultiViews finds for a file that is not there: one that has its name and an ending more, which the server knows
        the type of and lets this client have (mod_negotiation.c, handle_multi). None for none; raises
        :class:`UndeterminedError` where there are several, among which what the client likes decides."""
        if "negotiation" not in self._modules or exchange.walk is None or "MultiViews" not in options(context):
            return None
        walked = exchange.walk.file
        folder, _, name = walked.rpartition("/")
        if not name or self.kind(walked) != "missing":
            return None
        path_info = exchange.file.removeprefix(walked)
        above = exchange.uri.removesuffix(path_info).rpartition("/")[0]
        found: list[Outcome] = []
        try:
            names = self._tree.names_in(self._tree.real(normalize_path(folder)))
        except TreeError as error:
            raise UndeterminedError(f"what MultiViews finds is not known: {error.path}: {error.message}") from None
        like = [one for one in names if one.startswith(f"{name}.") and self.kind(f"{folder}/{one}") == "file"]
        for other in like:
            spend(PER_REQUEST)
            described = self._types.described(context, f"{folder}/{other}")
            if any(self._types.means_nothing(context, ending) for ending in other[len(name) + 1 :].split(".")):
                continue
            if other.count(".") != name.count(".") + 1 or not described.is_certain:
                raise UndeterminedError(f"MultiViews chooses among the files whose names begin with {quoted(walked)}")
            if described.type is not None:
                found += self._offered(exchange, context, f"{above}/{other}", f"{folder}/{other}")
            if len(found) > 1:
                raise UndeterminedError(f"MultiViews chooses among the files whose names begin with {quoted(walked)}")
        if not found:
            is_lost = bool(like)  # none of those that there are will do
            return Outcome(context=context, status=404, by_server=True, is_early=True) if is_lost else None
        if path_info:
            raise UndeterminedError(
                f"what follows {quoted(walked)}, which MultiViews completes, may be path information"
            )
        return found[0]

    def _offered(self, exchange: Exchange, context: Context, uri: str, file: str) -> list[Outcome]:
        """What is answered for a file that MultiViews may choose; nothing for one that is refused or leads elsewhere."""
        inner = replace(
            exchange, method="GET", uri=uri, raw_path="", file="", inner=exchange.inner + 1, let_in_under=context,
            environment=exchange.environment.copy(),
        )  # fmt: skip
        inner.file = file
        try:
            # Without the server's rules and redirects (ap_sub_req_lookup_dirent).
            outcome = self._at(inner, Mapped(file))
        except WalkEndedError:
            return []
        if (
            outcome.unknown is not None
            or outcome.handler is not None
            or outcome.is_script
            or outcome.leads_to is not None
        ):
            raise UndeterminedError(outcome.unknown or f"what MultiViews finds in {quoted(file)} is no plain file")
        if outcome.status != 200 or outcome.file != file:
            return []
        outcome.exchange = replace(inner, method=exchange.method, inner=exchange.inner)
        set_in_fixups(outcome.context, outcome.exchange, self._modules)
        outcome.variant = file.rpartition("/")[2]
        return [outcome]

    def _fallback(self, exchange: Exchange, context: Context, file: str) -> Outcome | None:
        """The page that stands for what is not there (mod_dir, fixup_dflt), None for none."""
        directive = last_in(context, "fallbackresource")
        if directive is None or not directive.args or directive.args[0].lower() == "disabled":
            return None
        found = self._own_page(exchange, context, file, directive.args[0])
        if found is not None and found.location is not None:
            # Measured on 2.4.71: which of the two hangs on what else is loaded and written, to the last Header line.
            raise UndeterminedError(f"{directive} leads to a redirect, which httpd sends, or answers with 500")
        if found is not None:
            found.by, found.is_folder = found.by or directive, False
            exchange.found_uri = exchange.page_uri
        return found

    def _folder(self, exchange: Exchange, context: Context, file: str) -> Outcome:
        refused: Outcome | None = None
        for name in self._index_names(context):
            found = self._own_page(exchange, context, file, name)
            if found is not None and found.status is not None and found.status < 400:
                return self._to_index(found, exchange, context, name) or found
            refused = found or refused
        if refused is not None:
            return refused
        return self._listing(exchange, context, file)

    def _to_index(self, found: Outcome, exchange: Exchange, context: Context, name: str) -> Outcome | None:
        """A redirect to the page of a folder, where DirectoryIndexRedirect wants one."""
        directive = last_in(context, "directoryindexredirect")
        word = directive.word if directive is not None else "off"
        status = _INDEX_REDIRECTS.get(word) or (whole_number(word) if len(word) == 3 else None)
        if directive is None or found.status != 200 or status is None:
            return None
        path = name if name.startswith("/") else exchange.uri + name
        if exchange.page_uri:
            path = exchange.page_uri  # what the server's rules made of it
        location = exchange.absolute(escaped(path))
        return Outcome(
            context=context,
            status=status,
            location=location,
            by=directive,
            by_server=True,
            file=found.file,
            is_folder=True,
        )

    def _index_names(self, context: Context) -> tuple[str, ...]:
        """The pages that may stand for a folder: those of the last section that names any, all of its lines together."""
        names: tuple[str, ...] = ("index.html",) if "dir" in self._modules else ()
        for applied in context:
            own: list[str] | None = None
            for directive in all_of(applied.directives, "directoryindex"):
                words = list(takewhile(bool, directive.args))  # an empty word ends the list (ap_getword_conf)
                is_off = [word.lower() for word in words] == ["disabled"]
                own = [] if is_off else [*(own or ()), *words]
            if own is not None:
                names = tuple(own)
        return names

    def _listing(self, exchange: Exchange, context: Context, file: str) -> Outcome:
        """A folder without a page: its listing, or a refusal; mod_autoindex has nothing to do with POST."""
        may_list = "autoindex" in self._modules and exchange.method in ("GET", "HEAD")
        is_listed = "Indexes" in options(context) and may_list
        status = 200 if is_listed else 403 if may_list else 404
        return Outcome(
            context=context,
            status=status,
            by_server=not is_listed,
            file=file,
            is_folder=True,
            is_listing=True,
            by=last_in(context, "options"),
        )

    def _own_page(self, exchange: Exchange, context: Context, file: str, name: str) -> Outcome | None:
        """What a page answers for a folder, or for what is not there, None where there is no such page: it is asked for by a
        request of the server's own, which meets rules, redirects and access like any other (mod_dir). ``name``: in the
        folder, or from the root."""
        if exchange.inner >= MOST_INNER:
            return Outcome(context=context, status=500, by_server=True, file=file, is_folder=True)
        exchange.own_requests.append(name)
        if len(exchange.own_requests) > bounds.OWN_REQUESTS:
            raise UndeterminedError("it asks itself for too many pages")
        set_in_fixups(context, exchange, self._modules)  # mod_dir looks for pages as the last one of this phase
        inner = replace(
            exchange,
            method="GET",  # whatever the client's is (ap_sub_req_lookup_uri)
            uri=name if name.startswith("/") else exchange.uri + name,
            raw_path="",
            file="",
            inner=exchange.inner + 1,
            let_in_under=context,
            environment=exchange.environment.copy(),
        )
        outcome = self._ask(inner)
        exchange.page_uri = inner.found_uri
        if outcome.unknown is not None:
            return Outcome(context=context, unknown=outcome.unknown, file=file, is_folder=True)
        if outcome.leads_to is not None:
            # It is asked for only when the page would be served, and then by the request itself.
            if self.kind(outcome.file or "") not in ("file", None):
                return None
            again = self._ask(
                replace(outcome.leads_to, inner=exchange.inner, is_past_rules=exchange.is_past_rules)
            )  # fmt: skip
            again.steps = (*outcome.steps, *again.steps)
            return again
        own = f"{file.rstrip('/')}/{name}"
        answering = replace(inner, method=exchange.method)
        if outcome.status == 200 and outcome.file is not None:
            if outcome.file == own:
                before = replace(inner, headers=exchange.headers, uncertain_headers=exchange.uncertain_headers)
                holds = self._sections_of(before, file, name)
                return Outcome(
                    context=holds, status=200, file=file, is_folder=True, by=outcome.by, exchange=answering,
                    is_script=outcome.is_script,
                )  # fmt: skip
            return Outcome(
                context=outcome.context, status=200, file=outcome.file, is_folder=True, by=outcome.by,
                exchange=answering, is_script=outcome.is_script,
            )  # fmt: skip
        if outcome.location is not None or (outcome.status is not None and outcome.status not in (200, 404)):
            return Outcome(
                context=context, status=outcome.status, location=outcome.location, by=outcome.by, by_server=True, file=file,
                is_folder=True, login=outcome.login,
            )  # fmt: skip
        return None

    def kind(self, file: str) -> Literal["file", "folder", "missing"] | None:
        """What is at ``file``, None where the tree does not hold the folder that it is served from."""
        if not self._mapper.has(file):
            return None
        try:
            entry = self._tree.entry(self._tree.real(file))
        except TreeError:
            return None
        return "missing" if entry is None else "folder" if entry.is_folder else "file"


def run_script(answered: Outcome, mapped: Mapped, handler: Directive | None) -> Outcome:
    """What becomes of a file that is a program (mod_cgid.c, cgid_handler). ``answered``: what would be of it as a file."""
    if answered.is_listing or not (mapped.is_script or "ExecCGI" in options(answered.context)):
        answered.status, answered.by_server = 403, True
    elif answered.status != 404:
        by = mapped.by if mapped.is_script else handler
        return Outcome(context=answered.context, by=by, handler="cgi-script", file=answered.file)
    return answered
