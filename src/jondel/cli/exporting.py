"""The command that writes tables and changes to files."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack
from pathlib import Path

from jondel.cli.output import counted, say
from jondel.cli.problems import UsageProblem
from jondel.cli.showing import Showing, rules_of
from jondel.cli.target import Target, opened
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import dialect_of
from jondel.core.errors import TableNotFound
from jondel.core.exports.tables import Exported, TableExport, export_tables
from jondel.core.formats.row_writers import RowForm, form_of_name
from jondel.core.model.schema import Schema, Table
from jondel.core.snapshots.catalogue import Snapshot
from jondel.core.trail.trail import NOW


def export(
    target: str,
    tables: Sequence[str],
    output: str,
    form: str | None,
    at: str | None,
    changes: str | None,
    with_table: bool,
    lock: bool,
) -> int:
    """Write tables, or the changes of a step, to a file."""
    path = Path(output).expanduser()
    wanted: RowForm = form or form_of_name(output) or "csv"  # type: ignore[assignment]
    with opened(target, lock=lock, logged=False) as found:
        if changes is not None:
            if tables or at is not None:
                raise UsageProblem("--changes is of all tables between two snapshots")
            done, what = _changes(found, changes, path, wanted), "record"
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


def _changes(target: Target, name: str, path: Path, form: RowForm) -> Exported:
    from jondel.core.exports.changes import export_changes

    trail = target.trail
    step = next((s for s in trail.steps() if s.after == trail.find(name)), None)
    if step is None or step.before is None:
        raise UsageProblem(f"--changes {name}: nothing is recorded before it")
    scope = Showing(limit=0).scope(rules_of(target.location))
    ends = (step.before, step.after)
    with ExitStack() as stack:
        before, after = (stack.enter_context(trail.opened(end)) for end in ends)
        dialect = dialect_of(target.location)
        return export_changes(ends, (before, after), scope, path, form, dialect)
