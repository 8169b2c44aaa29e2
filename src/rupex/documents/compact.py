"""Run documents as they are written (``rupex.run/2``): what repeats is written once, and defaults are left out.

Three rules, which docs/formats.md tells a consumer in ten lines of Python:

- a key that is left out has the default that the schema gives;
- ``{"see": 17}`` stands for entry 17 (from 0) of the host's ``repeated``, which may hold further ones;
- an item of a check's ``places`` holds what several places have in common, and ``at`` the rest of each of them; so does an item
  of ``at``, where several of them are of one endpoint.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator
from functools import cache
from itertools import groupby, islice, zip_longest
from typing import Any, Final, NamedTuple

import msgspec
from msgspec import NODEFAULT, UNSET, Raw, Struct, structs

from rupex.documents.encoding import encode_packed
from rupex.documents.run import CheckDocument, HostDocument, PackedEndpoints, PlaceDocument, Run
from rupex.documents.sites import written_out
from rupex.model import (
    Dropped,
    Endpoint,
    Header,
    Listing,
    Provenance,
    Setting,
)
from rupex.model.endpoint import Limits

SHARED: Final = (
    Provenance, Setting, Header, Dropped, Listing, Limits
)  # fmt: skip
"""Types of values that may stand in ``repeated``: those of which the same is in many places."""

AT: Final = ("endpoint", "scope", "name", "file", "line", "column", "provenance", "alike")
"""What places with the same finding differ in. A file, line and column that are those of the provenance are left out."""


class Reference(Struct, frozen=True, gc=False):
    """``{"see": NUMBER}``: stands for an entry of ``repeated``."""

    see: int


READ_BY_PEOPLE: Final = 1 << 20
"""Bytes of a document up to which a person may read it as it is."""

MOST_VALUES: Final = 200_000_000
"""Values of a document when everything that it refers to is written out."""


DEEPEST: Final = 50
"""References in what is referred to."""


class BadReferenceError(Exception):
    """A document refers to what is not there, to itself, or to more than can be written out."""


class Field(NamedTuple):
    """A field of a type: its name there and in documents, and its default."""

    name: str
    written: str
    default: object


@cache
def _fields(kind: type[Struct]) -> tuple[Field, ...]:
    found = []
    for field in structs.fields(kind):
        default = field.default if field.default_factory is NODEFAULT else field.default_factory()
        found.append(Field(field.name, field.encode_name, default))
    return tuple(found)


class Packer:
    """Packs the values of one host, or of one of two halves of it at the same time.

    ``repeated``: what may be referred to, in the order of its numbers.
    ``first``, ``step``: the number of the first, and how far the next is from it: halves take turns.
    """

    def __init__(self, first: int = 0, step: int = 1) -> None:
        self.repeated: list[bytes] = []
        self._first, self._step = first, step
        self._by_identity: dict[int, tuple[object, Reference]] = {}  # the value is kept, so that its id stays its own
        self._by_content: dict[bytes, Reference] = {}

    def know(self, repeated: Iterable[bytes]) -> None:
        """Begin with what was packed before, by number."""
        for number, content in enumerate(repeated):
            self.repeated.append(content)
            self._by_content.setdefault(content, Reference(number))

    def see(self, value: object) -> Reference:
        """A reference to ``value``."""
        known = self._by_identity.get(id(value))
        if known is not None:
            return known[1]
        reference = self._see_content(encode_packed(value if value.__class__ is str else self.struct(value)))
        self._by_identity[id(value)] = value, reference
        return reference

    def _see_content(self, content: bytes) -> Reference:
        reference = self._by_content.get(content)
        if reference is None:
            number = self._first + self._step * len(self.repeated)
            self.repeated.append(content)
            reference = self._by_content[content] = Reference(number)
        return reference

    def pack(self, value: Any) -> Any:
        """``value`` as it is written."""
        kind = value.__class__
        if kind is str or kind is int or value is None:
            return value
        if kind is tuple or kind is list:
            return [self.pack(item) for item in value]
        if kind in SHARED:
            return self.see(value)
        if kind is CheckDocument:
            return self.struct(value) | ({"places": self._places(value.places)} if value.places else {})
        return self.struct(value) if isinstance(value, Struct) else value

    def struct(self, value: Any) -> dict[str, Any]:
        """The fields of ``value`` that are not at their defaults."""
        found = {}
        for name, written, default in _fields(value.__class__):
            item = getattr(value, name)
            if item is not default and item is not UNSET and not (name == "places" and item.__class__ is tuple):
                if item.__class__ is str or item.__class__ is int or item.__class__ is dict:
                    if item == default:
                        continue
                    found[written] = self.see(item) if name == "file" and value.__class__ is Provenance else item
                else:
                    found[written] = self.pack(item)
        return found

    def _places(self, places: tuple[PlaceDocument, ...]) -> list[dict[str, Any]]:
        """Places, those with the same finding together; what each has of its own is encoded, see :meth:`share_places`."""
        groups: dict[tuple[Any, ...], dict[str, Any]] = {}
        for place in places:
            key = place.finding
            group = groups.get(key)
            if group is None:
                shown = self.struct(place)
                group = groups[key] = {name: item for name, item in shown.items() if name not in AT}
                group["at"] = []
            group["at"].append(self._at(place))
        for group in groups.values():
            group["at"] = [encode_packed(places) for places in _by_endpoint(group["at"])]
        return list(groups.values())

    def share_places(self, checks: Iterable[dict[str, Any]]) -> None:
        """Have the places of an endpoint where several checks find the same once in ``repeated``."""
        groups = [group for check in checks for group in check.get("places", ())]
        uses = Counter(places for group in groups for places in group["at"])
        for group in groups:
            group["at"] = [self._see_content(places) if uses[places] > 1 else Raw(places) for places in group["at"]]

    def _at(self, place: PlaceDocument) -> dict[str, Any]:
        decided = place.provenance
        found: dict[str, Any] = {}
        if place.endpoint is not None:
            found["endpoint"] = self.see(place.endpoint)
        for name in ("scope", "name"):
            if (item := getattr(place, name)) is not None:
                found[name] = item
        if decided is None or (place.file, place.line, place.column) != (decided.file, decided.line, decided.column):
            found |= {"file": place.file, "line": place.line, "column": place.column}
        if decided is not None:
            found["provenance"] = self.see(decided)
        if place.alike is not UNSET:
            found["alike"] = place.alike
        return found


def _by_endpoint(places: list[dict[str, Any]]) -> Iterator[dict[str, Any]]:
    """Places one behind the other of which each is of the same endpoint, together."""
    for endpoint, some in groupby(places, lambda place: place.get("endpoint")):
        of_one = list(some)
        if len(of_one) == 1 or endpoint is None:
            yield from of_one
        else:
            rest = [{name: item for name, item in place.items() if name != "endpoint"} for place in of_one]
            yield {"endpoint": endpoint, "at": rest}


def encode_run(run: Run) -> bytes:
    """``run`` as ``rupex.run/2``, one line with its end."""
    return b"".join(pieces_of(run))


def pieces_of(run: Run) -> Iterator[bytes]:
    """What :func:`encode_run` makes, piece by piece: the document of a large host is 100 MB."""
    document = Packer().struct(structs.replace(run, hosts=())) | {"schema": "rupex.run/2", "complete": run.complete}
    head = encode_packed({"schema": document.pop("schema"), **document})
    yield head[:-1] + b',"hosts":['
    for number, host in enumerate(run.hosts):
        if number:
            yield b","
        yield from _packed(host)
    yield b"]}\n"


def pack_endpoints(endpoints: Iterable[Endpoint], half: int = 0, halves: int = 1) -> PackedEndpoints:
    """``endpoints`` as they are written. ``half``: of how many ``halves``, which are packed at the same time, these are one."""
    packer = Packer(half, halves)
    return PackedEndpoints(tuple(encode_packed(packer.pack(one)) for one in endpoints), tuple(packer.repeated))


def _packed(host: HostDocument) -> Iterator[bytes]:
    packer = Packer()
    packer.know(_taking_turns([half.repeated for half in host.packed]))
    document = packer.struct(structs.replace(host, packed=(), checks=()))
    checks = [packer.pack(check) for check in host.checks]
    packer.share_places(checks)
    endpoints = [endpoint for half in host.packed for endpoint in half.endpoints]
    repeated = packer.repeated
    if sum(map(len, endpoints)) + sum(map(len, repeated)) < READ_BY_PEOPLE:
        content = encode_packed(
            document | {"checks": checks} | ({"endpoints": [Raw(one) for one in endpoints]} if endpoints else {})
        )
        content, repeated = _with_single_uses(content, repeated)
        yield content if not repeated else content[:-1] + b',"repeated":[' + b",".join(repeated) + b"]}"
        return
    yield encode_packed(document)[:-1]
    if endpoints:
        yield from _list("endpoints", endpoints)
    yield from _list("checks", map(encode_packed, checks))
    yield from _list("repeated", repeated)
    yield b"}"


def _list(name: str, items: Iterable[bytes]) -> Iterator[bytes]:
    """A key of an object that has others before it, with the list that is its value, a thousand items a piece."""
    yield b',"%s":[' % name.encode()
    rest = iter(items)
    separator = b""
    while some := list(islice(rest, 1000)):
        yield separator + b",".join(some)
        separator = b","
    yield b"]"


def _taking_turns(halves: list[tuple[bytes, ...]]) -> list[bytes]:
    """What halves may refer to, by the numbers that they gave it; null where one has no more."""
    return [entry for turn in zip_longest(*halves, fillvalue=b"null") for entry in turn]


_SEE = re.compile(rb'\{"see":([0-9]+)\}')
"""A reference; in a text its quotes would be escaped."""


def _with_single_uses(content: bytes, repeated: list[bytes]) -> tuple[bytes, list[bytes]]:
    """A document and what it refers to, with texts, and what is referred to once, in their places."""
    uses = Counter(int(number) for text in (content, *repeated) for number in _SEE.findall(text))
    shared = (number for number, entry in enumerate(repeated) if uses[number] > 1 and entry[:1] != b'"')
    numbers = {number: new for new, number in enumerate(shared)}

    def in_place(text: bytes) -> bytes:
        return _SEE.sub(shown, text)

    def shown(found: re.Match[bytes]) -> bytes:
        number = int(found[1])
        return b'{"see":%d}' % numbers[number] if number in numbers else in_place(repeated[number])

    return in_place(content), [in_place(repeated[number]) for number in numbers]


def packed_schema(schema: dict[str, Any]) -> dict[str, Any]:
    """The JSON Schema of a ``rupex.run/2``, made of that of the same run with everything written out."""
    kinds: dict[str, Any] = schema["$defs"]
    for kind in SHARED:
        for name in [name for name in kinds if name == kind.__name__ or name.startswith(f"{kind.__name__}_")]:
            kinds[f"{name}_written"] = kinds.pop(name)
            kinds[name] = {"anyOf": [{"$ref": "#/$defs/See"}, {"$ref": f"#/$defs/{name}_written"}]}
    kinds["See"] = {
        "title": "See", "description": "Stands for an entry of the host's `repeated`, by its number from 0.", "type": "object",
        "properties": {"see": {"type": "integer", "minimum": 0}}, "required": ["see"], "additionalProperties": False,
    }  # fmt: skip
    place = kinds["PlaceDocument"]
    own = {name: place["properties"][name] for name in AT}
    own["endpoint"] = {"anyOf": [{"type": ["string", "null"]}, {"$ref": "#/$defs/See"}]}
    at = {"type": "array", "items": {"type": "object", "properties": own, "additionalProperties": False}}
    of_endpoint = {"type": "object", "properties": own | {"at": at}, "additionalProperties": False}
    own_of_endpoint = {"type": "array", "items": {"anyOf": [{"$ref": "#/$defs/See"}, of_endpoint]}}
    place["properties"] |= own | {"at": own_of_endpoint}
    file = kinds["Provenance_written"]["properties"]["file"]
    kinds["Provenance_written"]["properties"]["file"] = {
        "default": file.pop("default"), "anyOf": [{"$ref": "#/$defs/See"}, file]
    }  # fmt: skip
    kinds["HostDocument"]["properties"].pop("packed")
    kinds["HostDocument"]["properties"]["repeated"] = {
        "description": "What is referred to, in the order of its numbers.", "type": "array", "default": [],
    }  # fmt: skip
    kinds.pop("PackedEndpoints", None)
    kinds["Run"]["properties"]["schema"] = {"const": "rupex.run/2"}
    kinds["Run"]["required"].append("schema")
    return schema


def decode_packed(content: bytes) -> Run:
    """The run in ``content``, a ``rupex.run/2``, with everything written out. Raises :class:`BadReferenceError`, and as
    :func:`msgspec.convert`."""
    document = msgspec.json.decode(content)
    if isinstance(document, dict) and isinstance(document.get("hosts"), list):
        hosts = [unpacked(host) if isinstance(host, dict) else host for host in document["hosts"]]
        document = {**document, "schema": "rupex.run/1", "hosts": hosts}
    run = msgspec.convert(document, type=Run)
    return structs.replace(run, hosts=tuple(map(written_out, run.hosts)))


def unpacked(host: dict[str, Any]) -> dict[str, Any]:
    """A host's part of a document without references. Raises :class:`BadReferenceError`."""
    found: dict[str, Any] = _Unpacker(host.pop("repeated", [])).unpack(host)[0]
    for check in found.get("checks", ()):
        if isinstance(check, dict) and isinstance(check.get("places"), list):
            check["places"] = [_placed(place) for group in check["places"] for place in _each(group, 2)]
    return found


