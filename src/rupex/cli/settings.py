"""``rupex.toml``: defaults for options. One in the working folder may be a stranger's, so it may not write, waive or gate."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any, Final

from rupex.documents import parse_toml, read_bounded
from rupex.model import RupexError

NAME: Final = "rupex.toml"
VERBS: Final = ("audit", "probe", "fleet")
_NEVER: Final = frozenset({"help", "settings", "path", "name", "inventory", "run"})
_ONLY_NAMED: Final = frozenset({"output", "history", "waivers", "require", "refuse", "suggest_waivers"})
"""What writes files, accepts failures, or decides how a run ends."""
_MOST_BYTES: Final = 1 << 16


def apply_settings(parsers: dict[str, argparse.ArgumentParser], arguments: list[str]) -> None:
    """Give the parser of the verb in ``arguments`` the defaults of the settings file in force, if there is one. Raises
    :class:`~rupex.model.RupexError`, with the key, for what may not be set."""
    verb = next((word for word in arguments if not word.startswith("-")), None)
    if verb not in VERBS:
        return
    named = _named(arguments)
    path = Path(named if named is not None else NAME)
    if named is None and not path.is_file():
        return
    document = parse_toml(f"settings {path}", read_bounded(path, "settings", _MOST_BYTES))
    parser = parsers[verb]
    actions = {action.dest: action for action in parser._actions if action.dest not in _NEVER}
    found = _values(path, document, verb, actions, is_named=named is not None)
    parser.set_defaults(settings_in_force=(str(path), tuple(found)), **found)


def _named(arguments: list[str]) -> str | None:
    for at, word in enumerate(arguments):
        if word == "--settings" and at + 1 < len(arguments):
            return arguments[at + 1]
        if word.startswith("--settings="):
            return word.partition("=")[2]
    return None


def _values(
    path: Path, document: dict[str, Any], verb: str, actions: dict[str, argparse.Action], *, is_named: bool
) -> dict[str, Any]:
    """The defaults for ``verb``: those at the top that it has an option for, then those of its own table."""
    own = document.get(verb, {})
    if not isinstance(own, dict):
        raise RupexError(f"settings {path}: {verb}: a table is expected")
    found: dict[str, Any] = {}
    for where, table in (("", document), (f"{verb}.", own)):
        for key, value in table.items():
            if not where and key in VERBS:
                continue
            dest = key.replace("-", "_")
            dest = "family" if dest == "as" else dest
            if dest in _ONLY_NAMED and not is_named:
                words = "may be set only in a file that you name with --settings, since this one may be a stranger's"
                raise RupexError(f"settings {path}: {where}{key}: {words}")
            if dest not in actions:
                if not where and dest in _ANY:
                    continue  # another verb's
                allowed = ", ".join(sorted(name.replace("_", "-") for name in actions))
                raise RupexError(f"settings {path}: {where}{key}: no option of {verb}; there are: {allowed}")
            found[dest] = _value(f"settings {path}: {where}{key}", value, actions[dest])
    return found


_ANY: Final = frozenset(
    {"connect", "skip_paths", "gentle", "patience", "names", "jobs", "host_seconds", "afresh", "wire", "root", "family",
     "assume", "manifest", "host"}
)  # fmt: skip
"""Options that not every verb has, so that one file may set them for those that have."""


def _value(where: str, value: Any, action: argparse.Action) -> Any:
    if isinstance(action, argparse._StoreTrueAction):
        if not isinstance(value, bool):
            raise RupexError(f"{where}: true or false is expected")
        return value
    if isinstance(action, argparse._AppendAction):
        if not isinstance(value, list) or not all(isinstance(one, str) for one in value):
            raise RupexError(f"{where}: a list of texts is expected")
        return value
    if isinstance(value, bool | list | dict):
        raise RupexError(f"{where}: one value is expected")
    text = str(value)
    if action.choices is not None and text not in action.choices:
        raise RupexError(f"{where}: {text!r} is none of {', '.join(map(str, action.choices))}")
    if not callable(action.type):
        return text
    try:
        return action.type(text)
    except (argparse.ArgumentTypeError, ValueError) as error:
        raise RupexError(f"{where}: {error}") from None
