"""Turns stored values into text that is safe and honest to show.

Nothing that a terminal would act on leaves this module: control characters are written out
(``^[``), characters that are invisible or turn the writing direction become visible marks. NULL,
empty text and blobs cannot be mistaken for text that looks like them, because every piece carries
a *role* that the interface shows in a style of its own.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator
from typing import Literal, NamedTuple, TypeAlias

from jondel.core.model.addresses import TableId
from jondel.core.model.sizes import size_text
from jondel.core.model.values import Clipped, Exact, InvalidText, Value

Role: TypeAlias = Literal["text", "number", "null", "empty", "blob", "mark", "clip"]

NULL_SIGN = "∅"
EMPTY_SIGN = '""'
CLIP_SIGN = "…"
BLANK_SIGN = "·"
BREAK_SIGN = "⏎"
TAB_SIGN = "⇥"
UNPRINTABLE_SIGN = "�"
INVISIBLE_SIGN = "⁞"
COMBINING_BASE = "◌"
_DELETE = 0x7F
_TEXT_OR_EMOJI_SELECTORS = "\ufe0e\ufe0f"
_PRINTS_NOTHING = frozenset("\u034f\u115f\u1160\u17b4\u17b5\u2800\u3164\uffa0")
"""Letters and signs for which nothing is drawn: fillers, joiners, an empty Braille pattern."""

_BLOB_KINDS: tuple[tuple[bytes, str], ...] = (
    (b"\x89PNG\r\n\x1a\n", "png"),
    (b"\xff\xd8\xff", "jpeg"),
    (b"GIF8", "gif"),
    (b"%PDF-", "pdf"),
    (b"PK\x03\x04", "zip"),
    (b"\x1f\x8b", "gzip"),
    (b"\x28\xb5\x2f\xfd", "zstd"),
    (b"SQLite format 3\x00", "sqlite"),
    (b"bplist", "plist"),
)


class Piece(NamedTuple):
    """A run of characters shown in one way; holds no line break and no control character."""

    text: str
    role: Role


def pieces(value: Value, limit: int = 400) -> list[Piece]:
    """Show a value on one line, in at most about ``limit`` characters."""
    match value:
        case None:
            return [Piece(NULL_SIGN, "null")]
        case int():
            return [Piece(str(value), "number")]
        case float():
            return [Piece(number_text(value), "number")]
        case str():
            return _text_pieces(value, limit)
        case bytes():
            return [Piece(_blob_text(value, len(value)), "blob")]
        case InvalidText(raw):
            shown = _text_pieces(raw.decode("utf-8", "replace"), limit)
            return [*shown, Piece(" not UTF-8", "mark")]
        case Exact("numeric", text):
            return [Piece(visible(text), "number")]
        case Exact(_, text):
            return _text_pieces(text, limit)
        case Clipped("blob", size, head):
            return [Piece(_blob_text(head, size), "blob")]
        case Clipped(_, size, head):
            shown = _text_pieces(head.decode("utf-8", "ignore"), limit)
            return [*shown, Piece(f"{CLIP_SIGN} {size_text(size)}", "clip")]


def line(value: Value, limit: int = 400) -> str:
    """Show a value as plain text on one line."""
    return "".join(piece.text for piece in pieces(value, limit))


def visible(text: str) -> str:
    """A text with marks for the characters that a terminal would act on or that cannot be seen."""
    if text.isascii() and text.isprintable():
        return text
    return "".join(character_sign(character)[0] for character in text)


def safe_name(name: str | TableId) -> str:
    """Make a name from the database safe to show on one line."""
    text = str(name)
    return "".join(piece.text for piece in _text_pieces(text, 200)) if text else EMPTY_SIGN


def number_text(value: float) -> str:
    """A real number, always told from a whole one: ``1.0``, ``∞``."""
    return {"inf": "∞", "-inf": "-∞"}.get(repr(value), repr(value))


def grouped(number: int) -> str:
    """A count with its thousands apart, as in ``200 000``."""
    return f"{number:,}".replace(",", " ")


def blob_kind(head: bytes) -> str:
    """Guess a blob's kind from its first bytes; ``blob`` where nothing is recognised."""
    return next((kind for magic, kind in _BLOB_KINDS if head.startswith(magic)), "blob")


