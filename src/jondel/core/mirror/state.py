"""A state of a mirror, opened as the database that it mirrors."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, cast

from jondel.core.engines.needed import statements_of
from jondel.core.engines.protocol import (
    ArrangingProgress,
    Database,
    Extent,
    Feature,
    Features,
    Hit,
    RowOrder,
    Selection,
    Tally,
)
from jondel.core.engines.registry import open_database
from jondel.core.errors import ReadError, StoreUnavailable, TableUnreadable
from jondel.core.mirror.layout import Layout, MirrorTable, columns_in, decoded, encoded, row_decoder
from jondel.core.mirror.mirror import DOCUMENT_STATEMENT, MARK_STATEMENT, mark_in, schema_in
from jondel.core.mirror.questions import (
    equal_cells,
    shown,
    stored_arrangement,
    stored_condition,
)
from jondel.core.mirror.statements import MirrorStatements
from jondel.core.model.addresses import TableId
from jondel.core.model.exact_order import order_bytes
from jondel.core.model.filters import (
    Arrangement,
    Condition,
)
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Schema, Table
from jondel.core.model.statements import Statement
from jondel.core.model.value_text import from_text
from jondel.core.model.values import Clipped, Exact, Row, ShownRow, StoredValue, is_number
from jondel.core.model.writes import Cells, SequenceState

if TYPE_CHECKING:
    from jondel.core.engines.pages import PagePeek

_MISSING = dict.fromkeys(
    (
        *(Feature.COMMITS, Feature.CAPTURE, Feature.WRITING, Feature.RESTORING),
        *(Feature.SCRIPTS, Feature.REHEARSING),
    ),
    "it is a snapshot of a server's database, which can only be read",
)


def open_mirrored(path: Path) -> Database:
    """Open the mirror itself, as it is now."""
    return mirrored_state(open_database(path), str(path), path.parent.name)


def mirrored_state(inner: Database, location: str, name: str) -> Database:
    """Open a state of a mirror as the database that it mirrors.

    ``inner`` is the SQLite database that it is; closing the one closes the other.

    Raises:
        StoreUnavailable: it is the state of no mirror.
    """
    try:
        schema = schema_in(statements_of(inner).execute(DOCUMENT_STATEMENT).rows)
        if schema is None:
            raise StoreUnavailable(f"{location}: nothing has been mirrored yet")
    except (ReadError, ValueError) as error:
        inner.close()
        raise StoreUnavailable(f"{location}: its mirror cannot be understood ({error})") from error
    return MirroredState(inner, schema, location, name)


class MirroredState:
    """The database that was mirrored, as it was then."""

    lock = False
    notices: tuple[str, ...] = ()
    commits = capturer = deltas = writer = restorer = scripts = rehearser = None
    rehearsals = transactions = constraints = None

    def __init__(self, inner: Database, schema: Schema, location: str, name: str) -> None:
        self.inner = inner
        self._schema = schema
        self._layout = Layout(schema)
        self._kept_tables: dict[TableId, tuple[MirrorTable, Table]] = {}
        self.location, self.name = location, name
        self.features = Features(name, _MISSING)
        self.rows = _Rows(self)
        self.statements = MirrorStatements(inner, self._layout)
        self.finder = _Finder(self)
        self.scanner = _Scanner(self)

    @property
    def engine(self) -> str:
        return f"mirrored in {self.inner.engine}"

    def schema(self) -> Schema:
        return self._schema

    def of(self, table: Table) -> tuple[MirrorTable, Table]:
        """How a table is kept, and the table that it is kept in. Raises ``TableUnreadable``."""
        known = self._kept_tables.get(table.id)
        if known is None:
            kept = self._layout.tables.get(table.id)
            inner = self.inner.schema().find(TableId(kept.name)) if kept is not None else None
            if kept is None or inner is None:
                what = "a view" if table.kind == "view" else "it"
                raise TableUnreadable(f"{table.title}: {what} is not mirrored")
            known = self._kept_tables[table.id] = (kept, inner)
        return known

    def interrupt(self) -> None:
        self.inner.interrupt()

    def resume(self) -> None:
        self.inner.resume()

    def close(self) -> None:
        self.inner.close()


class _Rows:
    """See ``RowReader``."""

    def __init__(self, state: MirroredState) -> None:
        self._state = state
        self._inner = state.inner.rows

    def measure(self, table: Table, *, quick: bool = False) -> Extent:
        kept, inner = self._state.of(table)
        extent = self._inner.measure(inner, quick=quick)
        if kept.number is None:  # what helps to find a row there is no row number here
            landmarks = tuple(map(kept.position, extent.landmarks)) if kept.address else ()
            return extent._replace(dense_from=None, landmarks=landmarks)
        return extent

    def read_window(
        self,
        table: Table,
        offset: int,
        limit: int,
        *,
        extent: Extent | None = None,
        after: Position | None = None,
        before: Position | None = None,
        order: RowOrder | None = None,
    ) -> Window:
        kept, inner = self._state.of(table)
        window = self._inner.read_window(
            inner,
            offset,
            limit,
            after=kept.stored_position(after) if after and kept.address else None,
            before=kept.stored_position(before) if before and kept.address else None,
            order=order.inner if isinstance(order, _Order) else order,
        )
        return shown(kept, window)

    def read_record(self, table: Table, position: Position, max_bytes: int) -> ShownRow | None:
        kept, inner = self._state.of(table)
        row = self._inner.read_record(inner, kept.stored_position(position), max_bytes)
        return None if row is None else kept.row(row)

    def ordinal_of(
        self, table: Table, position: Position, last: tuple[Position, int] | None = None
    ) -> int:
        kept, inner = self._state.of(table)
        known = (kept.stored_position(last[0]), last[1]) if last is not None else None
        return self._inner.ordinal_of(inner, kept.stored_position(position), known)

    def find_position(
        self, table: Table, key_columns: Sequence[str], key: Sequence[StoredValue]
    ) -> Position | None:
        kept, inner = self._state.of(table)
        if not kept.address:
            return None
        names = columns_in(kept, key_columns)
        found = self._inner.find_position(inner, names, [encoded(value) for value in key])
        return None if found is None else kept.position(found)

    def which_occur(
        self, table: Table, columns: Sequence[str], keys: Sequence[Sequence[StoredValue]]
    ) -> set[int]:
        kept, inner = self._state.of(table)
        stored = [[encoded(value) for value in key] for key in keys]
        return self._inner.which_occur(inner, columns_in(kept, columns), stored)

    def matching_rows(self, table: Table, cells: Cells, limit: int) -> Window:
        kept, inner = self._state.of(table)
        return shown(kept, self._inner.matching_rows(inner, equal_cells(kept, cells), limit))

    def count_matching(self, table: Table, cells: Cells, most: int | None = None) -> int:
        kept, inner = self._state.of(table)
        return self._inner.count_matching(inner, equal_cells(kept, cells), most)

    def distinct_values(
        self, table: Table, column: str, most: int, cells: Cells | None = None
    ) -> list[StoredValue]:
        kept, inner = self._state.of(table)
        stored = kept.stored_name(column)
        some = equal_cells(kept, cells) if cells else None
        declared = table.columns[kept.place(column)]
        values = self._inner.distinct_values(inner, stored, most, some)
        return [cast(StoredValue, decoded(declared, value)) for value in values]

    def has_repeated_null_keys(self, table: Table, key_columns: Sequence[str]) -> bool:
        kept, inner = self._state.of(table)
        return self._inner.has_repeated_null_keys(inner, columns_in(kept, key_columns))

    def read_value(self, table: Table, row_id: int, column: str) -> StoredValue:
        kept, inner = self._state.of(table)
        value = self._inner.read_value(inner, row_id, kept.stored_name(column))
        return cast(StoredValue, decoded(table.columns[kept.place(column)], value))

    def read_head(self, table: Table, row_id: int, column: str, value: Clipped) -> Clipped:
        kept, inner = self._state.of(table)
        plain = Clipped("blob" if value.is_blob else "text", value.size, value.head)
        head = self._inner.read_head(inner, row_id, kept.stored_name(column), plain)
        return cast(Clipped, decoded(table.columns[kept.place(column)], head))


class _Order:
    """An order of the mirror's, by the positions of what it mirrors."""

    def __init__(self, inner: RowOrder, kept: MirrorTable) -> None:
        self.inner = inner
        self._kept = kept

    @property
    def rows(self) -> int:
        return self.inner.rows

    @property
    def anywhere(self) -> bool:
        return self.inner.anywhere

    @property
    def bytes(self) -> int:
        return self.inner.bytes

    def ordinal_of(self, position: Position) -> int | None:
        stored = self._kept.stored_position(position) if self._kept.address else position
        return self.inner.ordinal_of(stored)


