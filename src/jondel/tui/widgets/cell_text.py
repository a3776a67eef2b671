"""Fits shown values into a number of terminal cells."""

from __future__ import annotations

from collections.abc import Sequence

from rich.cells import cell_len, set_cell_size

from jondel.core.browse.display import CLIP_SIGN, Piece


def width_of(pieces: Sequence[Piece]) -> int:
    """How many cells the pieces take."""
    return sum(cell_len(piece.text) for piece in pieces)


def fitted(pieces: Sequence[Piece], width: int, *, right: bool = False) -> list[Piece]:
    """Pad the pieces to exactly ``width`` cells, or cut them there with a sign."""
    if width <= 0:
        return []
    taken = width_of(pieces)
    if taken <= width:
        space = Piece(" " * (width - taken), "text")
        if taken == width:
            return list(pieces)
        return [space, *pieces] if right else [*pieces, space]
    kept: list[Piece] = []
    room = width - 1
    for piece in pieces:
        size = cell_len(piece.text)
        if size > room:
            kept.append(Piece(set_cell_size(piece.text, room), piece.role))
            break
        kept.append(piece)
        room -= size
    return [*kept, Piece(CLIP_SIGN, "clip")]


def fitted_text(text: str, width: int) -> str:
    """Pad or cut a plain text to ``width`` cells."""
    return "".join(piece.text for piece in fitted([Piece(text, "text")], width))
