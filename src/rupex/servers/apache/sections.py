"""Which sections hold for a request, in the order in which the server merges them (server/request.c): what is written for the
whole server, Directory by length with the override file of each folder, DirectoryMatch, Files, Location, and If.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from fnmatch import translate
from functools import cached_property
from typing import Final, Literal, NamedTuple

from msgspec import Struct

from rupex.host import HostTree, TreeError
from rupex.host.tree.paths import normalize_path
from rupex.masking.quoting import quoted
from rupex.model import Problem, bounds
from rupex.model.budget import spend
from rupex.servers.apache.conditions import CONDITIONS
from rupex.servers.apache.finding import PathIndex
from rupex.servers.apache.hosts import VirtualHost
from rupex.servers.apache.inventory import Known, known, missing_module
from rupex.servers.apache.load import LoadedConfig, all_of, last_of, sections_of
from rupex.servers.apache.syntax import Block, Directive, parse
from rupex.servers.common.patterns import UndeterminedError, search

Kind = Literal["server", "proxy", "folder", "override", "file", "path", "condition"]


class AppliedSection(Struct, frozen=True):
    """One section that holds: what it says, and the ``section`` itself (None for the server's own).

    ``doubt``: why it is not known whether it holds; then nothing but headers stands in it.
    """

    kind: Kind
    directives: Block
    section: Directive | None = None
    doubt: str | None = None


Context = tuple[AppliedSection, ...]


class WalkEndedError(Exception):
    """The way to a file ends with an error, and of its folders nothing holds: an override file has a directive that may not stand
    there (500), or a link may not be followed (403). ``by``: the directive that decides, None for a default."""

    def __init__(self, status: int, by: Directive | None) -> None:
        super().__init__(status, by)
        self.status, self.by = status, by


class Override(Struct, frozen=True):
    """An override file: ``folder`` and ``path`` in the tree, what it says, and which of it the configuration lets hold;
    ``is_broken``: the file is read, and it is no configuration, or ``broken_by`` may not stand in it."""

    folder: str
    path: str
    directives: Block
    holding: Block
    because: str
    is_broken: bool = False
    broken_by: Directive | None = None


def last_in(context: Context, *names: str) -> Directive | None:
    """The directive in force: that of the section merged last."""
    for applied in reversed(context):
        found = last_of(applied.directives, *names)
        if found is not None:
            return found
    return None


def all_in(context: Context, *names: str) -> Iterator[Directive]:
    """The directives of all sections, in the order of merging."""
    for applied in context:
        yield from all_of(applied.directives, *names)


_HEADERS: Final = frozenset(("header", "requestheader"))
_OPTIONS: Final = {
    "indexes": "Indexes", "followsymlinks": "FollowSymLinks", "execcgi": "ExecCGI", "includes": "Includes",
    "multiviews": "MultiViews", "symlinksifownermatch": "SymLinksIfOwnerMatch",
}  # fmt: skip
_ALL_OPTIONS: Final = frozenset(("Indexes", "FollowSymLinks", "ExecCGI", "Includes"))


def options(context: Context) -> frozenset[str]:
    """The Options in force, FollowSymLinks where nothing is said (server/core.c, set_options and merge_core_dir_configs): a
    line without signs replaces, one with them adds and takes away. What one section took away and then named without a sign
    is taken away again by the next section."""
    found, added, removed = {"FollowSymLinks"}, set[str](), set[str]()
    for number, applied in enumerate(context):
        own, own_added, own_removed, is_set = (
            (found, added, removed, False) if number == 0 else (set(), set(), set(), False)
        )
        for directive in all_of(applied.directives, "options"):
            words = directive.args
            if words and not words[0].startswith(("+", "-")):
                own, is_set = set(), True
            for word in words:
                name = word.lstrip("+-").lower()
                meant = set(_ALL_OPTIONS) if name == "all" else {_OPTIONS[name]} if name in _OPTIONS else set()
                if word.startswith("-"):
                    own, own_added, own_removed = own - meant, own_added - meant, own_removed | meant
                elif word.startswith("+"):
                    own, own_added, own_removed = own | meant, own_added | meant, own_removed - meant
                else:
                    own = own | meant
        if number == 0 or is_set:
            found, added, removed = own, own_added, own_removed
        else:
            added, removed = (added - own_removed) | own_added, (removed - own_added) | own_removed
            found = (found - removed) | added
    return frozenset(found)


class DirectoryWalk(NamedTuple):
    """The way to a ``file``, as far as names are there: the folder where it ends, and what its folders ``applied``."""

    file: str
    end: str
    applied: Context


class SectionReader:
    """Assembles contexts for one virtual host. ``served``: the folders that its files lie in."""

    def __init__(
        self,
        config: LoadedConfig,
        virtual: VirtualHost,
        tree: HostTree,
        problems: list[Problem],
        served: tuple[str, ...],
    ) -> None:
        self.config, self.virtual, self.tree, self.problems = config, virtual, tree, problems
        self._served = tuple(map(normalize_path, served))
        self.base: Context = tuple(AppliedSection("server", directives) for directives in virtual.chain)
        folders = self._written("directory")
        plain = [s for s in folders if not is_pattern(s)]
        self.folders = sorted(plain, key=lambda s: _depth(_folder_of(s)))
        patterns = [
            s for s in self._written("directory", "directorymatch") if s.key == "directorymatch" or is_pattern(s)
        ]
        # By their slashes, whatever they mean there (ap_core_reorder_directories).
        self.folder_patterns = sorted(patterns, key=lambda section: "".join(section.args[-1:]).count("/"))
        self.files = self._written("files", "filesmatch")
        self.paths = self._written("location", "locationmatch")
        self._by_path = PathIndex(self.paths, _start_of, _pattern_of)
        self._by_folder = _by_folder(self.folders)
        self.proxied = self._written("proxy", "proxymatch")
        self.conditions = self._written("if")
        self._overrides: dict[str, Override | None] = {}

    def _written(self, *names: str) -> list[Directive]:
        """The sections that stand in the virtual host itself, behind those of the main server; the server does not start with
        one that says nothing of what it is meant for."""
        return [s for block in self.virtual.chain for s in sections_of(block, *names) if s.args]

    def meant_by(self, path: str) -> list[Directive]:
        """The Location sections that hold for a URL path, in order. Raises
        :class:`~rupex.servers.common.patterns.UndeterminedError`."""
        return [section for section in self._by_path.candidates(path) if matches_path(section, path)]

    def _folders_called(self, folder: str) -> list[Directive]:
        """The Directory sections for one folder, in the order of merging."""
        plain, wild = self._by_folder
        spend(1 + len(wild))
        places = plain.get(folder, [])
        if wild:
            places = sorted([*places, *(place for place in wild if _is_folder(self.folders[place], folder))])
        return [self.folders[place] for place in places]

    def walk(self, file: str, before: DirectoryWalk | None = None) -> DirectoryWalk:
        """The way to ``file`` (with a leading slash). ``before``: the way that a request went to which this one answers: it is
        not gone again to what is there and ends in the same folder (the cache of ap_directory_walk). Raises
        :class:`~rupex.servers.common.patterns.UndeterminedError`."""
        names = file.count("/")
        spend(1 + names * names)  # each of them is looked up from the root
        walked = self._walked(file)
        end = walked.rstrip("/") if self.tree.is_folder(normalize_path(walked)) else walked.rpartition("/")[0]
        if before is not None and before.end == end and self._is_there(file):
            return DirectoryWalk(walked, end, before.applied)
        return DirectoryWalk(walked, end, tuple(self._folders(walked, is_whole=walked == file)))

    def of(
        self,
        path: str,
        walk: DirectoryWalk | None,
        holds: Callable[[Directive], bool],
        index: str = "",
        url: str | None = None,
    ) -> Context:
        """What holds for the URL ``path`` that is mapped to a file by ``walk`` (None: to no file), or passed on to ``url``.
        ``holds`` decides If sections; ``index``: the page that stands for a folder. Raises
        :class:`~rupex.servers.common.patterns.UndeterminedError`."""
        found = list(self.base)
        if url is not None:
            found += [AppliedSection("proxy", s.inner, s) for s in self.proxied if _is_for_url(s, url)]
        if walk is not None:
            found += walk.applied
            name = index or walk.file.rpartition("/")[2]
            nested = [s for a in found for s in sections_of(a.directives, "files", "filesmatch")]
            found += [AppliedSection("file", s.inner, s) for s in nested if self._is_file(s, name)]
        found += [AppliedSection("path", s.inner, s) for s in self.meant_by(path)]
        self._add_conditions(found, found, holds)
        return tuple(found)

    def _add_conditions(
        self, within: list[AppliedSection], found: list[AppliedSection], holds: Callable[[Directive], bool]
    ) -> None:
        """Add the If sections that stand in ``within`` and hold; behind all of them those that stand in these (ap_if_walk)."""
        conditions = [s for a in within for s in sections_of(a.directives, "if", "elseif", "else")]
        if not conditions:
            return
        start = len(found)
        decided, doubt = False, None
        for section in conditions:
            if section.key == "if":
                decided, doubt = False, None
            try:
                met = not decided and (section.key == "else" or holds(section))
            except UndeterminedError as undetermined:
                met, doubt = False, undetermined.why
            if doubt is not None and not decided:
                if not set(section.inner.names()) <= _HEADERS:
                    raise UndeterminedError(doubt)
                found.append(AppliedSection("condition", section.inner, section, doubt))
            elif met:
                found.append(AppliedSection("condition", section.inner, section))
            decided = decided or met
        self._add_conditions(found[start:], found, holds)

    def _folders(self, file: str, *, is_whole: bool) -> Iterator[AppliedSection]:
        """The Directory sections on the way to ``file``, each folder's override file behind its own. A section may be meant
        for the file itself, and patterns see the whole path; what is not there is met by no section but those."""
        parts = file.strip("/").split("/") if file.strip("/") else []
        steps = ["/", *("/" + "/".join(parts[:end]) for end in range(1, len(parts) + 1))]
        if self._has_root(file) and parts and not self._is_there(file):
            steps.pop()
        so_far: list[AppliedSection] = list(self.base)
        for step in steps:
            # Where links may be followed and nothing follows behind the file, it is looked up like a folder; else each name is
            # asked for, and a file ends it.
            is_file = step == file and self.tree.is_file(normalize_path(file))
            followed = options(tuple(so_far)) if step != "/" else frozenset(("FollowSymLinks",))
            if "FollowSymLinks" not in followed and self._is_link(step):
                if "SymLinksIfOwnerMatch" in followed:
                    raise UndeterminedError(
                        f"whether the link {quoted(step)} and what it leads to have one owner is not known"
                    )
                raise WalkEndedError(403, last_in(tuple(so_far), "options"))
            if is_file and not (is_whole and "FollowSymLinks" in followed):
                break
            here = [AppliedSection("folder", s.inner, s) for s in self._folders_called(step)]
            so_far += here
            yield from here
            override = self.override(step, tuple(so_far))
            if override is not None and override.is_broken:
                raise WalkEndedError(500, override.broken_by)
            if override is not None and override.holding:
                applied = AppliedSection("override", override.holding)
                so_far.append(applied)
                yield applied
        whole = file if not self.tree.is_folder(normalize_path(file)) or file.endswith("/") else f"{file}/"
        for section in self.folder_patterns:
            if search(section.args[-1], whole):
                yield AppliedSection("folder", section.inner, section)

    def _is_link(self, path: str) -> bool:
        folder, _, name = path.rpartition("/")
        try:
            return self.tree.link_target(f"{self.tree.real(folder)}/{name}".lstrip("/")) is not None
        except TreeError:
            return False

    def _walked(self, file: str) -> str:
        """``file`` up to the first name that is a file or is not there: what follows is path information."""
        has_root = self._has_root(file)
        parts = file.split("/")
        for end in range(has_root + 2, len(parts)) if has_root else ():
            step = "/".join(parts[:end])
            if self.tree.is_file(normalize_path(step)) or not self._is_there(step):
                return step
        return file

    def _is_there(self, file: str) -> bool:
        return self.tree.is_folder(normalize_path(file)) or self.tree.is_file(normalize_path(file))

    def _has_root(self, file: str) -> int:
        """How many names of ``file`` make a served folder that the tree holds, so that what is missing below is missing;
        0 for none."""
        whole = normalize_path(file) + "/"
        if not whole.startswith(self._held):
            return 0
        return next(path for path in self._held if whole.startswith(path)).count("/")

    @cached_property
    def _held(self) -> tuple[str, ...]:
        """The served folders that the tree holds, each with a slash."""
        return tuple(f"{path}/" for path in self._served if path and self.tree.is_folder(path))

    def override(self, folder: str, context: Context) -> Override | None:
        """The override file of ``folder``, None where there is none in the tree."""
        key = normalize_path(folder)
        if key not in self._overrides:
            self._overrides[key] = self._read_override(key, context)
        return self._overrides[key]

    def why_idle(self, path: str, line: int) -> str | None:
        """Why a line of an override file is not read or does not hold; None where it does, or the file is none."""
        folder = "/" + path.rpartition("/")[0]
        if not self._has_root(folder):
            return None
        try:
            context = (*self.base, *self._folders(folder, is_whole=True))
        except (UndeterminedError, WalkEndedError):
            context = self.base
        override = self.override(folder, context)
        if override is None or override.path != path:
            return None
        found = next((directive for directive in override.directives if is_at(directive, path, line)), None)
        return override.because if found is not None and found not in override.holding else None

    def _read_override(self, folder: str, context: Context) -> Override | None:
        named = last_in(context, "accessfilename")
        for name in named.args if named is not None else (".htaccess",):
            path = f"{folder}/{name}" if folder else name
            if not self.tree.is_file(path):
                continue
            try:
                text = self.tree.read(path, bounds.CONFIG_FILE_BYTES).decode("utf-8", "replace")
            except TreeError as error:
                self._report(Problem(error.kind, path, None, error.message, True))
                return None
            parsed = parse(path, text)
            directives = self._under_conditions(parsed.directives)
            rules = OverrideRules(context, self.config.modules)
            holding = Block(d for d in directives if rules.verdict(d) == "holds")
            # A condition that does not hold is a line too, without what stands in it.
            written = (d for d in parsed.directives if rules.verdict(d, looks_inside=False) == "breaks")
            broken = next(written, None) or next((d for d in directives if rules.verdict(d) == "breaks"), None)
            is_broken = broken is not None
            if parsed.problem is not None and rules.is_read:
                is_broken = True
                words = f"{parsed.problem.message}; every request for this folder ends with a 500"
                self._report(Problem("syntax", path, parsed.problem.line, words, False))
            return Override(folder, path, directives, holding, rules.because, is_broken, broken)
        return None

    def _report(self, problem: Problem) -> None:
        """Put down what is wrong with an override file, once for all virtual hosts."""
        if problem not in self.problems:
            self.problems.append(problem)

    def _under_conditions(self, directives: Block) -> Block:
        """An override file's directives without its sections that hold or not from the start."""
        found = Block()
        for directive in directives:
            if directive.children is None or directive.key not in CONDITIONS:
                found.append(directive)
            elif self.config.conditions is None or self.config.conditions.why_not(directive) is None:
                found += self._under_conditions(directive.children)
        return found

    @staticmethod
    def _is_file(section: Directive, name: str) -> bool:
        pattern = section.args[-1] if section.args else ""
        if section.key == "filesmatch" or is_pattern(section):
            return search(pattern, name) is not None
        return re.match(translate(pattern), name) is not None


def is_at(directive: Directive, path: str, line: int) -> bool:
    """Whether a directive, or one inside it, stands in a line of a file."""
    place = directive.provenance()
    return (place.file, place.line) == (path, line) or any(is_at(one, path, line) for one in directive.children or ())


class OverrideRules:
    """Which directives of an override file hold where ``context`` does (AllowOverride, AllowOverrideList). ``because``: words
    for those that do not."""

    def __init__(self, context: Context, modules: Mapping[str, Directive | None]) -> None:
        allowed, listed = last_in(context, "allowoverride"), last_in(context, "allowoverridelist")
        words = [word.lower() for word in allowed.args] if allowed is not None else ["none"]
        self._modules = modules if any(modules.values()) else None  # else what is loaded was not seen
        self._names = {word.lower() for word in listed.args} if listed is not None else set()
        self._nonfatal = {word.partition("=")[2] for word in words if word.startswith("nonfatal=")}
        self._options = next((w.partition("=")[2].split(",") for w in words if w.startswith("options=")), None)
        self._groups = {word.partition("=")[0] for word in words} - {"none", "nonfatal"}
        # Where nothing is said of override files at all they are read, and nothing may stand in them.
        self.is_read = bool(self._groups or self._names or allowed is None)
        self.because = "nothing says AllowOverride, so that override files are read, and no directive may stand in them"
        if allowed is not None:
            words_of_line = f"AllowOverride {' '.join(allowed.args)} ({allowed.provenance()})"
            self.because = f"override files are not read for it: {words_of_line}"

    def verdict(self, directive: Directive, *, looks_inside: bool = True) -> Literal["holds", "ignored", "breaks"]:
        """``breaks``: every request for the folder ends with a 500. ``looks_inside``: at what stands in a section, too."""
        if not self.is_read:
            return "ignored"
        found = known(directive.key)
        if self._modules is not None and missing_module(directive.key, self._modules) is not None:
            return "ignored" if self._nonfatal & {"unknown", "all"} else "breaks"
        if directive.key == "options" and self._options is not None:
            given = {word.lstrip("+-").lower() for word in directive.args}
            return "holds" if given <= set(self._options) else "breaks"  # whatever Nonfatal says
        if directive.key not in self._names and not self._accepts(found):
            return "ignored" if self._nonfatal & {"override", "all"} else "breaks"
        inside = [self.verdict(child) for child in directive.children or ()] if looks_inside else []
        return "breaks" if "breaks" in inside else "holds"

    def _accepts(self, found: Known | None) -> bool:
        if found is None:  # it is a module's that is not known here
            return bool(self._groups)
        if "all" in self._groups:
            return bool(found.override)
        return bool(found.override & (self._groups | ({"any"} if self._groups else set())))


def is_pattern(section: Directive) -> bool:
    """``<Directory ~ "…">`` and its like: the argument is a pattern."""
    return len(section.args) > 1 and section.args[0] == "~"


def _folder_of(section: Directive) -> str:
    return "/" + section.args[-1].strip("/") if section.args else "/"


def _by_folder(sections: list[Directive]) -> tuple[dict[str, list[int]], list[int]]:
    """The places of ``sections`` by the folder that each names, and of those that name folders by wildcards."""
    plain: dict[str, list[int]] = {}
    wild: list[int] = []
    for place, section in enumerate(sections):
        folder = _folder_of(section)
        if any(mark in folder for mark in "*?["):
            wild.append(place)
        else:
            plain.setdefault(folder, []).append(place)
    return plain, wild


def _start_of(section: Directive) -> str | None:
    """What a path begins with that a Location section is for; None where it has a pattern or wildcards."""
    if not section.args or section.key == "locationmatch" or is_pattern(section):
        return None
    return None if any(mark in section.args[-1] for mark in "*?[") else section.args[-1]


def _pattern_of(section: Directive) -> str:
    """The pattern of a Location section; none where it has wildcards."""
    return section.args[-1] if section.args and (section.key == "locationmatch" or is_pattern(section)) else ""


def _depth(folder: str) -> int:
    return folder.strip("/").count("/") + 1 if folder.strip("/") else 0


def _is_folder(section: Directive, folder: str) -> bool:
    folder_of_section = _folder_of(section)
    if any(mark in folder_of_section for mark in "*?["):
        return fits(folder_of_section.strip("/"), folder.strip("/"))
    return folder_of_section == folder


def fits(pattern: str, path: str) -> bool:
    """Whether a pattern of ``*``, ``?`` and ``[…]`` takes a whole path; a slash is met by a slash only (apr_fnmatch with
    APR_FNM_PATHNAME)."""
    parts, names = pattern.split("/"), path.split("/")
    return len(parts) == len(names) and all(map(_fits_name, parts, names))


def _fits_name(pattern: str, name: str) -> bool:
    return re.match(translate(pattern), name) is not None


def matches_path(section: Directive, path: str) -> bool:
    """Whether a Location section holds for a URL path. Raises :class:`~rupex.servers.common.patterns.UndeterminedError`."""
    if not section.args:
        return False
    pattern = section.args[-1]
    if section.key == "locationmatch" or is_pattern(section):
        return search(pattern, path) is not None
    merged = re.sub("//+", "/", path) if "//" in path else path
    if any(mark in pattern for mark in "*?["):
        return fits(pattern, merged)
    return merged.startswith(pattern) and (
        pattern.endswith("/") or merged[len(pattern) : len(pattern) + 1] in ("", "/")
    )


__all__ = [
    "AppliedSection",
    "Context",
    "Override",
    "SectionReader",
    "all_in",
    "is_pattern",
    "last_in",
    "matches_path",
]


def _is_for_url(section: Directive, url: str) -> bool:
    """Whether a Proxy section is meant for a URL that is asked for: by its beginning, or a pattern (proxy_walk)."""
    word = section.args[-1] if section.args else ""
    if section.key == "proxymatch" or section.args[:1] == ("~",):
        return search(word, url) is not None
    if any(mark in word for mark in "*?["):
        return re.match(translate(word), url) is not None
    return url.lower().startswith(word.lower())
