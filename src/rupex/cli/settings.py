"""``rupex.toml``: defaults for options.

A file that the user names with ``--settings`` may set any option. One that only lies in the working folder may have come with a
cloned repository: it decides nothing but how results look, and a mistake in it stops nothing.
"""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from pathlib import Path
from typing import Any, Final

from rupex.baseline.toml import parse_toml
from rupex.model import RupexError
from rupex.user_files import read_bounded

NAME: Final = "rupex.toml"
VERBS: Final = ("audit", "probe", "fleet")
APPEARANCE: Final = frozenset({"format", "verbose", "quiet"})
"""What a file that was not named may set: none of these decides what is read, judged, asked or written."""
_NEVER: Final = frozenset({"help", "settings", "path", "name", "inventory", "run"})
_MOST_BYTES: Final = 1 << 16


def apply_settings(parsers: Mapping[str, argparse.ArgumentParser], arguments: list[str]) -> None:
    """Give the parser of the verb in ``arguments`` the defaults of the settings file in force, if there is one, and the
    default ``settings_in_force``: the file, the options it sets, and its keys that were not taken. Raises
    :class:`~rupex.model.RupexError`, with the key, for a mistake in a file that was named."""
    verb = next((word for word in arguments if not word.startswith("-")), None)
    if verb not in VERBS:
        return
    named = _named(arguments)
    path = Path(named if named is not None else NAME)
    if named is None and not path.is_file():
        return
    parser = parsers[verb]
    actions = {action.dest: action for action in parser._actions if action.dest not in _NEVER}
    try:
        document = parse_toml(f"settings {path}", read_bounded(path, "settings", _MOST_BYTES))
    except RupexError as error:
        if named is not None:
            raise
        parser.set_defaults(settings_in_force=(str(path), (), (str(error),)))
        return
    not_taken: list[str] = []
    if named is not None:
        found = _values(path, document, verb, actions)
    else:
        found, not_taken = _appearance(document, verb, actions)
    parser.set_defaults(settings_in_force=(str(path), tuple(found), tuple(not_taken)), **found)


def _appearance(
    document: dict[str, Any], verb: str, actions: dict[str, argparse.Action]
) -> tuple[dict[str, Any], list[str]]:
    """What a file that was not named may set, and its keys that are not taken."""
    found: dict[str, Any] = {}
    not_taken: list[str] = []
    own = document.get(verb, {})
    for where, table in (("", document), (f"{verb}.", own if isinstance(own, dict) else {})):
        for key, value in table.items():
            if not where and key in VERBS and isinstance(value, dict):
                continue
            try:
                if key not in APPEARANCE:
                    raise RupexError(key)
                found[key] = _value(key, value, actions[key])
            except RupexError:
                not_taken.append(f"{where}{key}")
    return found, not_taken


def _named(arguments: list[str]) -> str | None:
    for index, word in enumerate(arguments):
        if word == "--settings" and index + 1 < len(arguments):
            return arguments[index + 1]
        if word.startswith("--settings="):
            return word.partition("=")[2]
    return None


def _values(path: Path, document: dict[str, Any], verb: str, actions: dict[str, argparse.Action]) -> dict[str, Any]:
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
            if dest not in actions:
                if not where and dest in _ANY:
                    continue  # another verb's
                allowed = ", ".join(sorted(name.replace("_", "-") for name in actions))
                raise RupexError(f"settings {path}: {where}{key}: no option of {verb}; there are: {allowed}")
            found[dest] = _value(f"settings {path}: {where}{key}", value, actions[dest])
    return found


_ANY: Final = frozenset(
    {"connect", "skip_paths", "gentle", "patience", "names", "jobs", "host_seconds", "afresh", "wire", "root", "family",
     "assume", "manifest", "host", "suggest_waivers"}
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
