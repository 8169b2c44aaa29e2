"""Reading a whole httpd configuration: includes, definitions, macros and what holds only under a condition, in the server's
own order. What is read is one tree in which nothing conditional is left.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from functools import partial
from typing import Final

from msgspec import structs

from rupex.host import HostTree, TreeError
from rupex.host.tree.paths import normalize_path
from rupex.masking.quoting import quoted
from rupex.model import Problem, ProblemKind, Provenance, bounds
from rupex.model.budget import PER_INCLUSION, UndeterminedError, allow_for, filled, spend
from rupex.model.templates import MARK
from rupex.servers.apache.conditions import StartConditions
from rupex.servers.apache.inventory import missing_module
from rupex.servers.apache.modules import STATIC, assumed, identifier
from rupex.servers.apache.syntax import Block, Directive, InstanceBlock, ParsedFile, parse
from rupex.servers.apache.template import ACTS_WHILE_READ, LANGUAGE, SiteTemplate, every, is_template
from rupex.servers.common.source import SourceText, decode
from rupex.servers.common.templates import Templates

_VARIABLE = re.compile(r"\$\{([^}\s]{1,256})\}")
_EXPORT = re.compile(
    r"^[ \t]*+(?:export\s+)?([A-Za-z_]\w*)=(.*)$|^[ \t]*+:\s*\$\{([A-Za-z_]\w*):=(.*)\}$", re.MULTILINE
)
_SHELL = re.compile(r"\$\{?([A-Za-z_]\w*)\}?")
_GLOB = re.compile(r"[*?\[]")
_FLAG = re.compile(r"-D\s*(\S+)")
_DEEPEST_FOLDER: Final = 8

ENVIRONMENTS: Final = ("etc/apache2/envvars", "etc/sysconfig/httpd", "etc/sysconfig/apache2")


class Skipped:
    """A directive that does not hold, and why: its condition is not met."""

    __slots__ = ("because", "directive", "within")

    def __init__(self, directive: Directive, because: str, within: tuple[Directive, ...]) -> None:
        self.directive, self.because, self.within = directive, because, within


class LoadedConfig:
    """A configuration as read. ``modules``: loaded ones, by short name, with the line that loads them (None: built in).
    ``skipped``: what stands under conditions that are not met. ``release`` is that of the server."""

    def __init__(self, main_path: str, release: tuple[int, ...]) -> None:
        self.main_path, self.release = main_path, release
        self.main = Block()
        self.files: dict[str, list[Provenance]] = {}
        self.texts: dict[str, str] = {}
        self.problems: list[Problem] = []
        self.modules: dict[str, Directive | None] = dict.fromkeys(sorted(STATIC))
        self.skipped: list[Skipped] = []
        self.used: set[str] = set()
        self.server_root = _default_root(main_path)
        self.environment: dict[str, str] = {}
        self.conditions: StartConditions | None = None
        self.unmodelled: dict[int, tuple[Block, tuple[str, ...]]] = {}
        """What stands in a block, or its template, and is not modelled, by the block's identity."""

    def path(self, name: str) -> str:
        """A file name as a path in the tree: a relative one starts at ServerRoot."""
        return normalize_path(name if name.startswith("/") else f"{self.server_root}/{name}")


def _default_root(main_path: str) -> str:
    folder = main_path.rpartition("/")[0]
    return folder.removesuffix("/conf") if folder.endswith("/conf") else folder


def load(tree: HostTree, main_path: str, release: tuple[int, ...], *, uses_templates: bool = False) -> LoadedConfig:
    """Read the configuration that starts at ``main_path``. What cannot be read becomes a problem. ``uses_templates``:
    read files that are written from one template once."""
    config = LoadedConfig(main_path, release)
    reader = _Reader(tree, config, uses_templates=uses_templates)
    reader.read_environment()
    config.main = reader.file(main_path, None, ())
    if uses_templates and any(MARK in text for text in config.texts.values()):
        return load(tree, main_path, release)  # somebody's own words would be taken for stand-ins
    reader.tell_undefined()
    if not any(config.modules.values()):
        config.modules |= dict.fromkeys(sorted(assumed(config.used)))
        words = (
            "no LoadModule line is seen: Rupex takes the modules that Debian enables and those of the directives in use as"
            " loaded; add the files that load modules"
        )
        config.problems.append(Problem("missing", main_path, None, words, False))
    for directive, module in _without_module(config):
        words = f"{directive.name} needs the module {module}, which is not loaded: the server would not start"
        config.problems.append(Problem("missing", directive.path, directive.line, words, False))
    return config


