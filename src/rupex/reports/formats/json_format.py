"""Documents as JSON, and the JSON Schemas of them."""

from __future__ import annotations

import json
import re
from typing import Any, Final

import msgspec

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
    """``document`` as indented JSON, with a line end. Bytes of a file name that are no UTF-8 stand as ``\\xNN``; what
    turns the reading direction, or is not shown, is escaped."""
    text = msgspec.json.format(encode_json(document), indent=1).decode() + "\n"
    return _UNSEEN.sub(lambda found: f"\\u{ord(found[0]):04x}", text)


def schema_of(name: str) -> str:
    """The JSON Schema (2020-12) of the document ``name``, generated from its type."""
    schema = msgspec.json.schema(DOCUMENTS[name])
    head = {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": f"rupex.{name}/1"}
    return json.dumps(head | schema, indent=1, sort_keys=False) + "\n"
