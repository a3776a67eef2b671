"""The tape: what was asked of a database, and what came of it, from one day to the next.

    JONDEL_HOME/tapes/<database>/
      tape.db         the entries
      results/N.db    the rows of entry N, see ``results``
      results/N.json  what it would change, see ``kept_changes``

Old entries that nobody pinned go when there are too many; rows go before their entries do.
"""

from __future__ import annotations

import json
import zlib
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Literal, NamedTuple, TypeAlias, cast

import apsw

from jondel.core.errors import StoreUnavailable
from jondel.core.files.home import as_text, jondel_home, private_folder
from jondel.core.files.json_values import json_value, value_from_json
from jondel.core.model.outcomes import Fate, Outcome, StatementError
from jondel.core.model.values import StoredValue, identical

_FORMAT = 1
_BUSY_TIMEOUT_MS = 5_000
_MOST_ENTRIES = 2_000
_MOST_RESULT_BYTES = 512 << 20

How: TypeAlias = Literal["read", "rehearsed", "written"]

_TABLE = """
CREATE TABLE IF NOT EXISTS entry(
    number INTEGER PRIMARY KEY AUTOINCREMENT,
    asked_at TEXT NOT NULL,
    run INTEGER NOT NULL,
    sql TEXT NOT NULL,
    moment TEXT NOT NULL,
    how TEXT NOT NULL,
    fate TEXT NOT NULL,
    seconds REAL NOT NULL,
    affected INTEGER,
    error TEXT,
    error_at INTEGER,
    row_count INTEGER,
    complete INTEGER NOT NULL DEFAULT 1,
    step INTEGER,
    pinned INTEGER NOT NULL DEFAULT 0,
    parameters TEXT NOT NULL DEFAULT '{}',
    summary TEXT NOT NULL DEFAULT '',
    notes TEXT NOT NULL DEFAULT ''
)
"""
_COLUMNS = (
    "number, asked_at, run, sql, moment, how, fate, seconds, affected, error, error_at, row_count, "
    "complete, step, pinned, parameters, summary, notes"
)


class Entry(NamedTuple):
    """A statement and what it came to.

    ``run`` is the number of the first entry of those that were run in one go. ``moment`` is the
    step that it was asked of, as in ``s3``; empty for now. ``rows`` is how many there are, None
    where it gives none; not ``complete`` where a limit cut them short. ``summary`` is how much it
    changed, or would have, as in ``+1 ~2``.
    """

    number: int
    asked_at: datetime
    run: int
    sql: str
    moment: str
    how: How
    fate: Fate
    seconds: float
    affected: int | None = None
    error: StatementError | None = None
    rows: int | None = None
    complete: bool = True
    step: int | None = None
    pinned: bool = False
    parameters: Mapping[str, StoredValue] = {}
    summary: str = ""
    notes: str = ""


