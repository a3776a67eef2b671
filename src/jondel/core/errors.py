"""Every error that Jondel reports to a person.

    JondelError
    ├── TargetError                 the database itself cannot be used
    │   ├── TargetNotFound          nothing is there
    │   ├── NotADatabase            something else is there
    │   ├── PermissionMissing       the user may not read it
    │   ├── TargetLocked            another process holds it
    │   │   └── TargetBusy          it is written without a pause
    │   ├── DatabaseDamaged         it is corrupt or cut short
    │   └── TargetUnavailable       anything else that keeps it from being opened
    ├── ReadError                   something in a usable database cannot be read
    │   ├── TableNotFound
    │   ├── RecordNotFound
    │   ├── TableUnreadable
    │   ├── StatementFailed
    │   ├── StatementRefused        it is not one statement, or not possible here
    │   │   └── NotOnlyReading      it does more than read
    │   │       └── WouldWrite
    │   ├── ConditionInvalid        it cannot be a condition of this table
    │   └── Cancelled               stopped on the person's own wish
    ├── WriteError                  nothing was written
    │   ├── RecordsMovedOn          the rows are no longer what they were taken for
    │   ├── WriteRefused            writing would break something, or is not possible here
    │   │   └── LinkedInTheWay      links would take along what nobody mentioned
    │   └── ValueUnsuitable         a typed value is none for its column
    ├── SnapshotError
    │   ├── SnapshotNotFound
    │   ├── LabelTaken
    │   ├── LabelInvalid
    │   ├── SnapshotProtected       it has a label or is pinned, and nobody asked to delete such
    │   ├── RuleInvalid             the text cannot be a noise rule
    │   └── StoreUnavailable        the store's folder or files cannot be used
    ├── ExportFailed                rows cannot be written out
    │   └── SeveralResults          a format holds but one result
    ├── ImportFailed                a file cannot be read as rows
    ├── ProjectInvalid              the project's file says something that cannot be understood
    └── ActionFailed                an app action could not be run or was refused by the app

Messages are one line, lower case, without a full stop; they name the object and say what to do.
They quote names taken from databases, so whoever shows them treats them as data.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from jondel.core.model.writes import Obstacle, RowWrite


class JondelError(Exception):
    """Base of all errors that are shown to a person as one line."""

    def __str__(self) -> str:
        return " ".join(str(part) for part in self.args)


class TargetError(JondelError):
    """The database itself cannot be used."""


class TargetNotFound(TargetError):
    """There is nothing at the path."""


class NotADatabase(TargetError):
    """There is something at the path, but not a database."""


class PermissionMissing(TargetError):
    """The user may not read the file."""


class TargetLocked(TargetError):
    """Another process holds the database so that it cannot be read now; trying later may work."""


class TargetBusy(TargetLocked):
    """The app commits so often that no committed state can be read without a lock."""


class DatabaseDamaged(TargetError):
    """The database is corrupt or cut short."""


class TargetUnavailable(TargetError):
    """The database cannot be opened for another reason."""


class PasswordNeeded(TargetUnavailable):
    """The server wants a password, and none is known, or the one that is known is wrong.

    ``location`` is the database's.
    """

    def __init__(self, message: str, location: str) -> None:
        super().__init__(message)
        self.location = location


class FeatureMissing(JondelError):
    """A database cannot do what is asked of it; the message says what, and why."""


class ReadError(JondelError):
    """Something in a usable database cannot be read."""


class TableNotFound(ReadError):
    """The database has no such table or view."""


class RecordNotFound(ReadError):
    """The table has no such record, and never had."""


class TableUnreadable(ReadError):
    """A table or view is there, but reading it fails."""


class StatementFailed(ReadError):
    """The engine refused or could not finish a statement.

    ``at`` is the character of it at which, from 0, where that is told.
    """

    def __init__(self, message: str, at: int | None = None) -> None:
        super().__init__(message)
        self.at = at

    def placed_in(self, sql: str) -> StatementFailed:
        """The same with the place in its words, for where it cannot be marked in the statement."""
        if self.at is None:
            return self
        before = sql[: self.at]
        line, column = before.count("\n") + 1, len(before) - before.rfind("\n")
        return StatementFailed(f"{self} (line {line}, character {column})")


class StatementRefused(ReadError):
    """Jondel does not run this statement here."""


class NotOnlyReading(StatementRefused):
    """It does more than read, where statements only read."""


class WouldWrite(NotOnlyReading):
    """It would write, where statements only read."""

    def __init__(self) -> None:
        super().__init__("the statement would write; Jondel only reads here")


class ConditionInvalid(ReadError):
    """A filter or an order cannot be one of this table."""


class Cancelled(ReadError):
    """The work was stopped by the person who asked for it."""


class WriteError(JondelError):
    """Something could not be written, and so nothing was.

    ``obstacles`` are the records that stand in the way, as far as it is that.
    """

    def __init__(self, message: str, obstacles: Sequence[Obstacle] = ()) -> None:
        super().__init__(message)
        self.obstacles = tuple(obstacles)


class RecordsMovedOn(WriteError):
    """The rows to write are no longer what they were taken for."""


class WriteRefused(WriteError):
    """Writing would break something, or is not possible in this database."""


class LinkedInTheWay(WriteRefused):
    """Records that nobody mentioned would go or change by the actions of links.

    ``writes`` are what these actions come to.
    """

    def __init__(
        self, message: str, obstacles: Sequence[Obstacle], writes: Sequence[RowWrite]
    ) -> None:
        super().__init__(message, obstacles)
        self.writes = tuple(writes)


class ValueUnsuitable(WriteError):
    """A typed value does not suit its column's declared type."""


class SnapshotError(JondelError):
    """Something about snapshots or the trail went wrong."""


class SnapshotNotFound(SnapshotError):
    """No snapshot goes by that label or id."""


class LabelTaken(SnapshotError):
    """An earlier snapshot of the same database has the label."""


class LabelInvalid(SnapshotError):
    """The text cannot be a label."""


class SnapshotProtected(SnapshotError):
    """The snapshot has a label or is pinned; deleting it must be asked for."""


class RuleInvalid(SnapshotError):
    """The text cannot be a noise rule, or the file of rules cannot be read."""


class StoreUnavailable(SnapshotError):
    """The folder that keeps snapshots and trails cannot be used."""


class ExportFailed(JondelError):
    """Rows cannot be written to a file so; there is no file then, or the one that was there."""


class SeveralResults(ExportFailed):
    """A format holds the rows of one statement or table, and there are several."""


class ImportFailed(JondelError):
    """A file cannot be read as rows, or not to its end; nothing of it was written."""


class ProjectInvalid(JondelError):
    """The project's file cannot be understood; the message says the line and the key."""


class ActionFailed(JondelError):
    """An app action could not be run, or the app refused it."""
