"""Changes with some columns masked: that a value changed is told, and not what it is."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

from jondel.core.errors import ExportFailed
from jondel.core.findings.finding import Finding
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import (
    CellChange,
    Changes,
    NoValue,
    RecordChange,
    TableChanges,
)
from jondel.core.model.schema import Schema
from jondel.core.model.values import ShownRow, StoredValue, Value
from jondel.core.verify.expectation import ExpectedRecord
from jondel.core.verify.matchers import Matcher, Whatever
from jondel.core.verify.run import ActionResult
from jondel.core.verify.verdict import Found, Met, Mismatch, Verdict

Masked = frozenset[tuple[TableId, str]]


def masked_columns(words: Iterable[str], schemas: Sequence[Schema]) -> Masked:
    """The columns that are named so: ``skippers.email``, or ``*.email`` in every table.

    Raises:
        ExportFailed: there is no such column.
    """
    found: set[tuple[TableId, str]] = set()
    for word in words:
        name, _, column = word.rpartition(".")
        of = {
            (table.id, column)
            for schema in schemas
            for table in schema.tables
            if table.column(column) is not None
            and name.casefold() in ("*", table.name.casefold(), table.title.casefold())
        }
        if not of:
            raise ExportFailed(f"there is no column {word}; name it as in skippers.email")
        found |= of
    return frozenset(found)


class Masks:
    """What stands for the values of masked columns: the same for the same value of a column."""

    def __init__(self, columns: Masked) -> None:
        self._columns = columns
        self._known: dict[tuple[TableId, str], dict[object, int]] = {}

    def changes(self, changes: Changes) -> Changes:
        """Changes with their masked columns masked."""
        if not self._columns:
            return changes
        return changes._replace(tables=tuple(map(self._table, changes.tables)))

    def hides(self, table: TableId, column: str) -> bool:
        """Whether a column is masked."""
        return (table, column) in self._columns

    def _table(self, table: TableChanges) -> TableChanges:
        if not any(of == table.table for of, _ in self._columns):
            return table
        return table._replace(records=tuple(self._records(table)))

    def _records(self, table: TableChanges) -> Iterator[RecordChange]:
        for record in table.records:
            key = tuple(
                self.value(table.table, name, value)
                for name, value in zip(table.key_columns, record.key, strict=True)
            )
            yield record._replace(
                key=key,
                before=self._row(table.table, table.columns_before, record.before),
                after=self._row(table.table, table.columns_after, record.after),
                cells=tuple(self._cell(table.table, cell) for cell in record.cells),
            )

    def _row(self, table: TableId, columns: Sequence[str], row: ShownRow | None) -> ShownRow | None:
        if row is None:
            return None
        return tuple(self.value(table, n, v) for n, v in zip(columns, row, strict=True))

    def _cell(self, table: TableId, cell: CellChange) -> CellChange:
        if not self.hides(table, cell.column):
            return cell
        before = cell.before
        if not isinstance(before, NoValue):
            before = self.value(table, cell.column, before)
        return CellChange(cell.column, before, self.value(table, cell.column, cell.after))

    def value(self, table: TableId, column: str, value: Value) -> StoredValue:
        """A value, or what stands for it; NULL stays NULL."""
        if value is None or not self.hides(table, column):
            return value  # type: ignore[return-value]
        known = self._known.setdefault((table, column), {})
        number = known.setdefault((type(value).__name__, value), len(known) + 1)
        return f"masked {number}"

    def finding(self, finding: Finding, changes: Changes) -> Finding:
        """A finding among some changes, with what is masked of its record left out."""
        if not self._columns or finding.table is None:
            return finding
        key = finding.key
        for table in changes.tables:
            if table.table == finding.table and len(table.key_columns) == len(key):
                columns = zip(table.key_columns, key, strict=True)
                key = tuple(self.value(table.table, n, v) for n, v in columns)
        if not self.hides(finding.table, finding.column):
            return replace(finding, key=key)
        hidden = self.value(finding.table, finding.column, finding.value)
        return replace(finding, key=key, value=hidden, evidence="the column is masked")

    def result(self, result: ActionResult) -> ActionResult:
        """What came of an action. What its app said is left out: it can hold anything."""
        if not self._columns:
            return result
        step = result.step
        if step is not None:
            step = step._replace(outcome=replace(step.outcome, said="", output=""))
        return result._replace(
            step=step,
            changes=result.changes and self.changes(result.changes),
            verdict=result.verdict and self.verdict(result.verdict),
        )

    def verdict(self, verdict: Verdict) -> Verdict:
        """What came of an expectation, with the masked columns masked."""
        if not self._columns:
            return verdict
        return verdict._replace(
            met_records=tuple(
                Met(self._wanted(m.found.table.table, m.wanted), self._found(m.found))
                for m in verdict.met_records
            ),
            differing=tuple(
                d._replace(
                    wanted=self._wanted(d.table, d.wanted),
                    found=self._found(d.found),
                    cells=self._mismatches(d.table, d.cells),
                )
                for d in verdict.differing
            ),
            missing=tuple(
                m._replace(
                    wanted=self._wanted(m.table, m.wanted),
                    nearest=m.nearest and self._found(m.nearest),
                )
                for m in verdict.missing
            ),
            unexpected=tuple(
                u._replace(
                    found=self._found(u.found),
                    nearest=u.nearest and self._wanted(u.found.table.table, u.nearest),
                    cells=self._mismatches(u.found.table.table, u.cells),
                )
                for u in verdict.unexpected
            ),
        )

    def _found(self, found: Found) -> Found:
        table = self._table(found.table._replace(records=(found.record,)))
        return Found(table, table.records[0])

    def _wanted(self, table: TableId, wanted: ExpectedRecord) -> ExpectedRecord:
        def masked(cells: tuple[tuple[str, Matcher], ...]) -> tuple[tuple[str, Matcher], ...]:
            return tuple((n, Whatever() if self._named(table, n) else m) for n, m in cells)

        return replace(wanted, key=masked(wanted.key), cells=masked(wanted.cells))

    def _mismatches(self, table: TableId, cells: tuple[Mismatch, ...]) -> tuple[Mismatch, ...]:
        return tuple(
            Mismatch(
                cell.column,
                "another value",
                self._any(table, cell.column, cell.found),
                self._any(table, cell.column, cell.before),
            )
            if self._named(table, cell.column)
            else cell
            for cell in cells
        )

    def _any(self, table: TableId, column: str, value: Value | NoValue) -> Value | NoValue:
        return value if isinstance(value, NoValue) else self.value(table, column, value)

    def _named(self, table: TableId, column: str) -> bool:
        """Whether a column is masked, by its table's address or its name alone."""
        return any(of.name == table.name and name == column for of, name in self._columns)