def full_lines(value: Value, *, lay_out: bool = True) -> list[list[Piece]]:
    """Show a value in full over as many lines as it has; JSON text is laid out if wanted."""
    if isinstance(value, Exact) and value.kind != "numeric":
        value = value.text
    if not isinstance(value, str):
        return [pieces(value, 100_000)]
    if not value:
        return [pieces(value)]
    laid_out = _json_laid_out(value) if lay_out else None
    if laid_out is not None:
        return [_json_line(one) for one in laid_out.split("\n")]
    shown = [_text_pieces(one, len(one) + 1, whole=False) for one in value.split("\n")]
    for one in shown[:-1]:
        one.append(Piece(BREAK_SIGN, "mark"))
    return shown


def _json_line(text: str) -> list[Piece]:
    """The indentation is ours, not the value's, so its blanks are not marked."""
    content = text.lstrip(" ")
    indent = Piece(" " * (len(text) - len(content)), "text")
    return [indent, *_text_pieces(content, len(content) + 1, whole=False)]


def _json_laid_out(text: str) -> str | None:
    if text[:1] not in ("{", "["):
        return None
    import json  # start-up is felt, and most values are no JSON

    try:
        return json.dumps(json.loads(text), indent=2, ensure_ascii=False)
    except (ValueError, RecursionError):
        return None


def _blob_text(head: bytes, size: int) -> str:
    return f"‹{blob_kind(head)} {size_text(size)}›"


_PLAIN = re.compile(r"[\w!-~]+(?: [\w!-~]+)*")
"""Letters, digits and signs with single blanks between: nearly all there is in most texts."""


def _text_pieces(text: str, limit: int, *, whole: bool = True) -> list[Piece]:
    if not text:
        return [Piece(EMPTY_SIGN, "empty")] if whole else []
    shown = text[:limit]
    if shown.isascii() and shown.isprintable() and shown.strip(" ") == shown:
        shown_pieces = [Piece(shown, "text")]
    else:
        shown_pieces = list(_joined(_marked(shown, ends_here=len(shown) == len(text))))
    if len(text) > limit:
        shown_pieces.append(Piece(CLIP_SIGN, "clip"))
    return shown_pieces


def _marked(text: str, *, ends_here: bool) -> Iterator[Piece]:
    leading = len(text) - len(text.lstrip(" "))
    trailing = len(text.rstrip(" ")) if ends_here else len(text)
    base_before = False
    taken_until = tried_until = 0
    for index, character in enumerate(text):
        if index < taken_until:
            continue
        plain = _PLAIN.match(text, index) if index >= tried_until else None
        if plain is not None:
            tried_until = plain.end()
            if _PRINTS_NOTHING.isdisjoint(plain[0]) and plain[0].isprintable():
                taken_until, base_before = tried_until, True
                yield Piece(plain[0], "text")
                continue
        if character == " " and (index < leading or index >= trailing):
            yield Piece(BLANK_SIGN, "mark")
            base_before = False
            continue
        shown, role = character_sign(character)
        if role == "text" and unicodedata.category(character) in ("Mn", "Me") and not base_before:
            yield Piece(COMBINING_BASE, "mark")
        base_before = role == "text" or (base_before and not shown)
        if shown:
            yield Piece(shown, role)


def character_sign(character: str) -> tuple[str, Role]:
    """What is shown for a character: itself, or a mark where a terminal would act on it or it could
    not be seen; nothing for a selector that only says how the character before it looks."""
    code = ord(character)
    if character == "\n":
        return BREAK_SIGN, "mark"
    if character == "\t":
        return TAB_SIGN, "mark"
    if code < 0x20 or code == _DELETE:
        return f"^{chr(code ^ 0x40)}", "mark"
    if character in _TEXT_OR_EMOJI_SELECTORS:
        # Terminals disagree on how wide the sign before it becomes; without it they agree.
        return "", "text"
    if character in _PRINTS_NOTHING:
        return INVISIBLE_SIGN, "mark"
    if character.isprintable():
        return character, "text"
    match unicodedata.category(character):
        case "Zs":
            return BLANK_SIGN, "mark"
        case "Zl" | "Zp":
            return BREAK_SIGN, "mark"
        case "Cf":
            return INVISIBLE_SIGN, "mark"
        case _:
            return UNPRINTABLE_SIGN, "mark"


def _joined(shown_pieces: Iterator[Piece]) -> Iterator[Piece]:
    held: list[str] = []
    role: Role = "text"
    for piece in shown_pieces:
        if piece.role != role and held:
            yield Piece("".join(held), role)
            held = []
        role = piece.role
        held.append(piece.text)
    if held:
        yield Piece("".join(held), role)
