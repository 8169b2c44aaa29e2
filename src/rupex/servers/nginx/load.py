"""Reading a whole nginx configuration: the main file and what it includes, as one tree of blocks."""

from __future__ import annotations

import re
from typing import Final

from rupex.host import HostTree, TreeError
from rupex.host.tree.paths import inside
from rupex.model import Problem, ProblemKind, Provenance, bounds
from rupex.model.budget import PER_INCLUSION, allow_for, spend
from rupex.servers.nginx.alike import AlikeFile, Kinds
from rupex.servers.nginx.block import Block
from rupex.servers.nginx.syntax import Directive, parse

DATA_BLOCKS: Final = frozenset({"map", "geo", "types", "split_clients", "charset_map", "match"})
"""Blocks whose entries are data, not directives."""

_HARMLESS_INCLUDE: Final = frozenset(
    {"mime.types", "fastcgi_params", "fastcgi.conf", "uwsgi_params", "scgi_params", "proxy_params"}
)
"""Files that come with nginx's packages and hold content types, or what upstreams are told, and nothing else."""
_GLOB = re.compile(r"[*?\[]")  # strpbrk(file.data, "*?[") in ngx_conf_include


class LoadedConfig:
    """A configuration as read: the ``main`` block, the ``files`` (path to the directives that include it), their ``texts``,
    and the ``problems`` met."""

    def __init__(self, main_path: str) -> None:
        self.main_path = main_path
        self.folder = main_path.rpartition("/")[0]
        self.main = Block(None, [])
        self.files: dict[str, list[Provenance]] = {}
        self.texts: dict[str, str] = {}
        self.problems: list[Problem] = []

    def path(self, name: str) -> str:
        """A file name of the configuration as a path in the tree: a relative one starts at the main file's folder."""
        return inside(name if name.startswith("/") else f"{self.folder}/{name}")


def load(tree: HostTree, main_path: str) -> LoadedConfig:
    """Read the configuration that starts at ``main_path``. What cannot be read becomes a problem."""
    config = LoadedConfig(main_path)
    config.main = Block(None, _Loader(tree, config).read_main())
    return config


