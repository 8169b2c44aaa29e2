"""Documents as bytes. Names of files may hold bytes that are no UTF-8, as Python's surrogate escapes (PEP 383); a document is
always UTF-8, with ``\\xNN`` for each such byte."""

from __future__ import annotations

from typing import Any, TypeVar

import msgspec

T = TypeVar("T")


def encode_json(document: object) -> bytes:
    """``document`` as JSON on one line."""
    try:
        return msgspec.json.encode(document)
    except UnicodeEncodeError:
        return msgspec.json.encode(_valid(msgspec.to_builtins(document)))


def encode_packed(document: object) -> bytes:
    """:func:`encode_json` of dictionaries and lists, which may hold what is encoded already (``msgspec.Raw``)."""
    try:
        return msgspec.json.encode(document)
    except UnicodeEncodeError:
        return msgspec.json.encode(_valid(document))


def encode_msgpack(document: object) -> bytes:
    """``document`` as msgpack, for another process or a database."""
    try:
        return msgspec.msgpack.encode(document)
    except UnicodeEncodeError:
        return msgspec.msgpack.encode(_valid(msgspec.to_builtins(document)))


def encodable(document: T) -> T:
    """``document`` itself if all its text is valid Unicode, else a copy in which it is."""
    try:
        msgspec.msgpack.encode(document)
    except UnicodeEncodeError:
        return msgspec.convert(_valid(msgspec.to_builtins(document)), type(document))
    return document


def valid_text(text: str) -> str:
    """``text`` with ``\\xNN`` for each escaped byte, and ``?`` for any other half of a surrogate pair."""
    try:
        return text.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
    except UnicodeEncodeError:
        return text.encode("utf-8", "replace").decode()


def _valid(value: Any) -> Any:
    match value:
        case str():
            return valid_text(value)
        case dict():
            return {_valid(key): _valid(item) for key, item in value.items()}
        case list() | tuple():
            return [_valid(item) for item in value]
        case _:
            return value


__all__ = ["encodable", "encode_json", "encode_msgpack", "encode_packed", "valid_text"]
