"""From a URL path to a file, by the modules that do it, in their order: aliases (mod_alias), homes of accounts (mod_userdir),
roots that are made of the host's name (mod_vhost_alias), the document root."""

from __future__ import annotations

import re
from functools import cached_property
from typing import Final, NamedTuple

from rupex.host import HostTree
from rupex.host.tree.paths import normalize_path
from rupex.servers.apache.exchange import Exchange
from rupex.servers.apache.finding import PathIndex
from rupex.servers.apache.hosts import VirtualHost
from rupex.servers.apache.load import LoadedConfig, all_of
from rupex.servers.apache.redirects import prefix_length, rest_behind, with_groups
from rupex.servers.apache.syntax import Directive
from rupex.servers.common.patterns import UndeterminedError, search

_SCRIPT_ALIASES: Final = ("scriptalias", "scriptaliasmatch", "wsgiscriptalias", "wsgiscriptaliasmatch")
_ALIASES: Final = ("alias", "aliasmatch", *_SCRIPT_ALIASES)
_SCRIPTS: Final = "/cgi-bin/"
_OPEN = re.compile(r"[%*]")


class Mapped(NamedTuple):
    """A ``file``, or a redirect to ``location``. ``by``: what says so; ``is_script``: it is run, whatever it is."""

    file: str
    by: Directive | None = None
    location: str | None = None
    is_script: bool = False


class Mapper:
    """Maps the requests of one virtual host. ``document_root``: with a leading slash, empty for none; ``folders``: what is
    served from, as far as it does not hang on the request."""

    def __init__(self, config: LoadedConfig, virtual: VirtualHost, tree: HostTree) -> None:
        self.config, self.virtual, self.tree = config, virtual, tree
        self._root = root = virtual.last("documentroot")
        self.document_root = "/" + config.path(root.args[0]) if root is not None and root.args else ""
        # What a virtual host says comes before what the main server says (merge_alias_config).
        self.aliases = [d for directives in reversed(virtual.chain) for d in all_of(directives, *_ALIASES)]
        self._aliases = [(d, d.key.endswith("match"), d.args[0], d.args[1]) for d in self.aliases if len(d.args) > 1]
        self._by_path = PathIndex(self._aliases, lambda row: None if row[1] else row[2], lambda row: row[2])
        self.by_name = _unless_none(virtual.last("virtualdocumentroot"))
        self._scripts_by_name = _unless_none(virtual.last("virtualscriptalias"))
        self._by_address = _unless_none(virtual.last("virtualdocumentrootip", "virtualscriptaliasip"))
        self._homes = UserDirs(virtual)
        self.folders = tuple(dict.fromkeys(folder for folder in self._find_folders() if folder != "/"))

    def _find_folders(self) -> list[str]:
        aliased = ["/" + self.config.path(real) for _, is_pattern, _, real in self._aliases if not is_pattern]
        named = [d.args[0] for d in (self.by_name, self._scripts_by_name) if d is not None and d.args]
        homes = [word for word in self._homes.words if word.startswith("/")]
        return [folder for folder in (self.document_root, *aliased) if folder] + list(
            map(fixed_folder, (*named, *homes))
        )

    def of(self, exchange: Exchange) -> Mapped:
        """Raises :class:`UndeterminedError` where only run time knows the file."""
        for directive, is_pattern, fake, real in self._by_path.candidates(exchange.uri):
            if is_pattern:
                found = search(fake, exchange.uri)
                file = None if found is None else with_groups(real, found)
            else:
                length = prefix_length(exchange.uri, fake)
                file = (
                    None if length is None else "/" + self.config.path(real) + rest_behind(exchange.uri, fake, length)
                )
            if file is not None:
                return Mapped(file, directive, is_script=directive.key in _SCRIPT_ALIASES)
        home = self._homes.of(exchange.uri, self.tree)
        if home is not None:
            return home
        if self._by_address is not None:
            raise UndeterminedError(f"{self._by_address}: the folder hangs on the address of the connection")
        scripts = self._scripts_by_name
        if scripts is not None and exchange.uri.startswith(_SCRIPTS):
            return Mapped(self._named(scripts, exchange) + exchange.uri[len(_SCRIPTS) - 1 :], scripts, is_script=True)
        return Mapped(self.root_of(exchange).rstrip("/") + exchange.uri, self.by_name or self._root)

    def root_of(self, exchange: Exchange) -> str:
        """The document root of a request. Raises :class:`UndeterminedError`."""
        return self.document_root if self.by_name is None else self._named(self.by_name, exchange)

    def _named(self, directive: Directive, exchange: Exchange) -> str:
        """A root that is made of the name which a request is for (vhost_alias_interpolate)."""
        pattern = directive.args[0] if directive.args else ""
        canonical = self.virtual.last("usecanonicalname")
        word = canonical.word if canonical is not None else "off"
        if word == "dns" or (exchange.is_made_up and word == "off" and "%" in pattern):
            raise UndeterminedError(f"{directive}: the folder hangs on the name that a request is for")
        return filled_root(pattern, exchange.server_name if word == "on" else exchange.host, exchange.port)

    def has(self, file: str) -> bool:
        """Whether the tree holds what ``file`` is served from, so that what it does not hold is not there."""
        return (file + "/").startswith(self._held)

    @cached_property
    def _held(self) -> tuple[str, ...]:
        """The folders of :attr:`folders` that the tree holds, each with a slash."""
        pairs = ((folder.rstrip("/") + "/", normalize_path(folder)) for folder in self.folders)
        return tuple(name for name, path in pairs if self.tree.is_folder(path) and self.tree.is_listed(path))


