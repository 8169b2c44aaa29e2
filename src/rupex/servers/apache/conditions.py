"""Conditions that are decided when a configuration is read: IfModule, IfDefine, IfFile, IfVersion, IfDirective, IfSection."""

from __future__ import annotations

from collections.abc import Callable, Collection
from typing import Final

from rupex.host import HostTree
from rupex.model.numbers import whole_number
from rupex.servers.apache.inventory import known, known_modules, missing_module
from rupex.servers.apache.modules import named_in_condition
from rupex.servers.apache.syntax import Directive
from rupex.servers.common.patterns import UndeterminedError, search

CONDITIONS: Final = ("ifmodule", "ifdefine", "iffile", "ifversion", "ifdirective", "ifsection")


class StartConditions:
    """What the conditions of one configuration are held against.

    ``modules``: those loaded so far; ``path``: a file name as a path in the tree; ``release``: that of the server.
    ``defines``: the names of Define and of the command line, with their values, as far as they are read.
    """

    def __init__(
        self, tree: HostTree, modules: Collection[str], path: Callable[[str], str], release: tuple[int, ...]
    ) -> None:
        self.tree, self.modules, self.path, self.release = tree, modules, path, release
        self.defines: dict[str, str] = {}

    def why_not(self, directive: Directive) -> str | None:
        """Why what stands in the section ``directive`` does not hold, None where it does. Raises :class:`UndeterminedError`."""
        test = directive.args[0] if directive.args else ""
        met, what, state = self._is_met(directive, test.removeprefix("!"))
        if met is not test.startswith("!"):
            return None
        return f"{what} is {'' if met else 'not '}{state}"

    def _is_met(self, directive: Directive, name: str) -> tuple[bool, str, str]:
        """Whether the condition of a section holds, what it speaks of, and what that then is."""
        match directive.key:
            case "ifmodule":
                module = named_in_condition(name)
                if module is None:
                    return False, name, "a module's name (mod_x.c or x_module would be)"
                return module in self.modules, f"module {module}", "loaded"
            case "ifdefine":
                return name in self.defines, name, "defined"
            case "iffile":
                path = self.path(name)
                return self.tree.is_file(path) or self.tree.is_folder(path), path, "there"
            case "ifversion":
                return self._is_version(name, *directive.args[1:]), "this release", " ".join(directive.args)
            case "ifdirective":
                return self._is_known(name, is_section=False), f"the directive {name}", "known"
            case _:
                return self._is_known(name, is_section=True), f"the section {name}", "known"

    def _is_known(self, name: str, *, is_section: bool) -> bool:
        """Whether a loaded module accepts a directive or section. Raises :class:`UndeterminedError` for a word that
        no known module accepts, where a module is loaded whose directives are not in the table."""
        found = known(name.lower())
        if found is not None:
            is_loaded = missing_module(name.lower(), self.modules) is None
            return is_loaded and found.is_section is is_section
        strange = next((module for module in self.modules if module not in known_modules()), None)
        if strange is not None and not name.startswith("<"):
            raise UndeterminedError(f"whether the module {strange} knows {name} is not known")
        return False

    def _is_version(self, *args: str) -> bool:
        """``IfVersion [[!]operator] version`` (mod_version)."""
        operator, version = args[:2] if len(args) > 1 else ("=", args[0] if args else "")
        release = ".".join(map(str, self.release))
        if operator == "~" or (version.startswith("/") and version.endswith("/")):
            return search(version.strip("/"), release) is not None
        numbers = [number for part in version.split(".") if (number := whole_number(part)) is not None]
        ours = list(self.release[: len(numbers)]) if operator in ("=", "==") else list(self.release)
        numbers += [0] * (len(ours) - len(numbers))
        met = {
            "=": ours == numbers,
            "==": ours == numbers,
            ">": ours > numbers,
            ">=": ours >= numbers,
            "<": ours < numbers,
            "<=": ours <= numbers,
        }
        return met.get(operator, False)
