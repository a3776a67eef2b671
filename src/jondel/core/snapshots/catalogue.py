"""The store's catalogue: which databases there are trails for, and the snapshots of each.

It is a small SQLite database in Jondel's own folder; several Jondel processes may use it at once.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Collection, Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from itertools import chain, count, pairwise
from pathlib import Path
from typing import Any, Literal, NamedTuple, TypeAlias

import apsw

from jondel.core.errors import LabelTaken, StoreUnavailable
from jondel.core.files.home import as_text, private_folder
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import ChangeCounts, ChangeSummary

TriggerKind: TypeAlias = Literal[
    "by hand", "command", "action", "watch", "restore", "draft", "query"
]

_FORMAT = 5
_BUSY_TIMEOUT_MS = 10_000
_SCHEMA = """
CREATE TABLE database(
    id INTEGER PRIMARY KEY,
    location TEXT NOT NULL UNIQUE,
    last_number INTEGER NOT NULL DEFAULT 0,
    shelf TEXT,
    device INTEGER,
    inode INTEGER
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
_RUNS_SCHEMA = """
CREATE TABLE IF NOT EXISTS action_run(
    id INTEGER PRIMARY KEY,
    database_id INTEGER NOT NULL REFERENCES database(id),
    number INTEGER,
    action TEXT NOT NULL,
    began_at TEXT NOT NULL,
    ended_at TEXT NOT NULL,
    seconds REAL NOT NULL,
    status INTEGER,
    said TEXT NOT NULL,
    output TEXT NOT NULL,
    failure TEXT NOT NULL,
    verdict TEXT NOT NULL
) STRICT;
CREATE INDEX IF NOT EXISTS action_run_by_database ON action_run(database_id, id);
CREATE TABLE IF NOT EXISTS step_commits(
    database_id INTEGER NOT NULL REFERENCES database(id),
    number INTEGER NOT NULL,
    transactions INTEGER,
    exact INTEGER NOT NULL,
    detail TEXT NOT NULL,
    PRIMARY KEY (database_id, number)
) STRICT;
CREATE TABLE IF NOT EXISTS step_commit_image(
    database_id INTEGER NOT NULL REFERENCES database(id),
    number INTEGER NOT NULL,
    place INTEGER NOT NULL,
    image TEXT NOT NULL,
    PRIMARY KEY (database_id, number, place)
) STRICT;
"""
"""What is known of steps beside their changes: the actions that made them, their transactions."""
_SCHEMA += _RUNS_SCHEMA

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
    2: """
ALTER TABLE database ADD COLUMN shelf TEXT;
ALTER TABLE database ADD COLUMN device INTEGER;
ALTER TABLE database ADD COLUMN inode INTEGER;
""",
    # Tables were called by their names alone; see ``TableId.spelled``.
    3: """
UPDATE table_summary SET table_name = '"' || replace(table_name, '"', '""') || '"'
WHERE instr(table_name, '.') OR instr(table_name, '"') OR table_name = '';
""",
    4: _RUNS_SCHEMA,
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

    @property
    def short_title(self) -> str:
        """The title where there is little room: a word for what was taken by itself."""
        kind, text = self.trigger
        if self.label or not text:
            return self.title
        if text.startswith("before "):
            return "before"
        return {"draft": "draft", "watch": "watch"}.get(kind, text)

    @property
    def by_itself(self) -> bool:
        """Whether nobody asked for it, or gave it a name since."""
        automatic = self.trigger.kind in ("watch", "draft", "restore")
        return not self.protected and (automatic or self.trigger.text.startswith("before "))


class Catalogue:
    """The catalogue in a folder, for one database location."""

    def __init__(self, folder: Path, location: str) -> None:
        self._folder = folder
        self._path = folder / "catalogue.db"
        self._location = as_text(location)
        self._opened_connection: apsw.Connection | None = None
        self.lasting = True
        """Whether what is written is to survive a crash; to be said before it is opened."""
        with self._translated():
            if self._path.exists():
                self._open()

    @property
    def writable(self) -> bool:
        """Whether something can be recorded."""
        return os.access(self._folder if self._folder.exists() else self._folder.parent, os.W_OK)

    @property
    def _connection(self) -> apsw.Connection:
        """The catalogue, made if there is none yet."""
        if self._opened_connection is None:
            private_folder(self._folder)
            self._open()
        assert self._opened_connection is not None
        return self._opened_connection

    def read(self, sql: str, *values: str | int) -> list[tuple[Any, ...]]:
        """What a statement returns, the location being ``?1``; nothing without a catalogue.

        Raises:
            StoreUnavailable: the catalogue cannot be used.
        """
        with self._translated():
            return self._rows(sql, self._location, *values)

    @contextmanager
    def writing(self) -> Iterator[tuple[apsw.Connection, int]]:
        """A transaction in the catalogue, and the number of the database in it.

        Raises:
            StoreUnavailable: the catalogue cannot be written to, or the database is not in it.
        """
        with self._translated(), self._writing():
            of = self._connection.execute(f"SELECT {_OF_LOCATION}", (self._location,)).get
            if of is None:
                raise StoreUnavailable(f"nothing is recorded of {self._location}")
            yield self._connection, of

    def _rows(self, sql: str, *values: str | int) -> list[tuple[Any, ...]]:
        """What a statement returns; nothing where there is no catalogue yet."""
        if self._opened_connection is None and self._path.exists():
            self._open()  # somebody has made it meanwhile
        if self._opened_connection is None:
            return []
        rows: list[tuple[Any, ...]] = self._opened_connection.execute(sql, values).fetchall()
        return rows

    def _open(self) -> None:
        writable = os.access(self._folder, os.W_OK)
        flags = apsw.SQLITE_OPEN_READWRITE | apsw.SQLITE_OPEN_CREATE
        previous = os.umask(0o077)
        try:
            self._opened_connection = apsw.Connection(
                str(self._path), flags=flags if writable else apsw.SQLITE_OPEN_READONLY
            )
        finally:
            os.umask(previous)
        self._opened_connection.set_busy_timeout(_BUSY_TIMEOUT_MS)
        if not self.lasting:
            self._opened_connection.execute("PRAGMA synchronous=OFF; PRAGMA journal_mode=MEMORY")
        self._prepare()

    def _prepare(self) -> None:
        if self._format() == 0:
            with self._writing():
                if self._format() == 0:  # not made meanwhile by another process
                    self._connection.execute(_SCHEMA)
                    self._connection.execute(f"PRAGMA user_version={_FORMAT}")
        while self._format() in _MIGRATIONS:
            with self._writing():
                format = self._format()  # another process may have been quicker
                if format in _MIGRATIONS:
                    self._connection.execute(_MIGRATIONS[format])
                    self._connection.execute(f"PRAGMA user_version={format + 1}")
        if self._format() != _FORMAT:
            raise StoreUnavailable(
                f"{self._path}: written by a newer Jondel (format {self._format()}); "
                "use that one, or set JONDEL_HOME to another folder"
            )

    def _format(self) -> int:
        return int(self._connection.execute("PRAGMA user_version").get)

    def close(self) -> None:
        if self._opened_connection is not None:
            self._opened_connection.close()

    def snapshots(self) -> list[Snapshot]:
        """All snapshots, oldest first."""
        with self._translated():
            rows = self._rows(
                f"SELECT {_COLUMNS} FROM snapshot "
                "JOIN database ON id = database_id WHERE location = ? ORDER BY number",
                self._location,
            )
        return [_snapshot(*row) for row in rows]

    def find(self, condition: str, value: str | int) -> Snapshot | None:
        """The first snapshot that meets an SQL condition with one value."""
        return self._one(f"AND {condition} ORDER BY number", value)

    def last(self) -> Snapshot | None:
        """The snapshot taken last."""
        return self._one("ORDER BY number DESC")

    def _one(self, how: str, *values: str | int) -> Snapshot | None:
        with self._translated():
            rows = self._rows(
                f"SELECT {_COLUMNS} FROM snapshot WHERE database_id = {_OF_LOCATION} {how} LIMIT 1",
                self._location,
                *values,
            )
        return _snapshot(*rows[0]) if rows else None

    def add(self, label: str | None, trigger: Trigger, image: str) -> Snapshot:
        """Record a snapshot whose image is in place.

        Raises:
            LabelTaken: an earlier snapshot has the label; the message names it.
        """
        taken_at = datetime.now(UTC)
        with self._translated(), self._writing():
            run = self._connection.execute
            run(
                "INSERT OR IGNORE INTO database(location, shelf) VALUES (?, ?)",
                (self._location, self.shelf_name()),
            )
            of = run("SELECT id FROM database WHERE location = ?", (self._location,)).get
            with suppress(OSError, ValueError):  # by which it is known if it is renamed
                info = os.stat(self._location)
                run("UPDATE database SET device = ?, inode = ? WHERE id = ?",
                    (as_signed(info.st_dev), as_signed(info.st_ino), of))  # fmt: skip
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
        if label is None:
            return
        holder = self.find("label = ?", label)
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
            steps = self._rows(
                "SELECT number, schema_changes FROM step_summary "
                "JOIN database ON id = database_id WHERE location = ? AND rules = ?",
                self._location,
                rules,
            )
            tables = self._rows(
                "SELECT number, table_name, added, changed, removed FROM table_summary "
                "JOIN database ON id = database_id WHERE location = ? "
                "ORDER BY number, table_name",
                self._location,
            )
        summaries = {number: ChangeSummary({}, schema_changes) for number, schema_changes in steps}
        for number, table, *counts in tables:
            if number in summaries:
                summaries[number].tables[TableId.parsed(table)] = ChangeCounts(*counts)
        return summaries

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
                    (of, number, table.spelled, counts.added, counts.changed, counts.removed),
                )

    def rename(self, number: int, label: str | None) -> None:
        """Give a snapshot a label, another one, or none. Raises ``LabelTaken``."""
        with self._translated(), self._writing():
            current = self.find("number = ?", number)
            if current is None or current.label != label:
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
            of = self._connection.execute(f"SELECT {_OF_LOCATION}", (self._location,)).get
            gone_numbers = set(numbers)
            known = [snapshot.number for snapshot in self.snapshots()]
            ends = {after for before, after in pairwise(known) if before in gone_numbers}
            for table, gone in (
                ("snapshot", set(numbers)),
                ("table_summary", ends | set(numbers)),
                ("step_summary", ends | set(numbers)),
                ("step_commits", ends | set(numbers)),
                ("step_commit_image", ends | set(numbers)),
            ):
                self._connection.executemany(
                    f"DELETE FROM {table} WHERE number = ? AND database_id = ?",
                    [(number, of) for number in gone],
                )
            self._connection.executemany(
                "UPDATE action_run SET number = NULL, output = '' "
                "WHERE number = ? AND database_id = ?",
                [(number, of) for number in numbers],
            )

    def images(self) -> set[str]:
        """The images that are needed: those of the snapshots, and of the states between commits."""
        between = self.read(
            "SELECT image FROM step_commit_image JOIN database ON id = database_id "
            "WHERE location = ?1"
        )
        return {snapshot.image for snapshot in self.snapshots()} | {image for (image,) in between}

    def shelf_name(self) -> str:
        """The name of the folder that the database's pages are kept in.

        It stays when the database is moved; another one may be where it was then.
        """
        with self._translated():
            own = self._rows("SELECT shelf FROM database WHERE location = ?", self._location)
            usual = _usual_shelf(self._location)
            if own:
                return own[0][0] or usual
            taken = {
                shelf or _usual_shelf(location)
                for location, shelf in self._rows("SELECT location, shelf FROM database")
            }
        names = chain([usual], (f"{usual}-{number}" for number in count(2)))
        return next(name for name in names if name not in taken)

    def latest_of_others(self) -> list[tuple[str, tuple[int, int], Snapshot]]:
        """The other databases that something is recorded of.

        Each with the device and inode that it had, and its latest snapshot.
        """
        latest = []
        with self._translated():
            for location, device, inode, *row in self._rows(
                f"SELECT location, coalesce(device, 0), coalesce(inode, 0), {_COLUMNS} "
                "FROM database JOIN snapshot s ON database_id = id "
                "WHERE location <> ? AND number = "
                "(SELECT max(number) FROM snapshot WHERE database_id = s.database_id)",
                self._location,
            ):
                latest.append((location, (device, inode), _snapshot(*row)))
        return latest

    def take_over(self, other: str) -> None:
        """Have what is recorded of another location be of this one, of which nothing is."""
        with self._translated(), self._writing():
            run = self._connection.execute
            run("UPDATE database SET shelf = ? WHERE location = ? AND shelf IS NULL",
                (_usual_shelf(other), other))  # fmt: skip
            run(
                "DELETE FROM database WHERE location = ? "
                "AND NOT EXISTS (SELECT 1 FROM snapshot WHERE database_id = id)",
                (self._location,),
            )
            run("UPDATE database SET location = ? WHERE location = ?", (self._location, other))

    def locations(self) -> list[str]:
        """All databases that something is recorded of."""
        with self._translated():
            return [
                location
                for (location,) in self._rows(
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
            if self._connection.in_transaction:  # SQLite may have rolled back by itself
                self._connection.execute("ROLLBACK")
            raise
        self._connection.execute("COMMIT")

    @contextmanager
    def _translated(self) -> Iterator[None]:
        try:
            yield
        except apsw.FullError as error:
            raise StoreUnavailable(
                f"{self._path}: the disk that this folder is on is full; "
                "make room there, or set JONDEL_HOME to a folder on another"
            ) from error
        except apsw.ReadOnlyError as error:
            raise StoreUnavailable(
                f"{self._folder}: snapshots cannot be kept in this folder, it is not writable; "
                "set JONDEL_HOME to a folder you may write to"
            ) from error
        except apsw.Error as error:
            raise StoreUnavailable(
                f"{self._path}: the catalogue of snapshots cannot be used ({error}); "
                "check the folder, or set JONDEL_HOME to another"
            ) from error


def as_signed(number: int) -> int:
    """A number of 64 bits as SQLite keeps it."""
    return number - (1 << 64) if number >= 1 << 63 else number


def _usual_shelf(location: str) -> str:
    return hashlib.sha256(location.encode()).hexdigest()[:16]


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
