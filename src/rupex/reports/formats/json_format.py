"""Documents as JSON, and the JSON Schemas of them."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable
from itertools import chain
from typing import Any, Final

import msgspec

from rupex.documents.compact import READ_BY_PEOPLE, packed_schema, pieces_of
from rupex.documents.comparison import CompareDocument, TrendDocument
from rupex.documents.encoding import encode_json
from rupex.documents.inspection import (
    AnswerDocument,
    CredentialDocument,
    EffectiveDocument,
    LineDocument,
    SuitesDocument,
)
from rupex.documents.run import Run

DOCUMENTS: Final[dict[str, Any]] = {
    "run": Run,
    "compare": CompareDocument,
    "effective": EffectiveDocument,
    "answer": AnswerDocument,
    "line": LineDocument,
    "suites": SuitesDocument,
    "credential": CredentialDocument,
    "trend": TrendDocument,
}
"""Schema name to type; the file of each is ``schemas/NAME.schema.json``."""

_UNSEEN: Final = re.compile(
    rb"\x7f|\xc2[\x80-\x9f]|\xd8\x9c|\xe2\x80[\x8b-\x8f\xa8-\xae]|\xe2\x81[\xa0-\xa9]|\xef\xbb\xbf"
)
"""Characters, as UTF-8, that stand in texts only, and can make a line read as another one: U+007F to U+009F, U+061C, U+200B to
U+200F, U+2028 to U+202E, U+2060 to U+2069, U+FEFF."""


def render_json(document: object) -> Iterable[bytes]:
    """``document`` as JSON in UTF-8, in pieces, indented where a person may read it, with a line end. Bytes of a file name that
    are no UTF-8 stand as ``\\xNN``; what turns the reading direction, or is not shown, is escaped."""
    pieces = pieces_of(document) if isinstance(document, Run) else iter([encode_json(document)])
    begun: list[bytes] = []
    size = 0
    for piece in pieces:
        begun.append(piece)
        size += len(piece)
        if size >= READ_BY_PEOPLE:
            return map(_escaped, chain(begun, pieces))
    return [_escaped(msgspec.json.format(b"".join(begun), indent=1)), b"\n"]


def _escaped(piece: bytes) -> bytes:
    return _UNSEEN.sub(lambda found: b"\\u%04x" % ord(found[0].decode()), piece)


def schema_of(name: str) -> str:
    """The JSON Schema (2020-12) of the document ``name``, generated from its type."""
    schema = msgspec.json.schema(DOCUMENTS[name])
    version = 1
    if name == "run":
        schema, version = packed_schema(schema), 2
    head = {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": f"rupex.{name}/{version}"}
    return json.dumps(head | schema, indent=1, sort_keys=False) + "\n"
