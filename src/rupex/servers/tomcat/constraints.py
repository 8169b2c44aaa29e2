"""Security constraints of a deployment descriptor (Servlet 6.0, 13.8): which of them hold for a path and method, and who gets
past them, as Tomcat finds it (RealmBase). Old releases find other ones here and there, which makes unknown what lies between two
releases that were measured.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Final, Literal, NamedTuple

from rupex.servers.common.patterns import UndeterminedError
from rupex.servers.tomcat.syntax import Element

_OLD: Final = (9, 0, 70)
_NEW: Final = (10, 1, 60)
"""The releases that were measured."""


class Constraint(NamedTuple):
    """One security constraint that holds for a path. ``roles`` None: no login is needed; empty: no account is let in."""

    is_confidential: bool
    roles: tuple[str, ...] | None
    element: Element


class Collection(NamedTuple):
    """Resources of a constraint: URL ``patterns``, and the ``methods`` that it holds for (all where none is named) or those
    ``omitted``."""

    constraint: Constraint
    patterns: tuple[str, ...]
    methods: frozenset[str]
    omitted: frozenset[str]

    def has(self, method: str) -> bool:
        return method in self.methods if self.methods else method not in self.omitted

    def prefixes(self, path: str) -> Iterator[int]:
        """The lengths of its prefix patterns that fit a path, in order."""
        return (len(p) for p in self.patterns if p.endswith("/*") and rank_of(p, path) >= 0)


def holding(descriptors: Sequence[Element], path: str, method: str, release: tuple[int, ...]) -> list[Constraint]:
    """The constraints that hold for a path and method: of the kind of pattern that fits best, whether or not the method is one
    of theirs. A longest prefix without the method leaves the word to the endings and to ``/``, and to no shorter prefix
    (RealmBase.findSecurityConstraints). Raises :class:`~rupex.servers.common.patterns.UndeterminedError` where two releases
    that were measured find others, and this one lies between them."""
    known = list(_collections(descriptors))
    known += _uncovered(descriptors, known)
    new, old = (_found(known, path, method, is_old=is_old) for is_old in (False, True))
    if release >= _NEW or new == old:
        return new
    if release > _OLD:
        place = known[0].constraint.element.provenance()
        raise UndeterminedError(f"which of the constraints ({place}) hold in this release was not measured")
    return old


def admission(constraints: Iterable[Constraint]) -> Literal["open", "login", "denied"]:
    """Who gets past constraints that hold together: nobody where one names no role; anybody where one asks for no login
    (RealmBase.hasResourcePermission)."""
    roles = [constraint.roles for constraint in constraints]
    if () in roles:
        return "denied"
    return "open" if None in roles or not roles else "login"


def rank_of(pattern: str, path: str, *, is_filter: bool = False) -> int:
    """How well a URL pattern fits a path of an application, -1 for not at all: exact over the longest prefix over an
    extension over the default (Servlet 6.0, 12.1)."""
    if pattern == path:
        return 1_000_000
    if pattern.endswith("/*"):
        prefix = pattern[:-2]
        return 1_000 + len(prefix) if path == prefix or path.startswith(prefix + "/") else -1
    if pattern.startswith("*."):
        return 10 if path.rpartition("/")[2].endswith(pattern[1:]) else -1
    return 0 if pattern == "/" and not is_filter else -1


def _found(known: list[Collection], path: str, method: str, *, is_old: bool) -> list[Constraint]:
    exact = [one for one in known if path in one.patterns or (path == "/" and "" in one.patterns)]
    if exact:
        return [one.constraint for one in exact if one.has(method)]
    found = [one.constraint for one in _of_longest_prefix(known, path, is_old=is_old) if one.has(method)]
    if found:
        return found
    ending = [one for one in known if any(_fits_ending(pattern, path) for pattern in one.patterns)]
    if ending:
        return [one.constraint for one in ending if one.has(method)]
    # To old releases the methods of this pattern do not count.
    return [one.constraint for one in known if "/" in one.patterns and (is_old or one.has(method))]


def _of_longest_prefix(known: list[Collection], path: str, *, is_old: bool) -> list[Collection]:
    """The collections whose prefix pattern for ``path`` is the longest. To an old release a collection's own is the last of its
    patterns that is no shorter than the longest before it."""
    longest = -1
    found: list[Collection] = []
    for one in known:
        own = -1
        for length in one.prefixes(path):
            own = (length if length >= longest else own) if is_old else max(own, length)
        if own > longest:
            longest, found = own, []
        if own == longest and own >= 0:
            found.append(one)
    return found


def _collections(descriptors: Iterable[Element]) -> Iterator[Collection]:
    """The collections of resources in order, each with its constraint."""
    for descriptor in descriptors:
        for element in descriptor.all("security-constraint"):
            guarantee = element.first("user-data-constraint")
            word = "" if guarantee is None else guarantee.text_of("transport-guarantee").upper()
            auth = element.first("auth-constraint")
            roles = None if auth is None else tuple(role.text for role in auth.all("role-name"))
            constraint = Constraint(word in ("CONFIDENTIAL", "INTEGRAL"), roles, element)
            for collection in element.all("web-resource-collection"):
                yield Collection(
                    constraint,
                    tuple(pattern.text for pattern in collection.all("url-pattern")),
                    frozenset(one.text for one in collection.all("http-method")),
                    frozenset(one.text for one in collection.all("http-method-omission")),
                )


def _uncovered(descriptors: Sequence[Element], known: list[Collection]) -> Iterator[Collection]:
    """What refuses the methods that ``known`` leave without a rule, where the application says so: for each pattern that any of
    them has, and nothing else (Servlet 6.0, 13.8.4.2)."""
    said = descriptors[-1].first("deny-uncovered-http-methods") if descriptors else None
    if said is None:
        return
    refusing = Constraint(False, (), said)
    for pattern in dict.fromkeys(pattern for one in known for pattern in one.patterns):
        having = [one for one in known if pattern in one.patterns]
        if any(not one.methods and not one.omitted for one in having):
            continue  # every method has a rule
        named = frozenset(method for one in having for method in one.methods)
        omitting = [one.omitted for one in having if one.omitted]
        if not omitting:
            yield Collection(refusing, (pattern,), frozenset(), named)
            continue
        left = frozenset.intersection(*omitting) - named
        if left:
            yield Collection(refusing, (pattern,), left, frozenset())


def _fits_ending(pattern: str, path: str) -> bool:
    return pattern.startswith("*.") and rank_of(pattern, path) >= 0
