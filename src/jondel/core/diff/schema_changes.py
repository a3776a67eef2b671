"""Compares two schemas and says in words what changed."""

from __future__ import annotations

from collections.abc import Iterator

from jondel.core.diff.renames import Renames
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import SchemaChange
from jondel.core.model.schema import Column, Schema, Table


def schema_changes(
    old: Schema, new: Schema, renames: Renames, internal: bool = False
) -> tuple[SchemaChange, ...]:
    """List tables, columns, views, indexes and triggers that came, went or changed."""
    if old is new:
        return ()
    return (*_table_changes(old, new, renames, internal), *_object_changes(old, new, internal))


def _table_changes(
    old: Schema, new: Schema, renames: Renames, internal: bool
) -> Iterator[SchemaChange]:
    before = {t.id: t for t in old.tables if internal or not t.internal}
    after = {t.id: t for t in new.tables if internal or not t.internal}
    statements = {(o.kind, o.name): o.sql for o in old.objects}
    new_statements = {(o.kind, o.name): o.sql for o in new.objects}
    renamed_away = set(renames.tables.values())
    moved = dict(_partitions_moved(old, new))
    yield from moved.values()
    for table in moved:
        before.pop(table, None)
        after.pop(table, None)
    for table in sorted((before.keys() - renamed_away) | after.keys()):
        was, now = before.get(renames.old_table(table)), after.get(table)
        if table in renames.tables and was is not None and now is not None:
            yield _of_table(f"{now.kind} renamed", table, was.title, now.title)
            yield from _column_changes(was, now, renames.columns.get(table, {}))
        elif was is None and now is not None:
            sql = new_statements.get((_object_kind(now), table))
            yield _of_table(f"{now.kind} added", table, None, sql)
        elif now is None and was is not None:
            sql = statements.get((_object_kind(was), table))
            yield _of_table(f"{was.kind} removed", table, sql, None)
        elif was is not None and now is not None:
            # A view's columns follow from its statement, which says more.
            columns = (
                []
                if now.kind == was.kind == "view"
                else list(_column_changes(was, now, renames.columns.get(table, {})))
            )
            yield from columns
            earlier = statements.get((_object_kind(was), table))
            later = new_statements.get((_object_kind(now), table))
            if not columns and earlier != later:
                yield _of_table(f"{now.kind} altered", table, earlier, later)


def _partitions_moved(old: Schema, new: Schema) -> Iterator[tuple[TableId, SchemaChange]]:
    """Tables that became a part of another one, or are no longer."""
    for now in new.tables:
        was = old.find(now.id)
        if was is not None and was.is_partition != now.is_partition:
            kind = "partition attached" if now.is_partition else "partition detached"
            yield now.id, _of_table(kind, now.id, None, None)


def _of_table(kind: str, table: TableId, before: str | None, after: str | None) -> SchemaChange:
    return SchemaChange(kind, str(table), before, after, table)


def _object_kind(table: Table) -> str:
    return "view" if table.kind in ("view", "materialised view") else "table"


def _column_changes(was: Table, now: Table, renamed: dict[str, str]) -> Iterator[SchemaChange]:
    def change(kind: str, column: str, before: str | None, after: str | None) -> SchemaChange:
        return SchemaChange(f"column {kind}", f"{now.title}.{column}", before, after, now.id)

    for column in was.columns:
        if now.column(column.name) is None and column.name not in renamed.values():
            yield change("removed", column.name, _declaration(column), None)
    for column in now.columns:
        earlier = was.column(column.name)
        if column.name in renamed:
            yield change("renamed", column.name, renamed[column.name], column.name)
        elif earlier is None:
            yield change("added", column.name, None, _declaration(column))
        elif earlier != column:
            yield change("altered", column.name, _declaration(earlier), _declaration(column))


def _declaration(column: Column) -> str:
    parts = [
        column.type.name or "no type",
        "NOT NULL" if column.not_null else "",
        f"DEFAULT {column.default}" if column.default is not None else "",
        f"KEY {column.key_position}" if column.key_position else "",
        "GENERATED" if column.generated else "",
        "NUMBERED" if column.numbered else "",
        f"LABELS {', '.join(column.type.labels)}" if column.type.labels else "",
        f"COMMENT {column.comment}" if column.comment else "",
    ]
    return " ".join(part for part in parts if part)


def _object_changes(old: Schema, new: Schema, internal: bool) -> Iterator[SchemaChange]:
    def named(schema: Schema) -> dict[tuple[str, TableId], str | None]:
        return {
            (o.kind, o.name): o.sql
            for o in schema.objects
            if o.kind in ("index", "trigger", "constraint") and (internal or not o.internal)
        }

    before, after = named(old), named(new)
    for kind, name in sorted(before.keys() | after.keys()):
        was, now = before.get((kind, name)), after.get((kind, name))
        if (kind, name) not in before:
            yield SchemaChange(f"{kind} added", str(name), None, now)
        elif (kind, name) not in after:
            yield SchemaChange(f"{kind} removed", str(name), was, None)
        elif was != now:
            yield SchemaChange(f"{kind} altered", str(name), was, now)
