"""Where a person is, and how a record is named there."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple, TypeAlias

from jondel.core.errors import RecordNotFound
from jondel.core.model.addresses import TableId
from jondel.core.model.rows import Position
from jondel.core.model.values import StoredValue
from jondel.tui.services.moments import NOW, AtStep, Moment, OtherDatabase

if TYPE_CHECKING:
    from jondel.core.browse.sheet_states import SheetState


class AtRow(NamedTuple):
    """The row of a sheet, by its ordinal; by its position where rows may have come before it."""

    row: int
    position: Position = ()


class AtPosition(NamedTuple):
    """A record by its position, wherever that is in the table; no filter hides it."""

    position: Position


class AtKey(NamedTuple):
    """A record by its key; ``row_id`` instead where the engine's row number is the key."""

    key_columns: tuple[str, ...]
    key: tuple[StoredValue, ...]
    row_id: int | None = None


class AtRemoved(NamedTuple):
    """A removed record, shown where it was."""

    key: tuple[StoredValue, ...]
    otherwise: Place | None = None
    """Where to go instead if the sheet does not show it."""


class AtNew(NamedTuple):
    """A new record of the draft, by its number there."""

    number: int


RecordRef: TypeAlias = AtRow | AtPosition | AtKey | AtRemoved | AtNew


class Place(NamedTuple):
    """Where a person is: a moment, what it is compared from, a table, a record and its column.

    ``table`` is None before any is known. ``sheet`` says how the table's sheet is to be arranged
    on arrival, where otherwise than it was left.
    """

    moment: Moment = NOW
    compare_from: AtStep | OtherDatabase | None = None
    table: TableId | None = None
    record: RecordRef | None = None
    column: str = ""
    sheet: SheetState | None = None

    def same_moment(self, other: Place) -> bool:
        """Whether the other place is at the same moment, compared from the same one."""
        return (self.moment, self.compare_from) == (other.moment, other.compare_from)


class NotShownHere(RecordNotFound):
    """A removed record has no place among the others of its sheet."""

    def __init__(self, instead: Place | None) -> None:
        super().__init__("the record was removed, and the sheet cannot show where it was")
        self.instead = instead
        """Where it can be seen, if anywhere."""