class _Finder:
    """See ``Finder``."""

    def __init__(self, state: MirroredState) -> None:
        self._state = state
        self._inner = state.inner.finder

    def arrange(
        self,
        table: Table,
        arrangement: Arrangement,
        *,
        first: Callable[[Window], None] | None = None,
        on_progress: Callable[[ArrangingProgress], None] | None = None,
        first_rows: int = 128,
    ) -> RowOrder:
        kept, inner = self._state.of(table)
        order = self._inner.arrange(
            inner,
            stored_arrangement(kept, arrangement),
            first=None if first is None else lambda window: first(shown(kept, window)),
            on_progress=on_progress,
            first_rows=first_rows,
        )
        return _Order(order, kept)

    def first_rows(self, table: Table, arrangement: Arrangement, limit: int) -> Window:
        kept, inner = self._state.of(table)
        return shown(
            kept, self._inner.first_rows(inner, stored_arrangement(kept, arrangement), limit)
        )

    def statement(
        self, table: Table, arrangement: Arrangement, columns: Sequence[str]
    ) -> Statement:
        kept, inner = self._state.of(table)
        stored = stored_arrangement(kept, arrangement)
        return self._inner.statement(inner, stored, columns_in(kept, columns))

    def check_condition(self, table: Table, condition: Condition) -> None:
        kept, inner = self._state.of(table)
        self._inner.check_condition(inner, stored_condition(kept, condition))

    def tally(
        self,
        table: Table,
        column: str,
        arrangement: Arrangement,
        only: Sequence[Position] | None = None,
    ) -> Tally:
        kept, inner = self._state.of(table)
        stored = stored_arrangement(kept, arrangement)
        some = None if only is None else [kept.stored_position(p) for p in only]
        name, order = kept.stored_name(column), kept.order_name(column)
        told = self._inner.tally(inner, name, stored, some)
        if order is None:
            return told
        values = self._exact_values(table, column, arrangement, only)
        numbers = [Decimal(v.text) for v in values if is_number(v)]
        ends = sorted(values, key=order_bytes)
        total = sum(numbers, Decimal()) if numbers else None
        return told._replace(
            distinct=len({order_bytes(value) for value in values}),
            empty=0,
            least=ends[0] if ends else None,
            greatest=ends[-1] if ends else None,
            total=None if total is None else Exact("numeric", str(total)),
            mean=None if total is None else float(total / len(numbers)),
        )

    def _exact_values(
        self,
        table: Table,
        column: str,
        arrangement: Arrangement,
        only: Sequence[Position] | None,
    ) -> list[Exact]:
        wanted = None if only is None else set(only)
        place, found = table.column_names.index(column), []
        order = self.arrange(table, arrangement)
        for offset in range(0, order.rows, 1024):
            window = self._state.rows.read_window(table, offset, 1024, order=order)
            for position, row in zip(window.positions, window.rows, strict=True):
                value = row[place] if row else None
                if isinstance(value, Exact) and (wanted is None or position in wanted):
                    found.append(value)
        return found

    def find_text(self, table: Table, text: str, *, whole: bool = False) -> Iterator[Hit]:
        kept, inner = self._state.of(table)
        names = {
            stored: (name, column)
            for stored, name, column in zip(
                kept.columns, table.column_names, table.columns, strict=True
            )
        }
        for hit in self._inner.find_text(inner, text, whole=whole):
            if hit.column in names:
                name, column = names[hit.column]
                yield Hit(kept.position(hit.position), name, decoded(column, hit.value))

    def places_of_absent(
        self,
        table: Table,
        arrangement: Arrangement,
        order: RowOrder | None,
        rows: Sequence[tuple[Position, Row]],
    ) -> list[tuple[int, int]]:
        kept, inner = self._state.of(table)
        computed = [c.name for c in inner.columns if c.generated]
        stored = []
        for position, row in rows:
            cells = dict(zip(kept.stored_names, kept.stored_row(position, row), strict=True))
            cells |= dict.fromkeys(computed)
            stored.append(
                (kept.stored_position(position), tuple(cells[c.name] for c in inner.columns))
            )
        return self._inner.places_of_absent(
            inner,
            stored_arrangement(kept, arrangement),
            order.inner if isinstance(order, _Order) else order,
            stored,
        )