def _without_module(config: LoadedConfig) -> Iterator[tuple[Directive, str]]:
    """The first directive of each module that is not there; none where no module is loaded at all, so that they are built
    in or loaded by what was not seen."""
    if not any(config.modules.values()):
        return
    missing = {module for name in config.used if (module := missing_module(name, config.modules)) is not None}
    waiting: list[Iterator[Directive]] = [iter(config.main)] if missing else []
    while waiting and missing:
        directive = next(waiting[-1], None)
        if directive is None:
            waiting.pop()
        elif directive.children is not None:
            waiting.append(iter(directive.children))
        elif (module := missing_module(directive.key, config.modules)) in missing and module is not None:
            missing.discard(module)
            yield directive, module


def _among(variables: dict[str, str]) -> Callable[[re.Match[str]], str]:
    return lambda match: variables.get(match[1], "")


class _Reader:
    def __init__(self, tree: HostTree, config: LoadedConfig, *, uses_templates: bool) -> None:
        self.tree, self.config = tree, config
        self.templates = Templates[SiteTemplate](LANGUAGE, tree) if uses_templates else None
        self.conditions = config.conditions = StartConditions(tree, config.modules, config.path, config.release)
        self.defines = self.conditions.defines
        self.defined_by: dict[str, Directive] = {}
        self.macros: dict[str, Directive] = {}
        self.in_use: list[str] = []
        self.undefined: dict[str, Directive] = {}
        self.depth = 0
        self.parsed: dict[str, ParsedFile] = {}
        self.inclusions = self.count = self.bytes = 0

    # What the server is started with

    def read_environment(self) -> None:
        for path in ENVIRONMENTS:
            try:
                text = self.tree.read(path).decode("utf-8", "replace")
            except TreeError:
                continue
            self.config.files.setdefault(path, [])
            self.config.texts[path] = text
            variables: dict[str, str] = {}
            for name, value, other, fallback in _EXPORT.findall(text):
                word = (value or fallback).split("#")[0].strip().strip("\"'")
                variables[name or other] = _SHELL.sub(_among(variables), word)
            self.config.environment |= variables
            for name in ("APACHE_ARGUMENTS", "OPTIONS", "APACHE_SERVER_FLAGS"):
                for flag in _FLAG.findall(variables.get(name, "")):
                    self.defines.setdefault(flag, "")
                if name == "APACHE_SERVER_FLAGS":
                    for flag in variables.get(name, "").split():
                        self.defines.setdefault(flag.removeprefix("-D"), "")

    # Files

    def _problem(self, kind: ProblemKind, at: Directive | None, message: str, *, hides: bool = True) -> None:
        if len(self.config.problems) < bounds.PROBLEMS:
            file, line = (self.config.main_path, None) if at is None else (at.path, at.line)
            self.config.problems.append(Problem(kind, file, line, message, hides))

    def file(
        self, path: str, include: Directive | None, above: tuple[str, ...], within: tuple[Directive, ...] = ()
    ) -> Block:
        """The directives of a file with what its includes bring."""
        self.config.files.setdefault(path, []).extend([include.provenance()] if include is not None else [])
        if path in above or len(above) >= bounds.INCLUDE_DEPTH:
            kind: ProblemKind = "loop" if path in above else "bound"
            self._problem(kind, include, f"{path}: files that include each other")
            return Block()
        parsed = self.parsed.get(path)
        if parsed is None:
            text = self._read(path, include)
            if text is None:
                return Block()
            of_template = self._of_template(path, text)
            if of_template is not None:
                return of_template
            parsed = self.parsed[path] = parse(path, text)
            if parsed.problem is not None:
                words = f"{parsed.problem.message}; what follows in this file was not read"
                self.config.problems.append(Problem("syntax", path, parsed.problem.line, words, True))
        return self.run(parsed.directives, (*above, path), within)

    def _of_template(self, path: str, text: str) -> Block | None:
        """What a file holds that is written from a template; None for any other. A line that goes on in the next one is not
        where its words are."""
        if self.templates is None or "\\\n" in text or "\r" in text:
            return None
        found = self.templates.find(path, text, self._template)
        if found is None or found[0].state != self._state() or self.count + found[0].size > bounds.DIRECTIVES:
            return None
        template, words = found
        self.count += template.size
        self.config.used |= template.used
        own: list[Block] = []

        def read(at: int) -> Block:
            if not own:
                own.extend(host.inner for host in self.run(parse(path, text).directives, (path,), ()))
            return own[at]

        source = SourceText(path, text)
        return Block(
            structs.replace(
                host, source=source, start=-1, end=-1, head=-1, children=InstanceBlock(host, words, partial(read, at))
            )
            for at, host in enumerate(template.hosts)
        )

    def _state(self) -> tuple[int, int]:
        """What is loaded and defined so far, by how much it is: nothing of it is ever taken back between two files that are
        alike without a line that says so."""
        return len(self.config.modules), len(self.defines) + len(self.macros)

    def _template(self, name: str, text: str) -> SiteTemplate | None:
        """What a template of this ``text`` holds; None where it cannot be one. Nothing of it counts as read."""
        before = self.count, len(self.config.problems), len(self.config.skipped)
        parsed = parse(name, text)
        written = list(every(parsed.directives))
        if parsed.problem is not None or any(directive.key in ACTS_WHILE_READ for directive in written):
            return None
        read = self.run(parsed.directives, (name,), ())
        is_sound = (len(self.config.problems), len(self.config.skipped)) == before[1:]
        self.count = before[0]
        del self.config.problems[before[1] :], self.config.skipped[before[2] :]
        if not is_sound or not is_template(parsed.directives, read, text):
            return None
        used = frozenset(directive.key for directive in written if directive.children is None)
        return SiteTemplate(list(read), len(written), used, self._state())

    def _read(self, path: str, include: Directive | None) -> str | None:
        try:
            content = self.tree.read(path)
        except TreeError as error:
            self._problem(error.kind, include, f"{path}: {error.message}")
            return None
        self.bytes += len(content)
        if self.bytes > bounds.CONFIG_TOTAL_BYTES:
            words = f"more than {bounds.CONFIG_TOTAL_BYTES} bytes of configuration are not read"
            self._problem("bound", include, f"{path}: {words}")
            return None
        text, odd_line = decode(content)
        if odd_line is not None:
            words = "not UTF-8; the odd bytes stand as they are"
            self.config.problems.append(Problem("encoding", path, odd_line, words, False))
        allow_for(len(text))
        self.config.texts[path] = text
        return text

    def run(self, directives: Block, above: tuple[str, ...], within: tuple[Directive, ...]) -> Block:
        """Follow ``directives`` in order, as the server does while it reads."""
        found = Block()
        if self.depth >= bounds.DEPTH:
            self._problem(
                "bound", within[-1] if within else None, "sections, files and macros are too deep in each other"
            )
            return found
        self.depth += 1
        for written in directives:
            self.count += 1
            if self.count > bounds.DIRECTIVES:
                self._problem("bound", written, f"more than {bounds.DIRECTIVES} directives are not read")
                break
            directive = self._filled(written)
            step = _STEPS.get(directive.key)
            if step is not None and (directive.key in _SECTIONS) is directive.is_section:
                found += step(self, directive, above, within)
            elif directive.children is not None:
                inner = self.run(directive.children, above, (*within, directive))
                found.append(structs.replace(directive, children=inner))
            elif directive.key in _SECTIONS:
                words = f"{directive.name} is written as a section, in angle brackets: the server would not start"
                self._problem("syntax", directive, words, hides=False)
            else:
                self.config.used.add(directive.key)
                found.append(directive)
                if directive.key == "serverroot" and directive.args:
                    self.config.server_root = normalize_path(directive.args[0])
        self.depth -= 1
        return found

    def _filled(self, directive: Directive) -> Directive:
        """With ``${NAME}`` replaced: by what Define says, else by the environment, else as it is (ap_resolve_env)."""
        if "${" not in directive.raw:
            return directive

        via: dict[str, Directive] = {}

        def value(match: re.Match[str]) -> str:
            name = match[1]
            found = self.defines.get(name) or self.config.environment.get(name)
            if name in self.defined_by:
                via[name] = self.defined_by[name]
            if not found and ":" not in name:  # else it asks a map, in a rule
                self.undefined.setdefault(name, directive)
            return found or match[0]

        made = self._made(directive, lambda: filled(_VARIABLE, value, directive.raw))
        return structs.replace(made, via=(*via.values(), *directive.via)) if via else made

    def _made(self, directive: Directive, make: Callable[[], str]) -> Directive:
        """``directive`` with what ``make`` makes of its arguments; as it is written where that is too long."""
        try:
            return structs.replace(directive, raw=make())
        except UndeterminedError as undetermined:
            self._problem("bound", directive, f"{directive.name}: what its variables make of it: {undetermined.why}")
            return directive

    def tell_undefined(self) -> None:
        """One problem for all variables that stand as they are written, at the first of them."""
        if self.undefined:
            names = [f"${{{name}}}" for name in self.undefined]
            listed = ", ".join(names[:6]) + (f" and {len(names) - 6} more" if len(names) > 6 else "")
            first = next(iter(self.undefined.values()))
            self._problem(
                "missing", first, f"nothing in the tree says what {listed} stands for; taken as written", hides=False
            )

    # What acts while reading

    def define(self, directive: Directive, *_: object) -> Block:
        args = directive.args
        if args:
            self.defines[args[0]] = args[1] if len(args) > 1 else ""
            self.defined_by[args[0]] = directive
        return Block()

    def undefine(self, directive: Directive, *_: object) -> Block:
        for name in directive.args[:1]:
            self.defines.pop(name, None)
            self.defined_by.pop(name, None)
        return Block()

    def load_module(self, directive: Directive, *_: object) -> Block:
        if directive.args:
            self.config.modules.setdefault(identifier(directive.args[0]), directive)
        return Block()

    def include(self, directive: Directive, above: tuple[str, ...], within: tuple[Directive, ...]) -> Block:
        args = directive.args
        if not args:
            return Block()
        path = self.config.path(args[0])
        if "${" in args[0]:
            self._problem("missing", directive, f"{args[0]}: nothing in the tree says what the variable stands for")
            return Block()
        try:
            paths = self._included(path)
        except TreeError as error:
            self._problem(error.kind, directive, f"{error.path}: {error.message}")
            return Block()
        if not paths and directive.key == "include":
            self._problem("missing", directive, f"{path}: no such file")
        found = Block()
        for one in paths:
            self.inclusions += 1
            spend(PER_INCLUSION)
            if self.inclusions > bounds.INCLUDED_FILES:
                self._problem("bound", directive, f"more than {bounds.INCLUDED_FILES} inclusions are not read")
                break
            found += self.file(one, directive, above, within)
        return found

    def _included(self, path: str) -> list[str]:
        """The files of a path, pattern or folder, by name, folders gone into (ap_process_resource_config)."""
        starts = self.tree.glob(path) if _GLOB.search(path) else [path]
        return [file for start in starts for file in self._files_in(start, _DEEPEST_FOLDER)]

    def _files_in(self, path: str, depth: int) -> list[str]:
        if self.tree.is_file(path):
            return [path]
        if not depth or not self.tree.is_folder(path):
            return []
        names = self.tree.names_in(self.tree.real(path))
        return [file for name in sorted(names) for file in self._files_in(f"{path}/{name}", depth - 1)]

    def conditional(self, directive: Directive, above: tuple[str, ...], within: tuple[Directive, ...]) -> Block:
        """A section that holds or not as soon as it is read."""
        assert directive.children is not None
        try:
            because = self.conditions.why_not(directive)
        except UndeterminedError as undetermined:
            self._problem("bound", directive, undetermined.why)
            because = f"Rupex cannot tell whether it holds: {undetermined.why}"
        if because is None:
            return self.run(directive.children, above, within)
        self._skip(directive.children, because, within)
        return Block()

    def _skip(self, directives: Block, because: str, within: tuple[Directive, ...]) -> None:
        for directive in directives:
            if directive.children is not None:
                inner = within if directive.key in _STEPS else (*within, directive)
                self._skip(directive.children, because, inner)
            else:
                self.config.skipped.append(Skipped(directive, because, within))

    def macro(self, directive: Directive, *_: object) -> Block:
        if directive.args:
            self.macros[directive.args[0].lower()] = directive
        return Block()

    def undefine_macro(self, directive: Directive, *_: object) -> Block:
        for name in directive.args[:1]:
            self.macros.pop(name.lower(), None)
        return Block()

    def use(self, directive: Directive, above: tuple[str, ...], within: tuple[Directive, ...]) -> Block:
        self.config.used.add("use")
        args = directive.args
        macro = self.macros.get(args[0].lower()) if args else None
        if macro is None or macro.children is None:
            self._problem("missing", directive, f"no macro is called {quoted(' '.join(args[:1]))}")
            return Block()
        name = args[0].lower()
        if name in self.in_use:
            self._problem("loop", directive, f"the macro {args[0]} uses itself")
            return Block()
        values = dict(zip(macro.args[1:], args[1:], strict=False))
        names = sorted(values, key=len, reverse=True)  # the longest first, as mod_macro does
        pattern = re.compile("|".join(map(re.escape, names))) if names else None

        def with_values(one: Directive) -> Directive:
            spend(1)
            made = one
            if pattern is not None and pattern.search(one.raw):
                made = self._made(one, lambda: filled(pattern, lambda match: values[match[0]], one.raw))
            inner = None if one.children is None else Block(map(with_values, one.children))
            return structs.replace(made, children=inner, via=(directive, *one.via))

        self.in_use.append(name)
        found = self.run(Block(map(with_values, macro.children)), above, within)
        self.in_use.pop()
        return found


