"""Changes as JSON, written as they are found: memory does not grow with their number."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from types import MappingProxyType
from typing import Any, NamedTuple, TextIO

from jondel.core.diff.compare import Comparison, Scope, TableDifference, with_insides
from jondel.core.engines.protocol import Database
from jondel.core.errors import Cancelled, ReadError
from jondel.core.files.json_values import dumped, json_value
from jondel.core.formats.end_json import end_json
from jondel.core.formats.inside_json import inside_json
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import (
    CellChange,
    Changes,
    NoValue,
    RecordChange,
    SchemaChange,
    Unread,
)
from jondel.core.model.values import Value
from jondel.core.snapshots.catalogue import Snapshot

_IN_MEMORY_BYTES = 1 << 20
_CHARACTERS_AT_ONCE = 1 << 16


class WrittenChanges(NamedTuple):
    """What a document says: whether anything changed, and what could not be compared."""

    any: bool
    unread: list[Unread]
    records: int = 0
    """How many records it lists."""


_LISTS = {"added": "added", "removed": "removed", "changed": "changed"}


def write_changes(
    out: TextIO,
    ends: tuple[Snapshot | Database, Snapshot | Database],
    sides: tuple[Database, Database] | None,
    scope: Scope,
    more: Mapping[str, Any] = MappingProxyType({}),
) -> WrittenChanges:
    """Write one JSON document with the changes between two open databases.

    ``sides`` is None where both ends are known to be the same. ``more`` is what else the document
    is to say.
    """
    out.write(f'{{"from": {dumped(end_json(ends[0]))}, "to": {dumped(end_json(ends[1]))},\n')
    out.write(' "tables": [')
    unread: list[Unread] = []
    schema_changes: Sequence[SchemaChange] = ()
    method, hidden, records = "same", 0, 0
    if sides is not None:
        comparison = Comparison(*sides, scope)
        hidden, records = _write_tables(out, comparison, scope, unread)
        schema_changes, method = comparison.schema_changes(), comparison.method
    listed = ",\n   ".join(dumped(_schema_change(change)) for change in schema_changes)
    out.write(f'],\n "schema_changes": [{listed}],\n "method": {dumped(method)}')
    if scope.noise:
        rules = [{"kind": kind, "name": name} for kind, name in scope.noise.listed()]
        out.write(f',\n "hidden": {dumped({"records": hidden, "rules": rules})}')
    if unread:
        reasons = [{**address_json(table), "reason": why} for table, why in unread]
        out.write(f',\n "unread": {dumped(reasons)}')
    for name, content in more.items():
        out.write(f",\n {dumped(name)}: {dumped(content)}")
    out.write("}\n")
    return WrittenChanges(bool(records or schema_changes), unread, records)


def _write_tables(
    out: TextIO, comparison: Comparison, scope: Scope, unread: list[Unread]
) -> tuple[int, int]:
    """Write the tables; returns how many records were hidden, and how many were written."""
    separator = "\n  "
    hidden = written = 0
    for name, difference in comparison.tables():
        if isinstance(difference, Unread):
            unread.append(difference)
            continue
        with _spools() as spools:
            try:
                sizes, hidden_here = _spool_records(difference, spools, scope)
            except Cancelled:
                raise
            except ReadError as error:
                unread.append(Unread(name, str(error)))
                continue
            hidden += hidden_here
            if not any(sizes.values()):
                continue
            head = {
                **address_json(difference.table, difference.schema),
                "key": difference.key.columns,
            }
            out.write(separator + dumped(head)[:-1])
            separator = ",\n  "
            written += sum(sizes.values())
            for kind, spool in spools.items():
                out.write(f',\n   "{kind}": [')
                spool.seek(0)
                while part := spool.read(_CHARACTERS_AT_ONCE):
                    out.write(part)
                out.write("]")
            out.write("}")
    return hidden, written


@contextmanager
def _spools() -> Iterator[dict[str, Any]]:
    """A buffer for each list of a table's records; large ones go to the disk."""
    import tempfile  # slow to load, and seldom needed

    with ExitStack() as stack:
        yield {
            kind: stack.enter_context(
                tempfile.SpooledTemporaryFile(
                    _IN_MEMORY_BYTES, "w+", encoding="utf-8", errors="surrogatepass"
                )
            )
            for kind in _LISTS
        }


def _spool_records(
    difference: TableDifference, spools: dict[str, Any], scope: Scope
) -> tuple[dict[str, int], int]:
    sizes, hidden = dict.fromkeys(_LISTS, 0), 0
    for record in difference.records:
        change = scope.noise.without_noise(difference.table, record)
        if change is None:
            hidden += 1
            continue
        if scope.inside:
            change = with_insides(change, difference)
        if sizes[change.kind]:
            spools[change.kind].write(",\n     ")
        spools[change.kind].write(dumped(_record(change, difference)))
        sizes[change.kind] += 1
    return sizes, hidden


def _record(change: RecordChange, difference: TableDifference) -> dict[str, Any]:
    return _record_json(
        change, difference.key.columns, difference.columns_before, difference.columns_after
    )


def _record_json(
    change: RecordChange,
    key_columns: Sequence[str],
    columns_before: Sequence[str],
    columns_after: Sequence[str],
) -> dict[str, Any]:
    entry: dict[str, Any] = {"key": row_json(key_columns, change.key)}
    if change.kind == "changed":
        entry["cells"] = cells_json(change.cells)
    elif change.after is not None:
        entry["row"] = row_json(columns_after, change.after)
    elif change.before is not None:
        entry["row"] = row_json(columns_before, change.before)
    return entry


def changes_json(changes: Changes) -> dict[str, Any]:
    """Changes that are at hand, as ``write_changes`` writes them."""
    tables = []
    for table in changes.tables:
        if not table.records:
            continue
        entry: dict[str, Any] = {
            **address_json(table.table, table.schema),
            "key": list(table.key_columns),
            **{name: [] for name in _LISTS.values()},
        }
        for record in table.records:
            shown = _record_json(
                record, table.key_columns, table.columns_before, table.columns_after
            )
            entry[record.kind].append(shown)
        tables.append(entry)
    return {
        "tables": tables,
        "schema_changes": [_schema_change(change) for change in changes.schema_changes],
    }


def cells_json(cells: Sequence[CellChange]) -> dict[str, Any]:
    """Changed cells by column, before and after, and what differs inside where that is known."""
    entries: dict[str, Any] = {}
    for cell in cells:
        entry = {"after": json_value(cell.after)}
        if not isinstance(cell.before, NoValue):
            entry = {"before": json_value(cell.before), **entry}
        if cell.inside is not None:
            entry["inside"] = inside_json(cell.inside)
        entries[cell.column] = entry
    return entries


def address_json(table: TableId, schema: str = "") -> dict[str, str]:
    """Where a table is; ``schema`` where its address does not say that."""
    above = dict(zip(("schema", "catalog"), reversed(table.above), strict=False))
    return {**({"schema": schema} if schema else {}), **above, "table": table.name}


def row_json(columns: Sequence[str], values: Sequence[Value]) -> dict[str, Any]:
    """A row's values by column."""
    return {name: json_value(value) for name, value in zip(columns, values, strict=True)}


def _schema_change(change: SchemaChange) -> dict[str, Any]:
    details = {"before": change.before, "after": change.after}
    return {
        "kind": change.kind,
        "object": change.object,
        **{name: text for name, text in details.items() if text is not None},
    }