class _Scanner:
    """See ``Scanner``."""

    def __init__(self, state: MirroredState) -> None:
        self._state = state
        self._inner = state.inner.scanner

    def stream_rows(
        self,
        table: Table,
        columns: Sequence[str],
        order: Sequence[str],
        only: Selection | None = None,
        largest: int | None = None,
    ) -> Iterator[list[ShownRow]]:
        kept, inner = self._state.of(table)
        sorting: list[str] = []
        for name in order:
            exact = kept.order_name(name)
            sorting += [exact] if exact is not None else []
            sorting.append(kept.stored_name(name))
        declared = {column.name: column for column in table.columns}
        row = row_decoder([declared.get(name) for name in columns])
        names = columns_in(kept, columns)
        for batch in self._inner.stream_rows(inner, names, sorting, only, largest):
            yield [row(stored) for stored in batch]

    def same_value(
        self, table: Table, row_id: int, column: str, other: Database, other_table: Table
    ) -> bool:
        kept, inner = self._state.of(table)
        name = kept.stored_name(column)
        if isinstance(other, MirroredState):
            _, theirs = other.of(other_table)
            return self._inner.same_value(inner, row_id, name, other.inner, theirs)
        ours = self._state.rows.read_value(table, row_id, column)
        return ours == other.rows.read_value(other_table, row_id, column)

    def rows_that_may_differ(self, older: Database, table: TableId) -> Selection | None:
        ours = self._state.schema().find(table)
        if not isinstance(older, MirroredState) or ours is None:
            return None
        if ours != older.schema().find(table):
            return None
        _, inner = self._state.of(ours)
        return self._inner.rows_that_may_differ(older.inner, inner.id)

    def settings(self) -> tuple[StoredValue, ...]:
        return ()

    def sequences(self) -> tuple[SequenceState, ...]:
        told = mark_in(statements_of(self._state.inner).execute(MARK_STATEMENT).rows)
        return tuple(
            SequenceState(TableId.kept(name), last, taken)
            for name, last, taken in told.get("sequences", ())
        )

    def tables_alike(self, older: Database) -> frozenset[TableId]:
        if not isinstance(older, MirroredState):
            return frozenset()
        names = self._inner.tables_alike(older.inner)
        layout = Layout(self._state.schema())
        before = older.schema()
        return frozenset(
            table
            for table, kept in layout.tables.items()
            if TableId(kept.name) in names and before.find(table) == kept.table
        )

    def reads_alike(self, other: PagePeek) -> bool:
        return self._inner.reads_alike(other)

    def default_of(self, table: Table, column: str) -> tuple[StoredValue, bool]:
        declared = table.column(column)
        if declared is not None and column in table.filled_in:
            filled_in = from_text(declared.type, table.filled_in[column])
            return cast(StoredValue, decoded(declared, filled_in)), True
        return None, declared is not None and declared.default is None
