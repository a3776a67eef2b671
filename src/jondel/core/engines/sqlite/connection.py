"""Opens connections that only read: to live databases, captured states, and images of old.

None of them is a connection to a file that an app works with: what SQLite reads comes from
``page_vfs``, so that looking leaves no trace and takes no lock.
"""

from __future__ import annotations

import os
import stat
from pathlib import Path
from urllib.parse import quote

import apsw

from jondel.core.engines.sqlite.descriptors import PlainFile
from jondel.core.engines.sqlite.error_translation import translated
from jondel.core.engines.sqlite.page_vfs import uri_of
from jondel.core.engines.sqlite.unknown_order import BUILT_IN_COLLATIONS
from jondel.core.errors import (
    JondelError,
    NotADatabase,
    PermissionMissing,
    TargetNotFound,
)

BUSY_TIMEOUT_MS = 2000
_MAGIC = b"SQLite format 3\x00"
_HEADER_BYTES = 100


def check_path(path: Path) -> None:
    """Raise the fitting ``TargetError`` unless the path is a file that the user may read."""
    try:
        mode = path.stat().st_mode
    except FileNotFoundError:
        if path.is_symlink():
            raise TargetNotFound(f"{path}: the link points to a file that is not there") from None
        raise TargetNotFound(f"{path}: no such file; check the path") from None
    except PermissionError:
        raise PermissionMissing(f"{path}: permission denied; its folder is closed to you") from None
    except (OSError, ValueError) as error:
        raise TargetNotFound(f"{path}: cannot be reached ({error}); check the path") from None
    if stat.S_ISDIR(mode):
        raise NotADatabase(f"{path}: a directory; name a database file in it")
    if not stat.S_ISREG(mode):
        raise NotADatabase(f"{path}: not a regular file; give the path of a database file")
    if not os.access(path, os.R_OK):
        raise PermissionMissing(f"{path}: permission denied; make the file readable for you")


def open_immutable(path: Path) -> apsw.Connection:
    """Open a file that nobody writes, without locks and companions."""
    return _open(f"file:{quote(os.fsencode(path))}?immutable=1", path)


def open_pages(name: str, path: Path) -> apsw.Connection:
    """Open what is served by a name (see ``page_vfs``); ``path`` names it in messages."""
    return _open(uri_of(name), path)


def read_header(path: Path) -> bytes:
    """The file's first bytes; no lock of this process is lost by it."""
    with translated(path):
        file = PlainFile(path)
        try:
            return file.read(0, _HEADER_BYTES)
        finally:
            file.close()


def is_database(path: Path) -> bool:
    """Whether the first bytes of a file are those of a database; False where it cannot be read."""
    try:
        return read_header(path).startswith(_MAGIC)
    except (JondelError, OSError):
        return False


NEGATIVE_ZERO = "jondel_negative_zero"
"""An SQL function: whether a number is -0.0, which nothing else in SQL tells from 0.0."""


def register_functions(connection: apsw.Connection) -> None:
    """Register what the columns of a mirror are computed by; see ``mirror.layout``."""
    connection.create_scalar_function(
        "jondel_order",
        _order,
        2,
        deterministic=True,
        flags=apsw.SQLITE_INNOCUOUS,
    )
    connection.create_scalar_function(
        NEGATIVE_ZERO,
        _is_negative_zero,
        1,
        deterministic=True,
        flags=apsw.SQLITE_INNOCUOUS,
    )


def _is_negative_zero(*arguments: apsw.SQLiteValue) -> bool:
    (value,) = arguments
    return value == 0 and str(value).startswith("-")


def _order(*arguments: apsw.SQLiteValue) -> bytes | None:
    from jondel.core.model.exact_order import order_bytes  # only mirrors have use for it
    from jondel.core.model.values import Exact

    kind, text = arguments
    return order_bytes(Exact(str(kind), text)) if isinstance(text, str) else None


def open_scratch() -> apsw.Connection:
    """Open an empty database in memory, in which any collation means byte order."""
    connection = apsw.Connection(":memory:")
    register_functions(connection)
    connection.collation_needed(_stand_in_collation)
    return connection


def _open(filename: str, path: Path) -> apsw.Connection:
    flags = apsw.SQLITE_OPEN_READONLY | apsw.SQLITE_OPEN_URI
    with translated(path):
        connection = apsw.Connection(filename, flags=flags)
        try:
            connection.set_busy_timeout(BUSY_TIMEOUT_MS)
            connection.config(apsw.SQLITE_DBCONFIG_DEFENSIVE, 1)
            connection.config(apsw.SQLITE_DBCONFIG_TRUSTED_SCHEMA, 0)
            connection.execute("PRAGMA query_only=ON")
            register_functions(connection)
            connection.collation_needed(_stand_in_collation)
            # The first real read: fails here if the file is damaged or no database.
            connection.execute("SELECT count(*) FROM sqlite_schema").fetchall()
        except BaseException:
            connection.close()
            raise
    return connection


def _stand_in_collation(connection: apsw.Connection, name: str) -> None:
    """Register a plain comparison for collations that only the app has, so tables can be read."""
    if name.upper() not in BUILT_IN_COLLATIONS:
        # (Those are asked for in UTF-16 databases too; SQLite then adapts its own.)
        connection.create_collation(name, _compare)


def _compare(one: str, other: str) -> int:
    return (one > other) - (one < other)
