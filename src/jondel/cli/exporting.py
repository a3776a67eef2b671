"""The command that writes tables and changes to files."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import NamedTuple

from jondel.cli.output import counted, say
from jondel.cli.problems import UsageProblem
from jondel.cli.showing import Showing, rules_of
from jondel.cli.target import Target, opened
from jondel.core.browse.links import Link, LinkedRecord, all_links, declared_links
from jondel.core.browse.typed_values import typed_value
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import dialect_of
from jondel.core.errors import RecordNotFound, TableNotFound
from jondel.core.exports.tables import Exported, TableExport, export_tables
from jondel.core.formats.row_writers import RowForm, form_of_name
from jondel.core.model.schema import Schema, Table
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.trail.project import Project
from jondel.core.trail.trail import NOW


def export(
    target: str,
    tables: Sequence[str],
    output: str,
    form: str | None,
    at: str | None,
    changes: str | None,
    backward: bool,
    records: Sequence[str],
    children: Sequence[str],
    renumber: int | None,
    masks: Sequence[str],
    with_table: bool,
    lock: bool,
) -> int:
    """Write tables, the changes of a step, or records with what they need, to a file."""
    path = Path(output).expanduser()
    wanted: RowForm = form or form_of_name(output) or "csv"  # type: ignore[assignment]
    with opened(target, lock=lock, logged=False) as found:
        if changes is not None:
            if tables or at is not None:
                raise UsageProblem("--changes is of all tables between two snapshots")
            done, what = _changes(found, changes, path, wanted, backward=backward), "record"
        elif records:
            if tables:
                raise UsageProblem("--record brings what it needs; leave --table out")
            asked = _Records(records, children, renumber, masks)
            done, what = _records(found, asked, at, path, wanted), "record"
        else:
            done, what = _tables(found, tables, at, path, wanted, with_table), "row"
    for note in done.notes:
        say(note)
    where = str(done.paths[0]) if len(done.paths) == 1 else f"{len(done.paths)} files in {path}"
    say(f"{counted(done.rows, what)} in {where}")
    return 0


def _tables(
    target: Target,
    names: Sequence[str],
    at: str | None,
    path: Path,
    form: RowForm,
    with_table: bool,
) -> Exported:
    state: Snapshot | Database = (
        target.database if at in (None, NOW) else target.trail.find(str(at))
    )
    dialect = dialect_of(target.location)
    with target.trail.opened(state) as database:
        tables = _chosen(database.schema(), names)
        exports = [TableExport.whole(table) for table in tables]
        return export_tables(database, exports, path, form, dialect, with_table=with_table)


class _Records(NamedTuple):
    """Records that are wanted, and how."""

    names: Sequence[str]
    children: Sequence[str]
    renumber: int | None
    masks: Sequence[str]


def _records(
    target: Target, asked: _Records, at: str | None, path: Path, form: RowForm
) -> Exported:
    from jondel.core.exports.fixture import write_fixture
    from jondel.core.exports.masking import masked
    from jondel.core.exports.masking import masks as masks_of
    from jondel.core.exports.record_set import gathered, renumbered

    state: Snapshot | Database = (
        target.database if at in (None, NOW) else target.trail.find(str(at))
    )
    with target.trail.opened(state) as database:
        schema = database.schema()
        decisions = Project(target.location).link_decisions().resolved(schema)
        links = list(all_links(declared_links(schema), (), decisions))
        start = [_record(database, schema, name) for name in asked.names]
        found = gathered(database, start, links, _children(links, asked.children))
        if asked.renumber is not None:
            found = renumbered(found, asked.renumber)
        if asked.masks:
            found = masked(found, masks_of(asked.masks, schema.tables))
        for table, count in found.counts.items():
            say(f"{table}: {counted(count, 'record')}")
        return write_fixture(found, path, form, dialect_of(target.location))


def _record(database: Database, schema: Schema, words: str) -> LinkedRecord:
    name, equals, key = words.partition("=")
    table = schema.named(name)
    if table is None:
        raise TableNotFound(f"there is no table {name}")
    columns = table.primary_key or table.position_columns
    typed = key.split(",") if len(columns) > 1 else [key]
    if not equals or len(typed) != len(columns):
        raise UsageProblem(f"--record {words}: give {name}={','.join(columns).upper()}")
    values = [typed_value(text, table.column(c)) for c, text in zip(columns, typed, strict=True)]
    position = database.rows.find_position(table, columns, values)
    row = database.rows.read_record(table, position, 1 << 30) if position is not None else None
    if position is None or row is None:
        raise RecordNotFound(f"there is no record {words}")
    return LinkedRecord(table, position, row)


def _children(links: Sequence[Link], names: Sequence[str]) -> frozenset[Link]:
    """The links that are named, as in ``payments.invoice_id``; all of them by ``all``."""
    if "all" in names:
        return frozenset(links)
    found: set[Link] = set()
    for name in names:
        of = {link for link in links if name in _names_of(link)}
        if not of:
            raise UsageProblem(f"--children {name}: there is no such link; {_listed(links)}")
        found |= of
    return frozenset(found)


def _names_of(link: Link) -> tuple[str, str]:
    columns = ",".join(link.columns)
    return f"{link.child}.{columns}", f"{link.child.name}.{columns}"


def _listed(links: Sequence[Link]) -> str:
    names = sorted(_names_of(link)[0] for link in links)
    return f"there are {', '.join(names)}" if names else "there are none"


def _chosen(schema: Schema, names: Sequence[str]) -> list[Table]:
    if not names:
        return [t for t in schema.tables if t.holds_rows and not t.internal and not t.shadow_of]
    found = []
    for name in names:
        table = schema.named(name)
        if table is None:
            raise TableNotFound(f"there is no table {name}")
        found.append(table)
    return found


def _changes(target: Target, name: str, path: Path, form: RowForm, *, backward: bool) -> Exported:
    from jondel.core.exports.changes import export_changes

    trail = target.trail
    step = next((s for s in trail.steps() if s.after == trail.find(name)), None)
    if step is None or step.before is None:
        raise UsageProblem(f"--changes {name}: nothing is recorded before it")
    scope = Showing(limit=0).scope(rules_of(target.location))
    ends = (step.after, step.before) if backward else (step.before, step.after)
    with ExitStack() as stack:
        before, after = (stack.enter_context(trail.opened(end)) for end in ends)
        dialect = dialect_of(target.location)
        return export_changes(ends, (before, after), scope, path, form, dialect)