def _each(group: Any, depth: int) -> Iterator[Any]:
    """The places of a group: what they have in common, and what each has of its own."""
    if not depth or not isinstance(group, dict) or not isinstance(group.get("at"), list):
        yield group
        return
    common = {name: item for name, item in group.items() if name != "at"}
    for at in group["at"]:
        for place in _each(at, depth - 1):
            yield common | place if isinstance(place, dict) else place


def _placed(place: Any) -> Any:
    """A place with the file and line of what decides it, where it says nothing else."""
    decided = place.get("provenance") if isinstance(place, dict) else None
    if not isinstance(decided, dict) or "file" in place:
        return place
    return {name: decided.get(name) for name in ("file", "line", "column")} | place


class _Unpacker:
    """Puts what is referred to in its places: the same object in all of them."""

    def __init__(self, repeated: Any) -> None:
        self._repeated = repeated if isinstance(repeated, list) else []
        self._known: dict[int, tuple[Any, int]] = {}
        self._open: set[int] = set()

    def unpack(self, value: Any) -> tuple[Any, int]:
        """``value`` without references, and how many values are in it."""
        if value.__class__ is dict:
            if value.keys() == {"see"}:
                return self._seen(value["see"])
            items = {name: self.unpack(item) for name, item in value.items()}
            return {name: item for name, (item, _) in items.items()}, self._counted(size for _, size in items.values())
        if value.__class__ is list:
            found = [self.unpack(item) for item in value]
            return [item for item, _ in found], self._counted(size for _, size in found)
        return value, 1

    def _seen(self, number: Any) -> tuple[Any, int]:
        if number.__class__ is not int or not 0 <= number < len(self._repeated):
            raise BadReferenceError(f"it refers to {str(number)[:40]}, which is not there")
        known = self._known.get(number)
        if known is not None:
            return known
        if number in self._open or len(self._open) > DEEPEST:
            raise BadReferenceError(f"what it refers to as {number} refers to itself")
        self._open.add(number)
        found = self._known[number] = self.unpack(self._repeated[number])
        self._open.discard(number)
        return found

    @staticmethod
    def _counted(sizes: Any) -> int:
        count: int = 1 + sum(sizes)
        if count > MOST_VALUES:
            raise BadReferenceError(f"what it refers to makes more than {MOST_VALUES} values of it")
        return count
