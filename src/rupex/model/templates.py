"""Sites that are written from one template: resolved and judged once, in stand-in words, and each told in its own words.

A template is the text of a site in which every word of the site's own (its names, the paths of its files) is replaced by a
*stand-in*, a word that stands nowhere else. What is made of the template holds stand-ins wherever a site's own words would be,
so that putting a site's words in their places is all that is left to do, and cannot hit anything else.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cached_property
from typing import Any, Final, TypeVar

from msgspec import Struct, structs

from rupex.model.endpoint import Endpoint

T = TypeVar("T")

MARK: Final = "stand-in-"
"""What every stand-in holds. A configuration in which this stands by itself is read without templates."""

_STAND_IN = re.compile(r"stand-in-[0-9]{6}(?:\.invalid)?")
_NAME_STAND_IN = re.compile(r"stand-in-[0-9]{6}\.invalid")

MOST_STAND_INS: Final = 1_000_000


def name_stand_in(number: int) -> str:
    """The stand-in for a host name (``.invalid`` is nobody's: RFC 2606, 2)."""
    return f"{MARK}{number:06}.invalid"


def path_stand_in(number: int) -> str:
    """The stand-in for a path, or the last part of one."""
    return f"{MARK}{number:06}"


Filled = Callable[[Mapping[str, str]], Any]
"""Makes a value of a site's own words, by the stand-ins for which they stand."""


def filler(value: Any, stand_ins: re.Pattern[str] = _STAND_IN) -> Filled | None:
    """What makes of a site's words the ``value`` in those words; None where no stand-in is in it. ``stand_ins``: those that are
    replaced."""
    if value.__class__ is str:
        return _text_filler(value, stand_ins)
    if value.__class__ is tuple:
        items = [(item, filler(item, stand_ins)) for item in value]
        if all(fill is None for _, fill in items):
            return None
        return lambda own: tuple([item if fill is None else fill(own) for item, fill in items])
    if not isinstance(value, Struct):
        return None
    fills = [
        (field, fill)
        for field in value.__struct_fields__
        if (fill := filler(getattr(value, field), stand_ins)) is not None
    ]
    if not fills:
        return None
    return lambda own: structs.replace(value, **{field: fill(own) for field, fill in fills})


def _text_filler(text: str, stand_ins: re.Pattern[str]) -> Filled | None:
    if MARK not in text or stand_ins.search(text) is None:
        return None
    if stand_ins.fullmatch(text):
        return lambda own: own.get(text, text)
    return lambda own: stand_ins.sub(lambda found: own.get(found[0], found[0]), text)


class Words:
    """The words of one site, ``own``, by the stand-ins of its template."""

    __slots__ = ("own",)

    def __init__(self, own: Mapping[str, str]) -> None:
        self.own = own

    def put_in(self, value: T) -> T:
        """``value`` with the site's own words in every text in it; itself where there is none."""
        fill = filler(value)
        made: T = value if fill is None else fill(self.own)
        return made


class Instance(Struct, frozen=True):
    """An endpoint that is written from a template.

    ``id``: its own.
    ``words``: what it has for the stand-ins.
    ``at``: its place among all endpoints of the host, or of the share of it that is looked at, from 0.
    """

    id: str
    words: Words
    at: int


class Group(Struct, frozen=True, dict=True):
    """The endpoints that one server block of a template makes at one listener.

    ``model``: what they all are, in stand-in words; its ``id`` is that of the first instance.
    ``instances``: at least one, in the order of the configuration.
    """

    model: Endpoint
    instances: list[Instance]

    def moved(self, places: int) -> Group:
        """The group where so many endpoints stand before those among which it has its places."""
        if not places:
            return self
        return Group(self.model, [structs.replace(one, at=one.at + places) for one in self.instances])

    def whole(self, instance: Instance) -> Endpoint:
        """The endpoint of ``instance``, all of it in its own words."""
        made = self.model if self._whole is None else self._whole(instance.words.own)
        return structs.replace(made, id=instance.id)

    def named(self, instance: Instance) -> Endpoint:
        """The endpoint of ``instance`` with its own names wherever one stands; paths and places are in stand-in words."""
        made = self.model if self._named is None else self._named(instance.words.own)
        return structs.replace(made, id=instance.id)

    def outline(self, instance: Instance) -> Endpoint:
        """The endpoint of ``instance`` with its own names, place and certificates; the rest as the model has it, in stand-in
        words. Cheap, and enough for what looks at a host as a whole."""
        own, model = instance.words.own, self.model
        changes = {field: fill(own) for field, fill in self._fills}
        if self._certificates is not None and model.tls is not None:
            changes["tls"] = structs.replace(model.tls, certificates=self._certificates(own))
        return structs.replace(model, id=instance.id, **changes)

    @cached_property
    def _whole(self) -> Filled | None:
        return filler(self.model)

    @cached_property
    def _named(self) -> Filled | None:
        return filler(self.model, _NAME_STAND_IN)

    @cached_property
    def _fills(self) -> list[tuple[str, Filled]]:
        fields = ("names", "provenance", "unused_certificates")
        return [(field, fill) for field in fields if (fill := filler(getattr(self.model, field))) is not None]

    @cached_property
    def _certificates(self) -> Filled | None:
        return None if self.model.tls is None else filler(self.model.tls.certificates)


def with_outlines(alone: Iterable[Endpoint], groups: Sequence[Group]) -> tuple[Endpoint, ...]:
    """Endpoints in the order of the configuration: those ``alone`` as they are, and the outlines of those in ``groups``."""
    placed = {instance.at: group.outline(instance) for group in groups for instance in group.instances}
    every: list[Endpoint] = []
    for endpoint in alone:
        while len(every) in placed:
            every.append(placed.pop(len(every)))
        every.append(endpoint)
    return (*every, *(placed[position] for position in sorted(placed)))
