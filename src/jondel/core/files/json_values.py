"""Stored values as JSON, so that no two different values look the same."""

from __future__ import annotations

import base64
import json
import math
import re
from typing import Any

from jondel.core.model.values import Clipped, Exact, InvalidText, StoredValue, Value


def json_value(value: Value) -> Any:
    """A value as JSON: null, number or string, else an object that says what it is.

    A blob is ``{"base64": …}``, a number that is not finite ``{"real": "Infinity"}``, text that is
    not valid UTF-8 ``{"text_base64": …}``; of the engines' other kinds true and false are JSON's
    own, and everything else is ``{"type": "numeric", "text": "1.50"}``.
    """
    match value:
        case bytes():
            return {"base64": base64.b64encode(value).decode()}
        case InvalidText(raw):
            return {"text_base64": base64.b64encode(raw).decode()}
        case float() if not math.isfinite(value):
            return {"real": {"inf": "Infinity", "-inf": "-Infinity"}.get(str(value), "NaN")}
        case Exact("boolean", "true" | "false" as text):
            return text == "true"
        case Exact(kind, text):
            return {"type": kind, "text": text}
        case Clipped():
            raise TypeError("a clipped value cannot be written out")
        case _:
            return value


def value_from_json(plain: Any) -> StoredValue:
    """The value that ``json_value`` wrote.

    Raises:
        ValueError: it is none.
    """
    match plain:
        case bool():
            return Exact("boolean", "true" if plain else "false")
        case None | int() | float() | str():
            return plain
        case {"type": str(kind), "text": str(text)}:
            return Exact(kind, text)
        case {"base64": str(text)}:
            return base64.b64decode(text, validate=True)
        case {"text_base64": str(text)}:
            return InvalidText(base64.b64decode(text, validate=True))
        case {"real": "Infinity" | "-Infinity" | "NaN" as text}:
            return float(text)
    raise ValueError(f"{plain!r} is no value")


_NOT_ASCII = re.compile(r"[^ -~]+")


def dumped(item: Any) -> str:
    """Serialise to one line of JSON. Control, format and other characters that cannot be seen are
    escaped, so that a terminal which is shown the document does not act on it."""
    text = json.dumps(item, ensure_ascii=False, allow_nan=False)
    if text.isprintable():
        return text
    # Outside strings a document has ASCII only, so what is replaced is always within one.
    return _NOT_ASCII.sub(lambda match: "".join(map(_escaped, match[0])), text)


def _escaped(character: str) -> str:
    return character if character.isprintable() else json.dumps(character)[1:-1]