class Tape:
    """The tape of the database at a location. One thread at a time may use it."""

    def __init__(self, location: str, home: Path | None = None) -> None:
        text = as_text(location).encode()
        name = f"{zlib.crc32(text):08x}{zlib.adler32(text):08x}"
        self._folder = (home or jondel_home()) / "tapes" / name
        self._connection: apsw.Connection | None = None

    def close(self) -> None:
        """Let go of it."""
        if self._connection is not None:
            self._connection.close()
            self._connection = None

    @contextmanager
    def opened(self) -> Iterator[Tape]:
        """The tape, let go of when the block ends."""
        try:
            yield self
        finally:
            self.close()

    def result_path(self, number: int) -> Path:
        """Where the rows of an entry are kept."""
        return self._folder / "results" / f"{number}.db"

    def changes_path(self, number: int) -> Path:
        """Where it is kept what an entry would change."""
        return self.result_path(number).with_suffix(".json")

    def entries(self, most: int | None = None, before: int | None = None) -> list[Entry]:
        """The latest entries, oldest first; those before one, where that is given."""
        where, values = ("WHERE number < ?", [before]) if before is not None else ("", [])
        with self._used() as connection:
            rows = connection.execute(
                f"SELECT {_COLUMNS} FROM entry {where} ORDER BY number DESC LIMIT ?",
                (*values, -1 if most is None else most),
            ).fetchall()
        return [_entry(row) for row in reversed(rows)]

    def entry(self, number: int) -> Entry | None:
        """One entry."""
        with self._used() as connection:
            rows = connection.execute(
                f"SELECT {_COLUMNS} FROM entry WHERE number = ?", (number,)
            ).fetchall()
        return _entry(rows[0]) if rows else None

    def add(
        self,
        outcome: Outcome,
        *,
        run: int | None,
        moment: str,
        how: How,
        parameters: Mapping[str, StoredValue],
        rows: int | None = None,
        complete: bool = True,
        step: int | None = None,
        summary: str = "",
        notes: Sequence[str] = (),
    ) -> Entry:
        """Add an entry; its rows, where it has any, are put at its ``result_path`` by the caller.

        ``run``: see ``Entry``; None where it is the first.
        """
        error = outcome.error
        kept = json.dumps({name: json_value(value) for name, value in parameters.items()})
        with self._used() as connection, connection:
            connection.execute(
                "INSERT INTO entry(asked_at, run, sql, moment, how, fate, seconds, affected, "
                "error, error_at, row_count, complete, step, parameters, summary, notes) "
                "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (
                    datetime.now(UTC).isoformat(),
                    run or 0,
                    outcome.text,
                    moment,
                    how,
                    outcome.fate,
                    outcome.seconds,
                    outcome.affected,
                    error.message if error is not None else None,
                    error.at if error is not None else None,
                    rows,
                    int(complete),
                    step,
                    kept,
                    summary,
                    "\n".join(notes),
                ),
            )
            number = connection.last_insert_rowid()
            if run is None:
                connection.execute("UPDATE entry SET run = ? WHERE number = ?", (number, number))
        self._make_room()
        entry = self.entry(number)
        assert entry is not None, "it was just added"
        return entry

    def change(self, number: int, **values: Any) -> None:
        """Change some of an entry: how, step, pinned, summary, fate, rows, complete."""
        names = {"rows": "row_count"}
        sets = ", ".join(f"{names.get(name, name)} = ?" for name in values)
        with self._used() as connection:
            connection.execute(
                f"UPDATE entry SET {sets} WHERE number = ?", (*values.values(), number)
            )

    def delete(self, number: int) -> None:
        """Remove an entry with its rows."""
        with self._used() as connection:
            connection.execute("DELETE FROM entry WHERE number = ?", (number,))
        for path in (self.result_path(number), self.changes_path(number)):
            with suppress(OSError):
                path.unlink()

    def earlier_values(self) -> dict[str, list[StoredValue]]:
        """The values that each parameter had, the latest first, each once."""
        found: dict[str, list[StoredValue]] = {}
        with self._used() as connection:
            rows = connection.execute(
                "SELECT parameters FROM entry WHERE parameters <> '{}' ORDER BY number DESC"
            ).fetchall()
        for (kept,) in rows[:_MOST_ENTRIES]:
            for name, value in _parameters(str(kept)).items():
                known = found.setdefault(name, [])
                if not any(identical(value, other) for other in known):
                    known.append(value)
        return found

    def _make_room(self) -> None:
        with self._used() as connection:
            surplus = connection.execute(
                "SELECT number FROM entry WHERE NOT pinned ORDER BY number DESC LIMIT -1 OFFSET ?",
                (_MOST_ENTRIES,),
            ).fetchall()
            pinned = {number for (number,) in connection.execute(
                "SELECT number FROM entry WHERE pinned")}  # fmt: skip
        for (number,) in surplus:
            self.delete(cast(int, number))
        with suppress(OSError):
            files = sorted(
                ((path, path.stat().st_size) for path in self._folder.glob("results/*.*")
                 if path.stem.isdecimal() and int(path.stem) not in pinned),
                key=lambda file: -int(file[0].stem),
            )  # fmt: skip
            total = 0
            for place, (path, size) in enumerate(files):
                total += size
                if total > _MOST_RESULT_BYTES and place:
                    path.unlink()

    @contextmanager
    def _used(self) -> Iterator[apsw.Connection]:
        try:
            if self._connection is None:
                self._connection = self._opened()
            yield self._connection
        except apsw.Error as error:
            raise StoreUnavailable(f"{self._folder}: the tape cannot be used ({error})") from error

    def _opened(self) -> apsw.Connection:
        private_folder(self._folder)
        path = self._folder / "tape.db"
        with suppress(OSError):
            path.touch(mode=0o600)
        connection = apsw.Connection(str(path))
        try:
            connection.set_busy_timeout(_BUSY_TIMEOUT_MS)
            version = connection.pragma("user_version")
            if version not in (0, _FORMAT):
                raise StoreUnavailable(f"{path}: it is of a later Jondel; update this one")
            if not version:
                connection.execute(_TABLE)
                connection.pragma("user_version", _FORMAT)
        except BaseException:
            connection.close()
            raise
        return connection


def _entry(row: tuple[Any, ...]) -> Entry:
    number, asked_at, run, sql, moment, how, fate, seconds, affected, error, at, *rest = row
    rows, complete, step, pinned, parameters, summary, notes = rest
    return Entry(
        number,
        datetime.fromisoformat(asked_at),
        run,
        sql,
        moment,
        how,
        fate,
        seconds,
        affected,
        StatementError(error, at) if error is not None else None,
        rows,
        bool(complete),
        step,
        bool(pinned),
        _parameters(parameters),
        summary,
        notes,
    )


def _parameters(kept: str) -> dict[str, StoredValue]:
    try:
        return {name: value_from_json(plain) for name, plain in json.loads(kept).items()}
    except (ValueError, AttributeError, RecursionError):
        return {}
