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
from jondel.core.mirror.layout import encoded
from jondel.core.model.schema import Table
from jondel.core.model.values import Clipped


def export_plainly(state: Database, path: Path, go_on: Callable[[], None]) -> None:
    """Write the tables of a state, exact values as their text, to a file that is not there yet.

    ``go_on`` is called again and again, and may raise what is to stop it.

    Raises:
        TargetUnavailable: something is there, or it cannot be written.
    """
    if path.exists():
        raise TargetUnavailable(f"{path}: there is a file already; give another name")
    tables = [table for table in state.schema().tables if table.is_mirrored]
    last = Counter(table.name.casefold() for table in tables)
    try:
        with unfinished_beside(path, mode=0o600) as (_, unfinished):
            with closing(apsw.Connection(str(unfinished))) as connection, connection:
                for table in tables:
                    alone = last[table.name.casefold()] == 1
                    _write(connection, state, table, table.name if alone else str(table.id), go_on)
            unfinished.rename(path)
    except apsw.Error as error:
        raise TargetUnavailable(f"{path}: cannot be written ({error})") from error
    except OSError as error:
        raise TargetUnavailable(f"{path}: cannot be written ({error.strerror})") from error


def _write(
    connection: apsw.Connection, state: Database, table: Table, name: str, go_on: Callable[[], None]
) -> None:
    columns = [quoted(column.name) for column in table.columns]
    key = f", PRIMARY KEY ({quoted_list(table.primary_key)})" if table.primary_key else ""
    connection.execute(f"CREATE TABLE {quoted(name)}({', '.join(columns) or 'nothing'}{key})")
    if not columns:
        return
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
