"""Turns errors of the SQLite binding into Jondel's own."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import apsw

from jondel.core.engines.sqlite.lock_holders import describe_holders
from jondel.core.errors import (
    Cancelled,
    DatabaseDamaged,
    JondelError,
    NotADatabase,
    PermissionMissing,
    StatementFailed,
    TableUnreadable,
    TargetLocked,
    TargetNotFound,
    TargetUnavailable,
)


@contextmanager
def translated(path: Path, *, table: str | None = None) -> Iterator[None]:
    """Raise Jondel's errors for SQLite's; ``table`` names what was being read."""
    try:
        yield
    except apsw.Error as error:
        raise _translate(error, path, table) from error
    except FileNotFoundError as error:
        raise TargetNotFound(f"{path}: the file is gone; put it back or open another") from error
    except OSError as error:
        reason = error.strerror or str(error)
        raise TargetUnavailable(f"{path}: cannot be read ({reason}); check the disk") from error


def locked_message(path: Path) -> str:
    holders = describe_holders(path)
    who = f"held by {holders}" if holders else "locked by another process"
    return f"{path}: the database is {who}; end its transaction or stop it, then try again"


def _translate(error: apsw.Error, path: Path, table: str | None) -> JondelError:
    extended = getattr(error, "extendedresult", 0)
    where = f"{path}: {table}" if table else str(path)
    if extended == apsw.SQLITE_READONLY_ROLLBACK:
        return TargetUnavailable(
            f"{path}: a crash left a transaction half written ({path.name}-journal); "
            "start the app once so that it is rolled back, then open it again"
        )
    match error:
        case apsw.FullError():
            import tempfile  # slow to load and seldom needed

            folder = os.environ.get("SQLITE_TMPDIR") or tempfile.gettempdir()
            return TargetUnavailable(
                f"{where}: the disk is full on which SQLite keeps what it sorts ({folder}), "
                "or that of the database; make room, or set SQLITE_TMPDIR to another folder"
            )
        case apsw.InterruptError():
            return Cancelled("stopped")
        case apsw.BusyError() | apsw.LockedError():
            return TargetLocked(locked_message(path))
        case apsw.NotADBError():
            return NotADatabase(
                f"{path}: not a SQLite database, or an encrypted one; give the database file itself"
            )
        case apsw.CorruptError() if table:
            return TableUnreadable(
                f"{where}: damaged pages ({error}); restore the file from a good copy"
            )
        case apsw.CorruptError():
            return DatabaseDamaged(
                f"{path}: the database is damaged or cut short ({error}); "
                "restore the file from a good copy"
            )
        case apsw.PermissionsError() | apsw.AuthError():
            return PermissionMissing(f"{path}: permission denied; make the file readable for you")
        case apsw.CantOpenError():
            return TargetUnavailable(
                f"{path}: SQLite cannot open the file or one of its companions "
                f"({path.name}-wal, {path.name}-shm, {path.name}-journal); check their "
                "permissions, or copy all of them to a folder you may write to"
            )
        case apsw.IOError():
            return TargetUnavailable(f"{where}: reading failed ({error}); check the disk")
        case _ if table:
            return TableUnreadable(f"{where}: cannot be read: {error}")
        case _:
            return StatementFailed(str(error))