Step = Callable[[_Reader, Directive, tuple[str, ...], tuple[Directive, ...]], Block]
_STEPS: Final[dict[str, Step]] = {
    "define": _Reader.define,
    "undefine": _Reader.undefine,
    "loadmodule": _Reader.load_module,
    "include": _Reader.include,
    "includeoptional": _Reader.include,
    "ifmodule": _Reader.conditional,
    "ifdefine": _Reader.conditional,
    "iffile": _Reader.conditional,
    "ifversion": _Reader.conditional,
    "ifdirective": _Reader.conditional,
    "ifsection": _Reader.conditional,
    "macro": _Reader.macro,
    "undefmacro": _Reader.undefine_macro,
    "use": _Reader.use,
}
_SECTIONS: Final = frozenset("ifmodule ifdefine iffile ifversion ifdirective ifsection macro".split())
"""Steps that are written as sections; no others are."""


_NONE: Final[Iterator[Directive]] = iter(())


def all_of(block: Block, *names: str) -> Iterator[Directive]:
    """The directives called one of ``names`` (lower case) in a block itself, sections among them left out."""
    found = block.named(*names)
    return (directive for directive in found if directive.children is None) if found else _NONE


def last_of(block: Block, *names: str) -> Directive | None:
    found = block.named(*names)  # in most blocks there is none
    return next((directive for directive in reversed(found) if directive.children is None), None) if found else None


def sections_of(block: Block, *names: str) -> Iterator[Directive]:
    return (directive for directive in block.named(*names) if directive.children is not None)
