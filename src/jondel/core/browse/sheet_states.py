"""How each table's sheet was left: filter, order, columns and place, to find it so again."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, NamedTuple

from jondel.core.browse.layout import ColumnLayout
from jondel.core.files.small_files import SmallFile
from jondel.core.model.addresses import TableId

if TYPE_CHECKING:  # most tables are looked at as they are
    from jondel.core.model.filters import Arrangement, Condition, Filter, OrderKey


_FORMAT = 2
"""Of the file; the first had names of tables, not addresses."""


class SheetState(NamedTuple):
    """One table's sheet; ``row`` is the ordinal of the current row, ``column`` its name.

    ``filter`` is None where there are no conditions at all.
    """

    filter: Filter | None = None
    order: tuple[OrderKey, ...] = ()
    layout: ColumnLayout = ColumnLayout()
    row: int = 0
    column: str = ""
    times: tuple[tuple[str, str], ...] = ()
    """What a column's times are counted in, where a person has said; empty for no times."""

    @property
    def condition(self) -> Condition | None:
        """What rows must meet; None where any will do."""
        return self.filter.condition if self.filter is not None else None

    @property
    def natural(self) -> bool:
        """Whether all rows are shown, in the table's own order."""
        return not self.order and self.condition is None

    @property
    def arrangement(self) -> Arrangement:
        from jondel.core.model.filters import Arrangement

        return Arrangement(self.condition, self.order)


class SheetStates:
    """The states of all tables of the database at a location; read at once, written on demand."""

    def __init__(self, location: str) -> None:
        self._file = SmallFile("sheets", location)
        self._states: dict[TableId, SheetState] | None = None
        self._changed = False
        self._arranged_now: set[TableId] = set()
        """The tables that were filtered or sorted otherwise since this was opened."""

    def is_arranged_from_before(self, table: TableId) -> bool:
        """Whether a table's filter is one that was left there when it was last open."""
        return table not in self._arranged_now and self.of(table).condition is not None

    def of(self, table: TableId) -> SheetState:
        """A table's state; the plain one where none was kept."""
        return self._known.get(table, SheetState())

    def keep(self, table: TableId, state: SheetState) -> None:
        """Have a table's sheet so from now on; in the file once ``save`` is called."""
        known = self.of(table)
        if (state.filter, state.order) != (known.filter, known.order):
            self._arranged_now.add(table)
        if state != known:
            self._known[table] = state
            self._changed = True

    def save(self) -> None:
        """Write what changed.

        Raises:
            StoreUnavailable: it cannot be written.
        """
        if self._changed:
            kept = {
                table.spelled: _as_plain(state)
                for table, state in self._known.items()
                if state != SheetState()
            }
            self._file.write({"format": _FORMAT, "tables": kept} if kept else {})
            self._changed = False

    @property
    def _known(self) -> dict[TableId, SheetState]:
        if self._states is None:
            content = self._file.read()
            spelled = content.get("format") == _FORMAT
            tables = content.get("tables") if spelled else content
            self._states = {
                TableId.parsed(name) if spelled else TableId(name): _from_plain(plain)
                for name, plain in (tables.items() if isinstance(tables, dict) else ())
                if isinstance(plain, dict)
            }
        return self._states


def _as_plain(state: SheetState) -> dict[str, Any]:
    plain: dict[str, Any] = {"row": state.row, "column": state.column}
    if state.times:
        plain["times"] = dict(state.times)
    if state.layout != ColumnLayout():
        plain["layout"] = state.layout.as_plain()
    if state.filter is not None or state.order:
        from jondel.core.browse import plain_conditions

        plain["order"] = plain_conditions.order_as_plain(state.order)
        if state.filter is not None:
            plain["filter"] = plain_conditions.filter_as_plain(state.filter)
    return plain


def _from_plain(plain: Mapping[str, Any]) -> SheetState:
    """What is not understood is left out: it may be from another version."""
    layout, row, column = plain.get("layout"), plain.get("row"), plain.get("column")
    state = SheetState(
        layout=ColumnLayout.from_plain(layout) if isinstance(layout, dict) else ColumnLayout(),
        row=row if isinstance(row, int) and row >= 0 else 0,
        column=column if isinstance(column, str) else "",
    )
    times = plain.get("times")
    if isinstance(times, dict):
        state = state._replace(times=tuple((str(c), str(k)) for c, k in times.items()))
    conditions, order = plain.get("filter"), plain.get("order")
    if conditions or order:
        from jondel.core.browse import plain_conditions

        if isinstance(conditions, list):
            state = state._replace(filter=plain_conditions.filter_from_plain(conditions))
        if isinstance(order, list):
            state = state._replace(order=plain_conditions.order_from_plain(order))
    return state
