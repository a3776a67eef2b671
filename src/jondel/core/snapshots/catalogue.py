"""The store's catalogue: which databases there are trails for, and the snapshots of each.

It is a small SQLite database in Jondel's own folder; several Jondel processes may use it at once.
"""

from __future__ import annotations

import os
from collections.abc import Collection, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from itertools import pairwise
from pathlib import Path
from typing import Any, Literal, NamedTuple, TypeAlias

import apsw

from jondel.core.errors import LabelTaken, StoreUnavailable
from jondel.core.keeping.home import private_folder
from jondel.core.model.changes import ChangeCounts, ChangeSummary

TriggerKind: TypeAlias = Literal["by hand", "command", "action", "watch", "restore", "draft"]

_FORMAT = 2
_BUSY_TIMEOUT_MS = 10_000
_SCHEMA = """
CREATE TABLE database(
    id INTEGER PRIMARY KEY,
    location TEXT NOT NULL UNIQUE,
    last_number INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE TABLE snapshot(
    database_id INTEGER NOT NULL REFERENCES database(id),
    number INTEGER NOT NULL,
    label TEXT,
    taken_at TEXT NOT NULL,
    trigger_kind TEXT NOT NULL,
    trigger_text TEXT NOT NULL,
    image TEXT NOT NULL,
    note TEXT NOT NULL DEFAULT '',
    pinned INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (database_id, number),
    UNIQUE (database_id, label)
) STRICT;
CREATE TABLE table_summary(
    database_id INTEGER NOT NULL,
    number INTEGER NOT NULL,
    table_name TEXT NOT NULL,
    added INTEGER NOT NULL,
    changed INTEGER NOT NULL,
    removed INTEGER NOT NULL,
    PRIMARY KEY (database_id, number, table_name)
) STRICT;
CREATE TABLE step_summary(
    database_id INTEGER NOT NULL,
    number INTEGER NOT NULL,
    schema_changes INTEGER NOT NULL,
    rules TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (database_id, number)
) STRICT;
"""

_MIGRATIONS = {
    1: """
ALTER TABLE database ADD COLUMN last_number INTEGER NOT NULL DEFAULT 0;
ALTER TABLE snapshot ADD COLUMN note TEXT NOT NULL DEFAULT '';
ALTER TABLE snapshot ADD COLUMN pinned INTEGER NOT NULL DEFAULT 0;
ALTER TABLE step_summary ADD COLUMN rules TEXT NOT NULL DEFAULT '';
UPDATE database SET last_number = (
    SELECT coalesce(max(number), 0) FROM snapshot WHERE database_id = database.id
);
""",
}
"""What makes the next format of each."""
_OF_LOCATION = "(SELECT id FROM database WHERE location = ?)"
_COLUMNS = "number, label, taken_at, trigger_kind, trigger_text, image, note, pinned"


class Trigger(NamedTuple):
    """What made a snapshot be taken, and in which words to say it."""

    kind: TriggerKind = "by hand"
    text: str = ""


class Snapshot(NamedTuple):
    """One recorded state of a database; ``number`` counts from 1 within its trail."""

    number: int
    label: str | None
    taken_at: datetime
    trigger: Trigger
    image: str
    note: str = ""
    pinned: bool = False

    @property
    def protected(self) -> bool:
        """Whether it goes only when somebody asks for just that."""
        return self.label is not None or self.pinned

    @property
    def id(self) -> str:
        """The name it always goes by, as in ``s3``."""
        return f"s{self.number}"

    @property
    def title(self) -> str:
        """What to call it: its label, else what triggered it, else its id."""
        return self.label or self.trigger.text or self.id


