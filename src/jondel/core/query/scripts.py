"""A text with statements, made ready to be run."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import partial
from typing import NamedTuple

from jondel.core.model.outcomes import ScriptStatement
from jondel.core.model.values import StoredValue
from jondel.core.sql.dialect import Dialect
from jondel.core.sql.parameters import Mark, bound, marks, place_in
from jondel.core.sql.splitting import Piece, statements_in


class Script(NamedTuple):
    """The statements of a text, and the parameters of each."""

    text: str
    pieces: tuple[Piece, ...]
    marks: tuple[tuple[Mark, ...], ...]

    @property
    def parameters(self) -> tuple[str, ...]:
        """What values are asked for, each once, in the order in which they come.

        Those that go by their order are numbered through all statements.
        """
        return tuple(dict.fromkeys(mark.name for found in self.marks for mark in found))

    def with_values(self, values: Mapping[str, StoredValue]) -> tuple[ScriptStatement, ...]:
        """The statements with values for their parameters; those without one are NULL."""
        return tuple(
            ScriptStatement(bound(piece.text, found, values), piece.text, partial(place_in, found))
            for piece, found in zip(self.pieces, self.marks, strict=True)
        )


def script_of(text: str, dialect: Dialect) -> Script:
    """The script that a text is."""
    pieces = tuple(statements_in(text, dialect.lexis))
    found: list[tuple[Mark, ...]] = []
    counted = 0
    for piece in pieces:
        own = _numbered_on(marks(piece.text, dialect), counted)
        counted += sum(mark.text in ("?", "%s") for mark in own)
        found.append(own)
    return Script(text, pieces, tuple(found))


def _numbered_on(found: Sequence[Mark], counted: int) -> tuple[Mark, ...]:
    return tuple(
        mark._replace(name=str(int(mark.name) + counted)) if mark.text in ("?", "%s") else mark
        for mark in found
    )
