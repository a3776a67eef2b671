"""Writes a state of a mirror out as a plain SQLite database, which any program can read."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import apsw

from jondel.core.engines.protocol import Database
from jondel.core.engines.sqlite.sql_text import parameter_of, quoted, quoted_list
from jondel.core.errors import TargetUnavailable
from jondel.core.files.replacement import unfinished_beside
from jondel.core.mirror.layout import Layout, MirrorTable, encoded
from jondel.core.model.values import Clipped


def export_plainly(state: Database, path: Path, go_on: Callable[[], None]) -> None:
    """Write the tables of a state, exact values as their text, to a file that is not there yet.

    ``go_on`` is called again and again, and may raise what is to stop it.

    Raises:
        TargetUnavailable: something is there, or it cannot be written.
    """
    if path.exists():
        raise TargetUnavailable(f"{path}: there is a file already; give another name")
    tables = Layout(state.schema()).tables.values()
    last = Counter(kept.table.name.casefold() for kept in tables)
    try:
        with unfinished_beside(path, mode=0o600) as (_, unfinished):
            with closing(apsw.Connection(str(unfinished))) as connection, connection:
                for kept in tables:
                    alone = last[kept.table.name.casefold()] == 1
                    name = kept.table.name if alone else kept.name
                    _write(connection, state, kept, name, go_on)
            unfinished.rename(path)
    except apsw.Error as error:
        raise TargetUnavailable(f"{path}: cannot be written ({error})") from error
    except OSError as error:
        raise TargetUnavailable(f"{path}: cannot be written ({error.strerror})") from error


def _write(
    connection: apsw.Connection,
    state: Database,
    kept: MirrorTable,
    name: str,
    go_on: Callable[[], None],
) -> None:
    table, columns = kept.table, [quoted(column) for column in kept.columns]
    members = quoted_list(map(kept.stored_name, table.primary_key))
    key = f", PRIMARY KEY ({members})" if members else ""
    connection.execute(f"CREATE TABLE {quoted(name)}({', '.join(columns)}{key})")
    insert = f"INSERT INTO {quoted(name)} VALUES ({', '.join('?' * len(columns))})"
    names = table.column_names
    for batch in state.scanner.stream_rows(table, names, table.primary_key or names):
        go_on()
        connection.executemany(
            insert,
            [
                [parameter_of(encoded(v)) for v in row if not isinstance(v, Clipped)]
                for row in batch
            ],
        )
