"""A schema as a document, kept beside the tables that it declares."""

from __future__ import annotations

from typing import Any

import msgspec

from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Schema


def as_document(schema: Schema) -> bytes:
    """The schema as JSON."""
    return msgspec.json.encode(schema, enc_hook=_plain, order="deterministic")


def from_document(document: bytes) -> Schema:
    """The schema that ``as_document`` wrote.

    Raises:
        ValueError: the document is of no schema.
    """
    return msgspec.json.decode(document, type=Schema, dec_hook=_read)


def _plain(item: Any) -> Any:
    if isinstance(item, TableId):
        return list(item)
    raise TypeError(f"{type(item).__name__} is in no schema")


def _read(kind: type, plain: Any) -> Any:
    if kind is TableId:
        return TableId.kept(plain)
    raise TypeError(f"{kind.__name__} is in no schema")
