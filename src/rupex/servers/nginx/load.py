"""Reading a whole nginx configuration: the main file and what it includes, as one tree of blocks."""

from __future__ import annotations

import re
from functools import partial
from typing import Final

from rupex.host import HostTree, TreeError
from rupex.model import Problem, ProblemKind, Provenance, bounds
from rupex.model.budget import PER_INCLUSION, allow_for, spend
from rupex.model.templates import MARK
from rupex.servers.common.source import decode
from rupex.servers.common.templates import Templates
from rupex.servers.nginx.block import Block, InstanceBlock
from rupex.servers.nginx.syntax import Directive, parse
from rupex.servers.nginx.template import LANGUAGE, SiteTemplate, is_template

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

    def __init__(self, main_path: str, tree: HostTree) -> None:
        self.main_path, self.tree = main_path, tree
        self.folder = main_path.rpartition("/")[0]
        self.main = Block(None, [])
        self.files: dict[str, list[Provenance]] = {}
        self.texts: dict[str, str] = {}
        self.problems: list[Problem] = []

    def path(self, name: str) -> str:
        """A file name of the configuration as a path in the tree: a relative one starts at the main file's folder."""
        return self.tree.named(name if name.startswith("/") else f"{self.folder}/{name}")


def load(tree: HostTree, main_path: str, *, uses_templates: bool = False) -> LoadedConfig:
    """Read the configuration that starts at ``main_path``. What cannot be read becomes a problem. ``uses_templates``:
    read files that are written from one template once."""
    config = LoadedConfig(main_path, tree)
    config.main = Block(None, _Loader(tree, config, uses_templates=uses_templates).read_main())
    if uses_templates and any(MARK in text for text in config.texts.values()):
        return load(tree, main_path)  # somebody's own words would be taken for stand-ins
    return config


class _Loader:
    def __init__(self, tree: HostTree, config: LoadedConfig, *, uses_templates: bool) -> None:
        self.tree, self.config = tree, config
        self.templates = Templates[SiteTemplate](LANGUAGE, tree) if uses_templates else None
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
        if text is None:
            found = []
        else:
            of_template = None if data else self._of_template(path, text, above)
            found = self._parse(path, text, above, data=data, hides=hides) if of_template is None else of_template
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
        text, odd_line = decode(content)
        if odd_line is not None:
            self._problem("encoding", path, odd_line, "not UTF-8; the odd bytes stand as they are", hides=False)
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
        return self._expand(parsed.directives, (*above, path), data=data)

    def _of_template(self, path: str, text: str, above: tuple[str, ...]) -> list[Directive | Block] | None:
        """What a file holds that is written from a template; None for any other."""
        if self.templates is None:
            return None
        found = self.templates.find(path, text, lambda name, model: self._template(name, model, above))
        if found is None:
            return None
        template, words = found
        for included, place in template.includes:
            self.config.files[included].append(words.put_in(place))
        self.inclusions += len(template.includes)
        self._count(template.size, path)
        if self.full:
            return []
        own: list[Block] = []

        def read(at: int) -> Block:
            if not own:
                again = self._expand(parse(path, text).directives, (*above, path), data=False)
                own.extend(child for child in again if isinstance(child, Block))
            return own[at]

        return [InstanceBlock(server, words, partial(read, at)) for at, server in enumerate(template.servers)]

    def _template(self, name: str, text: str, above: tuple[str, ...]) -> SiteTemplate | None:
        """What a template of this ``text`` holds; None where it cannot be one. Nothing of it counts as read."""
        before = self.inclusions, self.directives, len(self.included), len(self.config.problems)
        parsed = parse(name, text)
        children = [] if parsed.problem is not None else self._expand(parsed.directives, (*above, name), data=False)
        included = self.included[before[2] :]
        for path, _ in included:
            self.config.files[path].pop()
        size = self.directives - before[1]
        is_sound = len(self.config.problems) == before[3] and not self.full
        self.inclusions, self.directives = before[:2]
        del self.included[before[2] :], self.config.problems[before[3] :]
        if not is_sound or not is_template(text, parsed.directives, children):
            return None
        return SiteTemplate(
            [child for child in children if isinstance(child, Block)],
            [(path, include.provenance()) for path, include in included if include.source is parsed.source],
            size,
        )

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
