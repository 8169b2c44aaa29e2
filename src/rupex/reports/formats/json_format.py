"""Documents as JSON, and the JSON Schemas of them."""

from __future__ import annotations

import json
import re
from typing import Any, Final

import msgspec

from rupex.documents.compact import READ_BY_PEOPLE, encode_run, packed_schema
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


_UNSEEN: Final = re.compile("[\x7f-\x9f\u061c\u200b-\u200f\u2028-\u202e\u2060-\u2069\ufeff]")
"""Characters that stand in texts only, and can make a line read as another one."""


def render_json(document: object) -> str:
    """``document`` as JSON, indented where a person may read it, with a line end. Bytes of a file name that are no UTF-8 stand
    as ``\\xNN``; what turns the reading direction, or is not shown, is escaped."""
    content = encode_run(document) if isinstance(document, Run) else encode_json(document)
    if len(content) < READ_BY_PEOPLE:
        content = msgspec.json.format(content, indent=1)
    text = content.decode() + "\n"
    return _UNSEEN.sub(lambda found: f"\\u{ord(found[0]):04x}", text)


def schema_of(name: str) -> str:
    """The JSON Schema (2020-12) of the document ``name``, generated from its type."""
    schema = msgspec.json.schema(DOCUMENTS[name])
    version = 1
    if name == "run":
        schema, version = packed_schema(schema), 2
    head = {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": f"rupex.{name}/{version}"}
    return json.dumps(head | schema, indent=1, sort_keys=False) + "\n"
