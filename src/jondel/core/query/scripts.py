"""A text with statements, made ready to be run."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from jondel.core.model.outcomes import ScriptStatement
from jondel.core.model.values import StoredValue
from jondel.core.query.lets import Let, without_lets
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
        named = {let.name for let in self.lets}
        names = dict.fromkeys(mark.name for found in self.marks for mark in found)
        return tuple(name for name in names if name not in named)

    lets: tuple[Let, ...] = ()
    """Values that are named before the statements."""
    prefix: str = ""
    """How they are written; each statement is kept with them."""

    def with_values(
        self, values: Mapping[str, StoredValue | tuple[StoredValue, ...]]
    ) -> tuple[ScriptStatement, ...]:
        """The statements with values for their parameters; those without one are NULL."""
        return tuple(
            self._with_values(piece, found, values)
            for piece, found in zip(self.pieces, self.marks, strict=True)
        )

    def _with_values(
        self,
        piece: Piece,
        found: Sequence[Mark],
        values: Mapping[str, StoredValue | tuple[StoredValue, ...]],
    ) -> ScriptStatement:
        given = [values.get(mark.name) for mark in found]
        counts = [max(1, len(value)) if isinstance(value, tuple) else 1 for value in given]
        before = len(self.prefix)

        def place(at: int) -> int:
            return before + place_in(found, at, counts)

        statement = bound(piece.text, found, values)
        return ScriptStatement(statement, self.prefix + piece.text, place)


def script_of(text: str, dialect: Dialect) -> Script:
    """The script that a text is.

    Raises:
        StatementRefused: a value that is named in the beginning has no end.
    """
    plain, lets, _ = without_lets(text, dialect)
    pieces = tuple(statements_in(plain, dialect.lexis))
    found: list[tuple[Mark, ...]] = []
    counted = 0
    for piece in pieces:
        own = _numbered_on(marks(piece.text, dialect), counted)
        counted += sum(mark.text in ("?", "%s") for mark in own)
        found.append(own)
    prefix = f"{text[: pieces[0].at].strip()}\n" if lets and pieces else ""
    return Script(plain, pieces, tuple(found), lets, prefix)


def _numbered_on(found: Sequence[Mark], counted: int) -> tuple[Mark, ...]:
    return tuple(
        mark._replace(name=str(int(mark.name) + counted)) if mark.text in ("?", "%s") else mark
        for mark in found
    )
