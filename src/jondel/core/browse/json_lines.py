"""Lays out JSON text line by line, of which objects and lists can be folded.

Nothing is lost on the way: numbers stay as they are written, and names that occur twice do so.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from typing import Any, NamedTuple, TypeAlias

from jondel.core.browse.display import Piece, pieces

JsonPath: TypeAlias = tuple[int, ...]
"""The way to a part: the place in each object or list, from the outside in."""

_FOLDED_OVER = 60
"""An object or list within another is folded at first where it has more parts than this."""
_LONGEST_STRING = 1 << 20


class JsonLine(NamedTuple):
    """One line; ``path`` is that of the object or list that begins on it, None where none does.

    ``parts`` is how many parts that has, ``depth`` how far in the line is.
    """

    depth: int
    pieces: list[Piece]
    path: JsonPath | None = None
    parts: int = 0
    folded: bool = False


class JsonNumber(str):
    """A number as it is written."""

    def __repr__(self) -> str:
        return f"#{self}"  # told from a string, also within other values


class JsonObject(list[Any]):
    """An object's names and values, in their order."""

    def __repr__(self) -> str:
        return f"{{{super().__repr__()}}}"  # told from a list


def parsed(text: str) -> Any | None:
    """What a text says as JSON, where it is an object or a list; else None."""
    if text.lstrip()[:1] not in ("{", "["):
        return None
    import json  # start-up is felt, and most values are no JSON

    try:
        return json.loads(
            text,
            object_pairs_hook=JsonObject,
            parse_float=JsonNumber,
            parse_int=JsonNumber,
            parse_constant=JsonNumber,
        )
    except (ValueError, RecursionError):
        return None


def problem_in(text: str) -> str:
    """Why a text is no JSON; empty where it is."""
    import json

    def refuse(constant: str) -> None:
        raise ValueError(f"{constant} is no JSON number")

    try:
        json.loads(text, parse_constant=refuse)
    except ValueError as error:
        return f"not JSON: {error}"
    except RecursionError:
        return "not JSON: nested too deep"
    return ""


def laid_out(text: str) -> str:
    """An object or list as text with a line for each part; any other text as it is."""
    value = parsed(text)
    return text if value is None else _indented(value, "")


def _indented(value: Any, indent: str) -> str:
    import json

    if isinstance(value, JsonNumber):
        return str(value)
    if not isinstance(value, list):
        plain = json.dumps(value, ensure_ascii=False)
        # Half a surrogate pair can only be written as it came: escaped.
        return plain if plain.isascii() or plain.isprintable() else json.dumps(value)
    opening, closing = "{}" if isinstance(value, JsonObject) else "[]"
    if not value:
        return opening + closing
    inner = indent + "  "
    parts = [
        f"{json.dumps(part[0], ensure_ascii=False)}: {_indented(part[1], inner)}"
        if isinstance(value, JsonObject)
        else _indented(part, inner)
        for part in value
    ]
    listed = ",\n".join(inner + part for part in parts)
    return f"{opening}\n{listed}\n{indent}{closing}"


def json_lines(value: Any, changed: Collection[JsonPath] = ()) -> Iterator[JsonLine]:
    """The lines of a parsed value; ``changed`` are folded where they would be open, or opened."""
    yield from _lines(value, (), 0, [], "", changed)


def _lines(
    value: Any,
    path: JsonPath,
    depth: int,
    before: list[Piece],
    after: str,
    changed: Collection[JsonPath],
) -> Iterator[JsonLine]:
    if not isinstance(value, list):
        yield JsonLine(depth, [*before, *_scalar(value), Piece(after, "text")])
        return
    is_object = isinstance(value, JsonObject)
    opening, closing = "{}" if is_object else "[]"
    folded = (depth > 0 and len(value) > _FOLDED_OVER) != (path in changed)
    if not value or folded:
        inside = f" {len(value)} … " if value else ""
        shown = [*before, Piece(f"{opening}{inside}{closing}{after}", "text")]
        yield JsonLine(depth, shown, path if value else None, len(value), folded)
        return
    yield JsonLine(depth, [*before, Piece(opening, "text")], path, len(value))
    for number, part in enumerate(value):
        comma = "," if number + 1 < len(value) else ""
        if is_object:
            name, inner = part
            head = [*_string(name), Piece(": ", "text")]
            yield from _lines(inner, (*path, number), depth + 1, head, comma, changed)
        else:
            yield from _lines(part, (*path, number), depth + 1, [], comma, changed)
    yield JsonLine(depth, [Piece(closing + after, "text")])


def _scalar(value: Any) -> list[Piece]:
    match value:
        case None:
            return [Piece("null", "null")]
        case bool():
            return [Piece("true" if value else "false", "number")]
        case JsonNumber():
            return [Piece(str(value), "number")]
        case _:
            return _string(str(value))


def _string(text: str) -> list[Piece]:
    inside = pieces(text, _LONGEST_STRING) if text else []
    return [Piece('"', "text"), *inside, Piece('"', "text")]
