"""The command that shows the versions of a record."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from contextlib import suppress
from typing import Any

from jondel.cli.output import tell
from jondel.cli.problems import UsageProblem
from jondel.cli.target import opened
from jondel.core.browse.display import line, safe_name
from jondel.core.engines.protocol import Database
from jondel.core.errors import (
    RecordNotFound,
    SnapshotError,
    TableNotFound,
)
from jondel.core.files.json_values import dumped
from jondel.core.formats.changes_json import address_json, cells_json, row_json
from jondel.core.formats.changes_text import WHOLE, cell_lines
from jondel.core.formats.end_json import end_json
from jondel.core.model.changes import MARKS
from jondel.core.model.schema import ROW_ID, Table
from jondel.core.model.values import StoredValue
from jondel.core.trail.history import Version, record_history
from jondel.core.trail.trail import Trail


def show_history(target: str, table: str, key: Sequence[str], lock: bool, as_json: bool) -> None:
    """Print the versions of one record over the trail."""
    with opened(target, lock=lock) as given:
        database = given.database_if_usable()
        known = _table_known(given.trail, database, table)
        columns = known.primary_key or (ROW_ID,)
        if len(key) != len(columns):
            raise UsageProblem(f"the key of {known.title} is {', '.join(columns)}; give its values")
        values = _key_values(known, columns, key)
        versions = list(
            record_history(given.trail, known.id, columns, values, database, max_bytes=WHOLE)
        )
    if not versions:
        raise RecordNotFound(
            f"{known.title}: there is no record {' · '.join(key)}, now or in any snapshot"
        )
    if as_json:
        tell(dumped({**address_json(known.id), "versions": [_version_json(v) for v in versions]}))
        return
    whole = not sys.stdout.isatty()
    for version in versions:
        for text in _version_lines(version, whole=whole):
            tell(text)


def _table_known(trail: Trail, database: Database | None, name: str) -> Table:
    """The table as it is now, or as the latest snapshot has it that knows it."""
    if database is not None:
        table = database.schema().named(name)
        if table is not None:
            return table
    for snapshot in reversed(trail.snapshots()):
        with suppress(SnapshotError), trail.opened(snapshot) as state:
            table = state.schema().named(name)
            if table is not None:
                return table
    raise TableNotFound(f"no table {name!r}, now or in any snapshot; check its name")


def _key_values(
    table: Table, columns: Sequence[str], words: Sequence[str]
) -> tuple[StoredValue, ...]:
    """Give the words of a key the storage class that the table's column gives them."""
    values: list[StoredValue] = []
    for name, word in zip(columns, words, strict=True):
        column = table.column(name)
        text = column is not None and column.type.kind == "text"
        number = word.lstrip("-").isdecimal() and not text
        values.append(int(word) if number else word)
    return tuple(values)


def _version_json(version: Version) -> dict[str, Any]:
    entry: dict[str, Any] = {
        "step": end_json(version.snapshot) if version.snapshot else {"now": True},
        "kind": version.kind or "start",
    }
    if version.problem:
        entry["problem"] = version.problem
    elif version.kind == "changed":
        entry["cells"] = cells_json(version.cells)
    elif version.row is not None:
        entry["row"] = row_json(version.columns, version.row)
    return entry


def _version_lines(version: Version, *, whole: bool) -> list[str]:
    name = version.snapshot.id if version.snapshot else "now"
    title = version.snapshot.title if version.snapshot else "since the last snapshot"
    mark = MARKS[version.kind] if version.kind else " "
    head = f"{name:<5} {mark} {line(title, 40)}"
    if version.problem:
        return [f"{head}  {line(version.problem, 200)}"]
    if version.kind == "changed":
        lines = [head]
        for cell in version.cells:
            name = safe_name(cell.column)
            for text in cell_lines(cell, whole=whole):
                lines.append(f"        {name}  {text}")
                name = " " * len(name)
        return lines
    if version.row is None:
        return [head]
    cells = zip(version.columns, version.row, strict=True)
    limit = WHOLE if whole else 60
    return [head, *(f"        {safe_name(c)}  {line(v, limit)}" for c, v in cells)]
