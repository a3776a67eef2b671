"""What every view is: it prepares a place, shows it at one go, and tells its current record."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, ClassVar, NamedTuple, TypeAlias

from textual.binding import BindingType
from textual.containers import Vertical
from textual.widget import Widget

from jondel.core.model.changes import RecordChange, TableChanges
from jondel.core.model.rows import Position
from jondel.core.model.schema import Table
from jondel.core.model.values import ShownRow
from jondel.tui.frame.moment_state import MomentState
from jondel.tui.frame.place import Place
from jondel.tui.services.moments import Moment
from jondel.tui.widgets.lines import PlainGround

if TYPE_CHECKING:
    from jondel.core.browse.windows import WindowCache
    from jondel.tui.frame.desk import Desk


class ShownRecord(NamedTuple):
    """A record of a table that is the current one, as the view has read it."""

    moment: Moment
    table: Table
    position: Position
    row: ShownRow
    change: RecordChange | None = None
    is_row: bool = True
    """False for a removed record, and for a new one of the draft."""


class ShownChange(NamedTuple):
    """A change that is the current one."""

    table: TableChanges
    record: RecordChange


def record_of_change(
    change: ShownChange, moment: Moment, table: Table | None
) -> ShownRecord | None:
    """The record that a change is of, as one of the table at the moment; None where that table has
    other columns there, or the change's row is not at hand."""
    record, changes = change.record, change.table
    gone = record.kind == "removed"
    row = record.before if gone else record.after
    columns = changes.columns_before if gone else changes.columns_after
    if table is None or row is None or table.column_names != columns:
        return None
    position = (record.row_id,) if record.row_id is not None else record.key
    if table.row_id is not None and record.row_id is None:
        position = ()
    return ShownRecord(moment, table, position, row, record, is_row=not gone)


class NothingShown(NamedTuple):
    """There is no current record, and perhaps why."""

    words: str = ""


Shown: TypeAlias = ShownRecord | ShownChange | NothingShown


class Arrival(NamedTuple):
    """A place that was prepared: where exactly it is, and what shows it, which cannot fail."""

    place: Place
    show: Callable[[], None]


class View(PlainGround, Vertical):
    """One way to look at the place. Views are mounted when they are first gone to."""

    NAME: ClassVar[str]
    """What the navigator calls it."""
    WIDGET_KEYS: ClassVar[tuple[tuple[str, list[BindingType]], ...]] = ()
    """The keys of its widgets, under their headings, for the help."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(id=self.NAME)
        self._desk = desk

    @property
    def focus_target(self) -> Widget:
        """What its keys are for."""
        return self

    async def prepare(self, place: Place, state: MomentState) -> Arrival:
        """Read what a place needs, and change nothing that is seen.

        Raises:
            JondelError: the place cannot be gone to.
        """
        return Arrival(place, lambda: None)

    def arrival_of(self, cache: WindowCache) -> Arrival:
        """The arrival at a table of which the first rows have been read already."""
        return Arrival(Place(table=cache.table.id), lambda: None)

    async def refresh_rows(self, state: MomentState) -> None:
        """Read the same place anew: something was committed. Raises ``JondelError``."""

    def show_changes(self, state: MomentState) -> None:
        """More is known of the moment's changes."""

    def show_counts(self) -> None:
        """More is known of how many rows the tables have."""

    def show_draft(self) -> None:
        """The draft is another."""

    def show_problem(self, message: str) -> None:
        """Show why nothing of the moment can be shown."""

    def follow_table_list(self, table: Table) -> bool:
        """Another table was highlighted in the list; True where that is all there is to do."""
        return True

    def stop(self) -> str:
        """Stop long work of its own; what to say then, empty where there was none."""
        return ""

    @property
    def shown(self) -> Shown:
        """The current record, for the card."""
        return NothingShown()

    @property
    def has_record(self) -> bool:
        """Whether a record is the current one."""
        return not isinstance(self.shown, NothingShown)

    @property
    def rows(self) -> int:
        """How many rows the current sheet has, if it has one."""
        return 0

    @property
    def is_editing(self) -> bool:
        """Whether a cell is being edited in place."""
        return False

    @property
    def is_typing(self) -> bool:
        """Whether letters that are typed are text."""
        return False

    @property
    def has_tried_out(self) -> bool:
        """Whether there is something that was tried out and can be written."""
        return False

    @property
    def open_tables(self) -> int:
        """How many tables are open."""
        return 0
