"""Compares two schemas and says in words what changed."""

from __future__ import annotations

from collections.abc import Iterator

from jondel.core.diff.renames import Renames
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
    before = {t.name: t for t in old.tables if internal or not t.internal}
    after = {t.name: t for t in new.tables if internal or not t.internal}
    statements = {(o.kind, o.name): o.sql for o in old.objects}
    new_statements = {(o.kind, o.name): o.sql for o in new.objects}
    renamed_away = set(renames.tables.values())
    for name in sorted((before.keys() - renamed_away) | after.keys()):
        was, now = before.get(renames.old_table(name)), after.get(name)
        if name in renames.tables and was is not None and now is not None:
            yield SchemaChange(f"{now.kind} renamed", name, was.name, name)
            yield from _column_changes(was, now, renames.columns.get(name, {}))
        elif was is None and now is not None:
            sql = new_statements.get((_object_kind(now), name))
            yield SchemaChange(f"{now.kind} added", name, None, sql)
        elif now is None and was is not None:
            sql = statements.get((_object_kind(was), name))
            yield SchemaChange(f"{was.kind} removed", name, sql, None)
        elif was is not None and now is not None:
            # A view's columns follow from its statement, which says more.
            columns = (
                []
                if now.kind == was.kind == "view"
                else list(_column_changes(was, now, renames.columns.get(name, {})))
            )
            yield from columns
            earlier = statements.get((_object_kind(was), name))
            later = new_statements.get((_object_kind(now), name))
            if not columns and earlier != later:
                yield SchemaChange(f"{now.kind} altered", name, earlier, later)


def _object_kind(table: Table) -> str:
    return "view" if table.kind == "view" else "table"


def _column_changes(was: Table, now: Table, renamed: dict[str, str]) -> Iterator[SchemaChange]:
    for column in was.columns:
        if now.column(column.name) is None and column.name not in renamed.values():
            yield SchemaChange(
                "column removed", f"{now.name}.{column.name}", _declaration(column), None
            )
    for column in now.columns:
        earlier = was.column(column.name)
        name = f"{now.name}.{column.name}"
        if column.name in renamed:
            yield SchemaChange("column renamed", name, renamed[column.name], column.name)
        elif earlier is None:
            yield SchemaChange("column added", name, None, _declaration(column))
        elif earlier != column:
            yield SchemaChange("column altered", name, _declaration(earlier), _declaration(column))


def _declaration(column: Column) -> str:
    parts = [
        column.declared_type or "no type",
        "NOT NULL" if column.not_null else "",
        f"DEFAULT {column.default}" if column.default is not None else "",
        f"KEY {column.key_position}" if column.key_position else "",
        "GENERATED" if column.generated else "",
    ]
    return " ".join(part for part in parts if part)


def _object_changes(old: Schema, new: Schema, internal: bool) -> Iterator[SchemaChange]:
    def named(schema: Schema) -> dict[tuple[str, str], str | None]:
        return {
            (o.kind, o.name): o.sql
            for o in schema.objects
            if o.kind in ("index", "trigger") and (internal or not o.name.startswith("sqlite_"))
        }

    before, after = named(old), named(new)
    for kind, name in sorted(before.keys() | after.keys()):
        was, now = before.get((kind, name)), after.get((kind, name))
        if (kind, name) not in before:
            yield SchemaChange(f"{kind} added", name, None, now)
        elif (kind, name) not in after:
            yield SchemaChange(f"{kind} removed", name, was, None)
        elif was != now:
            yield SchemaChange(f"{kind} altered", name, was, now)
