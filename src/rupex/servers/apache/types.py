"""What type and handler httpd gives to a file by the endings of its name (mod_mime.c, find_ct), and what ForceType and rules make
of it."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import Final, NamedTuple

from rupex.host import HostTree, TreeError
from rupex.host.tree.paths import normalize_path
from rupex.model import bounds
from rupex.servers.apache.exchange import Exchange
from rupex.servers.apache.load import LoadedConfig, last_of
from rupex.servers.apache.outcome import Outcome
from rupex.servers.apache.sections import Context, all_in, last_in
from rupex.servers.apache.syntax import Directive

_MEANING: Final = ("type", "handler", "charset")
"""What an ending can mean: ``AddType``, ``RemoveType`` and so on."""
_ADDS: Final = {f"add{kind}": kind for kind in _MEANING}
_REMOVES: Final = {f"remove{kind}": kind for kind in _MEANING}
_SPEAKING: Final = (*_ADDS, "addlanguage", "addencoding", "addinputfilter", "addoutputfilter")
"""The lines that give an ending a meaning."""
_OF_ERRORS: Final = "text/html; charset=iso-8859-1"
"""What the server's own answers are of (http_protocol.c, ap_send_error_response)."""


class Described(NamedTuple):
    """What the endings of a name mean: ``type``, without parameters but its charset, and ``handler``, None for none.
    ``is_certain``: none of them is one of which only the file of types would tell whether it means anything."""

    type: str | None
    handler: Directive | None
    is_certain: bool


class ContentTypes:
    """Knows the types of one configuration."""

    def __init__(self, config: LoadedConfig, tree: HostTree) -> None:
        self._config, self._tree = config, tree

    @cached_property
    def _of_endings(self) -> Mapping[str, str] | None:
        """The file of types (``TypesConfig``), None where the tree does not have it."""
        said = last_of(self._config.main, "typesconfig")
        path = self._config.path(said.args[0] if said is not None and said.args else "conf/mime.types")
        try:
            text = self._tree.read(normalize_path(path), bounds.CONFIG_FILE_BYTES).decode("utf-8", "replace")
        except TreeError:
            return None
        lines = (line.split() for line in text.splitlines() if not line.startswith("#"))
        return {ending.lower(): words[0] for words in lines for ending in words[1:]}

    def described(self, context: Context, file: str) -> Described:
        """What the endings of a file's name mean where ``context`` holds; the last one that means something wins. What an ending
        meant and was taken away is not looked for in the file of types."""
        if "mime" not in self._config.modules:
            return Described(None, None, True)
        _, *endings = file.rpartition("/")[2].lstrip(".").split(".")
        meanings = _meanings(context) if endings else {}
        types = self._of_endings
        kind: str | None = None
        charset: str | None = None
        handler: Directive | None = None
        is_certain = True
        for ending in filter(None, endings):
            meant = meanings.get(ending.lower(), {})
            if "type" not in meant:
                is_certain = is_certain and types is not None
                kind = (types or {}).get(ending.lower(), kind)
            elif (said := meant["type"]) is not None:
                kind = said.args[0]
            charset = said.args[0] if (said := meant.get("charset")) is not None else charset
            handler = meant.get("handler") or handler
        if kind is not None and charset is not None and "charset" not in kind:
            kind = f"{kind}; charset={charset}"
        return Described(kind, handler, is_certain)

    def means_nothing(self, context: Context, ending: str) -> bool:
        """Whether an ending surely means nothing: no line speaks of it, nor the file of types."""
        types = self._of_endings
        if types is None or ending.lower() in types:
            return False
        words = (word for directive in all_in(context, *_SPEAKING) for word in directive.args[1:])
        return all(word.lower().lstrip(".") != ending.lower() for word in words)

    def of(self, outcome: Outcome, context: Context, exchange: Exchange, *, is_own: bool) -> str | None:
        """The type of an answer's content, empty for none, None where it is not known. ``is_own``: the server makes it itself."""
        if is_own:
            return _OF_ERRORS
        is_other = outcome.proxied is not None or outcome.handler is not None or outcome.is_listing
        if is_other or "mime_magic" in self._config.modules or last_in(context, "modmimeusepathinfo") is not None:
            return None
        if exchange.forced_type is not None:
            return exchange.forced_type
        forced = last_in(context, "forcetype")
        if forced is not None and forced.args and forced.args[0].lower() != "none":
            return forced.args[0]
        found = self.described(context, exchange.file_name)
        return found.type or "" if found.is_certain else None


def _meanings(context: Context) -> dict[str, dict[str, Directive | None]]:
    """By ending, in lower case, what it means and the line that says so, None where a line takes it away; the section merged last
    wins."""
    found: dict[str, dict[str, Directive | None]] = {}
    for directive in all_in(context, *_ADDS, *_REMOVES):
        is_added = directive.key in _ADDS
        for word in directive.args[1:] if is_added else directive.args:
            meant = found.setdefault(word.lower().lstrip("."), {})
            if is_added:
                meant[_ADDS[directive.key]] = directive
            else:
                meant[_REMOVES[directive.key]] = None
    return found