class _Loader:
    def __init__(self, tree: HostTree, config: LoadedConfig) -> None:
        self.tree, self.config = tree, config
        self.kinds = Kinds()
        self.included: list[tuple[str, Directive]] = []
        self.expanded: dict[tuple[str, bool], list[Directive | Block]] = {}
        self.inclusions = self.directives = self.bytes = self.depth = 0
        self.full = False

    def read_main(self) -> list[Directive | Block]:
        return self._file(self.config.main_path, None, (), data=False)

    def _problem(self, kind: ProblemKind, file: str | None, line: int | None, message: str, *, hides: bool) -> None:
        problems = self.config.problems
        if len(problems) < bounds.PROBLEMS:
            problems.append(Problem(kind, file, line, message, hides))

    def _at(self, include: Directive | None) -> tuple[str | None, int | None]:
        """The place to blame: the include, or for the main file the file itself."""
        if include is None:
            return self.config.main_path, None
        return include.source.path, include.source.position(include.start)[0]

    def _file(
        self, path: str, include: Directive | None, above: tuple[str, ...], *, data: bool
    ) -> list[Directive | Block]:
        """The directives of one file, its own includes in place."""
        named_by = self.config.files.setdefault(path, [])
        if include is not None:
            named_by.append(include.provenance())
            self.included.append((path, include))
        if (path, data) in self.expanded:
            found = self.expanded[path, data]
            self._count(len(found), path)
            return [] if self.full else found
        file, line = self._at(include)
        if path in above:
            self._problem("loop", file, line, f"{path} includes itself", hides=False)
            return []
        if len(above) >= bounds.INCLUDE_DEPTH:
            self._problem("bound", file, line, f"more than {bounds.INCLUDE_DEPTH} files include each other", hides=True)
            return []
        hides = not data and path.rpartition("/")[2] not in _HARMLESS_INCLUDE
        text = self._read(path, include, hides=hides)
        alike = None if text is None or data else self.kinds.find(path, text)
        if text is None:
            found = []
        elif alike is not None:
            found = self._again(path, alike)
        else:
            found = self._parse(path, text, above, data=data, hides=hides)
        self.expanded[path, data] = found
        return found

    def _read(self, path: str, include: Directive | None, *, hides: bool) -> str | None:
        file, line = self._at(include)
        try:
            content = self.tree.read(path)
        except TreeError as error:
            self._problem(error.kind, file, line, f"{path}: {error.message}", hides=hides)
            return None
        self.bytes += len(content)
        if self.bytes > bounds.CONFIG_TOTAL_BYTES:
            self._full(path, f"more than {bounds.CONFIG_TOTAL_BYTES} bytes of configuration are not read")
            return None
        try:
            text = content.decode()
        except UnicodeDecodeError as error:
            text = content.decode("utf-8", "replace")
            where = content.count(b"\n", 0, error.start) + 1
            self._problem("encoding", path, where, "not UTF-8; the odd bytes were replaced", hides=False)
        if path not in self.config.texts:
            allow_for(len(text))
        self.config.texts[path] = text
        return text

    def _parse(
        self, path: str, text: str, above: tuple[str, ...], *, data: bool, hides: bool
    ) -> list[Directive | Block]:
        parsed = parse(path, text)
        if parsed.problem is not None:
            kind: ProblemKind = "bound" if parsed.problem.bound else "syntax"
            message = f"{parsed.problem.message}; what follows in this file was not read"
            self._problem(kind, path, parsed.problem.line, message, hides=hides)
        included, problems = len(self.included), len(self.config.problems)
        found = self._expand(parsed.directives, (*above, path), data=data)
        is_whole = not any(problem.kind in ("loop", "bound") for problem in self.config.problems[problems:])
        if parsed.problem is None and is_whole and not self.full and not data:
            self.kinds.add(parsed, found, self.included[included:])
        return found

    def _again(self, path: str, alike: AlikeFile) -> list[Directive | Block]:
        """What a file holds that is like another one, which was read before."""
        kind = alike.kind
        for included, place in kind.includes:
            self.config.files[included].append(alike.likeness.place(place))
        self.inclusions += len(kind.includes)
        self._count(kind.size, path)
        return [] if self.full else alike.children

    def _expand(self, directives: list[Directive], above: tuple[str, ...], *, data: bool) -> list[Directive | Block]:
        self._count(len(directives), above[-1])
        if self.depth >= bounds.DEPTH:
            self._problem("bound", above[-1], None, "blocks and files are too deep in each other", hides=True)
            return []
        self.depth += 1
        result: list[Directive | Block] = []
        for directive in directives:
            if self.full:
                break
            if directive.children is not None:
                inner = data or directive.name in DATA_BLOCKS
                result.append(Block(directive, self._expand(directive.children, above, data=inner)))
            elif directive.name == "include" and len(directive.args) == 1:
                result += self._include(directive, above, data=data)
            else:
                result.append(directive)
        self.depth -= 1
        return result

    def _include(self, include: Directive, above: tuple[str, ...], *, data: bool) -> list[Directive | Block]:
        path = self.config.path(include.args[0])
        if _GLOB.search(include.args[0]) is None:
            paths = [path]
        else:
            try:
                paths = self.tree.glob(path)
            except TreeError as error:
                self._problem(error.kind, *self._at(include), f"{error.path}: {error.message}", hides=not data)
                return []
        found: list[Directive | Block] = []
        for path in paths:
            self.inclusions += 1
            spend(PER_INCLUSION)
            if self.inclusions > bounds.INCLUDED_FILES:
                self._full(path, f"more than {bounds.INCLUDED_FILES} inclusions are not read")
                break
            found += self._file(path, include, above, data=data)
        return found

    def _count(self, directives: int, path: str) -> None:
        self.directives += directives
        if self.directives > bounds.DIRECTIVES:
            self._full(path, f"more than {bounds.DIRECTIVES} directives are not read")

    def _full(self, path: str, message: str) -> None:
        if not self.full:
            self.full = True
            self._problem("bound", path, None, message, hides=True)
