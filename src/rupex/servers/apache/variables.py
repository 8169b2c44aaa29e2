"""The variables of a request's environment."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from rupex.servers.common.patterns import UndeterminedError


@dataclass
class Variables:
    """Variables of SetEnv, SetEnvIf, rules and mod_ssl. Large and small letters of a name are the same (apr_table_get).

    ``values``: by name in small letters.
    ``unsettled``: names in small letters of which only run time knows the value. Where ``values`` has the name too, it is set;
    otherwise that is not known either.
    """

    values: dict[str, str] = field(default_factory=dict)
    unsettled: set[str] = field(default_factory=set)

    def set(self, name: str, value: str) -> None:
        self.values[name.lower()] = value
        self.unsettled.discard(name.lower())

    def unset(self, name: str) -> None:
        self.values.pop(name.lower(), None)
        self.unsettled.discard(name.lower())

    def unsettle(self, names: Iterable[str], *, are_set: bool = False) -> None:
        """Only run time knows the values of ``names``. ``are_set``: they have one; otherwise that is not known either."""
        for name in names:
            self.unset(name)
            self.unsettled.add(name.lower())
            if are_set:
                self.values[name.lower()] = ""

    def complete(self, others: Mapping[str, str | None]) -> None:
        """Set those of ``others`` that are not set yet; None for a value that only run time knows."""
        for name, value in others.items():
            if name.lower() in self.values or name.lower() in self.unsettled:
                continue
            if value is None:
                self.unsettled.add(name.lower())
            else:
                self.values[name.lower()] = value

    def is_set(self, name: str) -> bool:
        """Raises :class:`~rupex.servers.common.patterns.UndeterminedError` where only run time knows."""
        if name.lower() in self.unsettled and name.lower() not in self.values:
            raise UndeterminedError(f"whether the variable {name} is set is known at run time only")
        return name.lower() in self.values

    def value(self, name: str) -> str | None:
        """None where it is not set. Raises :class:`~rupex.servers.common.patterns.UndeterminedError` where only run time
        knows."""
        if name.lower() in self.unsettled:
            raise UndeterminedError(f"the variable {name} is known at run time only")
        return self.values.get(name.lower())

    def renamed(self) -> Variables:
        """As a request has them that the server makes of this one: the old names begin with ``REDIRECT_`` there
        (http_request.c, rename_original_env)."""
        return Variables(
            {f"redirect_{name}": value for name, value in self.values.items()},
            {f"redirect_{name}" for name in self.unsettled},
        )

    def copy(self) -> Variables:
        return Variables(dict(self.values), set(self.unsettled))