class Catalogue:
    """The catalogue in a folder, for one database location."""

    def __init__(self, folder: Path, location: str) -> None:
        self._path = private_folder(folder) / "catalogue.db"
        self._location = location
        with self._translated():
            self._connection = self._opened()
            self._connection.set_busy_timeout(_BUSY_TIMEOUT_MS)
            self._prepare()

    def _opened(self) -> apsw.Connection:
        previous = os.umask(0o077)
        try:
            return apsw.Connection(str(self._path))
        finally:
            os.umask(previous)

    def _prepare(self) -> None:
        if self._format() == 0:
            with self._writing():
                if self._format() == 0:  # not made meanwhile by another process
                    self._connection.execute(_SCHEMA)
                    self._connection.execute(f"PRAGMA user_version={_FORMAT}")
        while self._format() in _MIGRATIONS:
            with self._writing():
                found = self._format()  # another process may have been quicker
                if found in _MIGRATIONS:
                    self._connection.execute(_MIGRATIONS[found])
                    self._connection.execute(f"PRAGMA user_version={found + 1}")
        if self._format() != _FORMAT:
            raise StoreUnavailable(
                f"{self._path}: written by a newer Jondel (format {self._format()}); "
                "use that one, or set JONDEL_HOME to another folder"
            )

    def _format(self) -> int:
        return int(self._connection.execute("PRAGMA user_version").get)

    def close(self) -> None:
        self._connection.close()

    def snapshots(self) -> list[Snapshot]:
        """All snapshots, oldest first."""
        with self._translated():
            rows: list[tuple[Any, ...]] = self._connection.execute(
                f"SELECT {_COLUMNS} FROM snapshot "
                "JOIN database ON id = database_id WHERE location = ? ORDER BY number",
                (self._location,),
            ).fetchall()
        return [_snapshot(*row) for row in rows]

    def add(self, label: str | None, trigger: Trigger, image: str) -> Snapshot:
        """Record a snapshot whose image is in place.

        Raises:
            LabelTaken: an earlier snapshot has the label; the message names it.
        """
        taken_at = datetime.now(UTC)
        with self._translated(), self._writing():
            run = self._connection.execute
            run("INSERT OR IGNORE INTO database(location) VALUES (?)", (self._location,))
            of = run("SELECT id FROM database WHERE location = ?", (self._location,)).get
            # Numbers are never used again, so that an id means one snapshot for good.
            run("UPDATE database SET last_number = last_number + 1 WHERE id = ?", (of,))
            number = run("SELECT last_number FROM database WHERE id = ?", (of,)).get
            self.require_free(label)
            row = (of, number, label, taken_at.isoformat(), trigger.kind, trigger.text, image)
            run(
                "INSERT INTO snapshot(database_id, number, label, taken_at, trigger_kind, "
                "trigger_text, image) VALUES (?, ?, ?, ?, ?, ?, ?)",
                row,
            )
        return Snapshot(number, label, taken_at, trigger, image)

    def require_free(self, label: str | None) -> None:
        """Raise ``LabelTaken`` if a snapshot has the label."""
        holder = next((s for s in self.snapshots() if label and s.label == label), None)
        if holder is not None:
            when = holder.taken_at.astimezone().strftime("%Y-%m-%d %H:%M:%S")
            raise LabelTaken(
                f"{label!r} is the label of snapshot {holder.id} of {when}; choose another label"
            )

    def summaries(self, rules: str = "") -> dict[int, ChangeSummary]:
        """The sizes of steps' changes known so far, by the number of the snapshot after them.

        ``rules`` are the noise rules in force: sizes found with others do not count.
        """
        with self._translated():
            steps: list[tuple[Any, ...]] = self._connection.execute(
                "SELECT number, schema_changes FROM step_summary "
                "JOIN database ON id = database_id WHERE location = ? AND rules = ?",
                (self._location, rules),
            ).fetchall()
            tables: list[tuple[Any, ...]] = self._connection.execute(
                "SELECT number, table_name, added, changed, removed FROM table_summary "
                "JOIN database ON id = database_id WHERE location = ? "
                "ORDER BY number, table_name",
                (self._location,),
            ).fetchall()
        found = {number: ChangeSummary({}, schema_changes) for number, schema_changes in steps}
        for number, table, *counts in tables:
            if number in found:
                found[number].tables[table] = ChangeCounts(*counts)
        return found

    def keep_summary(self, number: int, summary: ChangeSummary, rules: str = "") -> None:
        """Remember the size of the changes that led to a snapshot, under these noise rules."""
        with self._translated(), self._writing():
            run = self._connection.execute
            of = run("SELECT id FROM database WHERE location = ?", (self._location,)).get
            run(
                "INSERT OR REPLACE INTO step_summary(database_id, number, schema_changes, rules) "
                "VALUES (?, ?, ?, ?)",
                (of, number, summary.schema_changes, rules),
            )
            run("DELETE FROM table_summary WHERE database_id = ? AND number = ?", (of, number))
            for table, counts in summary.tables.items():
                run(
                    "INSERT INTO table_summary VALUES (?, ?, ?, ?, ?, ?)",
                    (of, number, table, counts.added, counts.changed, counts.removed),
                )

    def rename(self, number: int, label: str | None) -> None:
        """Give a snapshot a label, another one, or none. Raises ``LabelTaken``."""
        with self._translated(), self._writing():
            if label not in {s.label for s in self.snapshots() if s.number == number}:
                self.require_free(label)
            self._set(number, "label", label)

    def annotate(self, number: int, note: str) -> None:
        """Keep a text with a snapshot; empty for none."""
        with self._translated(), self._writing():
            self._set(number, "note", note)

    def pin(self, number: int, pinned: bool) -> None:
        with self._translated(), self._writing():
            self._set(number, "pinned", int(pinned))

    def _set(self, number: int, column: str, value: str | int | None) -> None:
        self._connection.execute(
            f"UPDATE snapshot SET {column} = ? WHERE number = ? AND database_id = {_OF_LOCATION}",
            (value, number, self._location),
        )

    def remove(self, numbers: Collection[int]) -> None:
        """Remove snapshots, and what is known of the steps they begin or end."""
        with self._translated(), self._writing():
            known = [snapshot.number for snapshot in self.snapshots()]
            ends = {after for before, after in pairwise(known) if before in numbers}
            for table, gone in (
                ("snapshot", set(numbers)),
                ("table_summary", ends | set(numbers)),
                ("step_summary", ends | set(numbers)),
            ):
                self._connection.executemany(
                    f"DELETE FROM {table} WHERE number = ? AND database_id = {_OF_LOCATION}",
                    [(number, self._location) for number in gone],
                )

    def locations(self) -> list[str]:
        """All databases that something is recorded of."""
        with self._translated():
            return [
                location
                for (location,) in self._connection.execute(
                    "SELECT location FROM database WHERE id IN (SELECT database_id FROM snapshot) "
                    "ORDER BY location"
                )
            ]

    def forget(self) -> None:
        """Remove everything recorded for the location; numbers begin at 1 again."""
        self.remove([snapshot.number for snapshot in self.snapshots()])
        with self._translated(), self._writing():
            self._connection.execute(
                "UPDATE database SET last_number = 0 WHERE location = ?", (self._location,)
            )

    @contextmanager
    def _writing(self) -> Iterator[None]:
        self._connection.execute("BEGIN IMMEDIATE")
        try:
            yield
        except BaseException:
            self._connection.execute("ROLLBACK")
            raise
        self._connection.execute("COMMIT")

    @contextmanager
    def _translated(self) -> Iterator[None]:
        try:
            yield
        except apsw.Error as error:
            raise StoreUnavailable(
                f"{self._path}: the catalogue of snapshots cannot be used ({error}); "
                "check the folder, or set JONDEL_HOME to another"
            ) from error


def _snapshot(
    number: int,
    label: str | None,
    taken_at: str,
    kind: TriggerKind,
    text: str,
    image: str,
    note: str,
    pinned: int,
) -> Snapshot:
    moment = datetime.fromisoformat(taken_at)
    return Snapshot(number, label, moment, Trigger(kind, text), image, note, bool(pinned))