def _unless_none(directive: Directive | None) -> Directive | None:
    return None if directive is None or directive.word in ("", "none") else directive


def fixed_folder(word: str) -> str:
    """The part of a folder's name that is the same for all hosts and accounts."""
    found = _OPEN.search(word)
    return word.rstrip("/") if found is None else word[: found.start()].rpartition("/")[0] or "/"


class UserDirs:
    """``/~name/`` and what ``UserDir`` makes of it (mod_userdir.c). ``words``: where to look, in order."""

    def __init__(self, virtual: VirtualHost) -> None:
        self.words: tuple[str, ...] = ()
        self._said: Directive | None = None
        self._is_off = False
        for directives in virtual.chain:  # names are not taken over from the main server
            self._on, self._off = set[str](), set[str]()
            for directive in all_of(directives, "userdir"):
                word, names = directive.args[0].lower() if directive.args else "", directive.args[1:]
                if word not in ("disabled", "enabled"):
                    self.words, self._said = directive.args, directive
                elif names:
                    (self._off if word == "disabled" else self._on).update(names)
                else:
                    self._is_off = word == "disabled"

    def of(self, uri: str, tree: HostTree) -> Mapped | None:
        """Where a URL path leads, None where it is no home's. Raises :class:`UndeterminedError`."""
        if not uri.startswith("/~"):
            return None
        name, slash, rest = uri[2:].partition("/")
        if name in ("", ".", "..") or name in self._off or (self._is_off and name not in self._on):
            return None
        for number, word in enumerate(self.words):
            before, star, after = word.partition("*")
            if word.startswith("/"):
                folder = before + name + after if star else f"{word}/{name}"
            elif star and ":" in before:  # what follows the asterisk is lost, whatever the manual says
                return Mapped("", self._said, location=before + name + slash + rest)
            elif not tree.accounts.is_known:
                raise UndeterminedError(f"UserDir {word}: the tree does not say which accounts there are")
            elif name in tree.accounts.by_name:
                folder = f"{tree.accounts.by_name[name].home}/{word}"
            else:
                continue
            if (
                number == len(self.words) - 1
                or tree.is_folder(normalize_path(folder))
                or tree.is_file(normalize_path(folder))
            ):
                return Mapped(folder + slash + rest, self._said)
        return None


def filled_root(pattern: str, name: str, port: int) -> str:
    """``pattern`` with ``%N.M`` filled in by parts of ``name``: ``N`` counts words between dots from 1, from the end with a
    minus, with a plus also all behind (before, with a minus); 0 is all of it; ``M`` counts characters of that."""
    words, pieces, position = name.lower().split("."), list[str](), 0
    while position < len(pattern):
        if pattern[position] != "%" or position + 1 == len(pattern):
            pieces.append(pattern[position])
            position += 1
            continue
        position += 1
        if pattern[position] in "%p":
            pieces.append("%" if pattern[position] == "%" else str(port))
            position += 1
            continue
        number, position = _selector(pattern, position)
        part = ".".join(_selected(words, number))
        if pattern[position : position + 1] == ".":
            letter, position = _selector(pattern, position + 1)
            part = "".join(_selected(list(part), letter))
        pieces.append(part)
    return "".join(pieces).rstrip("/")


class _Selector(NamedTuple):
    number: int
    from_end: bool
    and_on: bool


def _selector(pattern: str, at: int) -> tuple[_Selector, int]:
    from_end = pattern[at : at + 1] == "-"
    at += from_end
    digit = pattern[at : at + 1]
    at += 1
    and_on = pattern[at : at + 1] == "+"
    return _Selector(int(digit) if digit in tuple("0123456789") else 0, from_end, and_on), at + and_on


def _selected(parts: list[str], selector: _Selector) -> list[str]:
    number, from_end, and_on = selector
    if number == 0:
        return parts
    if number > len(parts):
        return ["_"]
    if from_end:
        return parts[: len(parts) - number + 1] if and_on else [parts[-number]]
    return parts[number - 1 :] if and_on else [parts[number - 1]]
