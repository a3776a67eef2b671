"""A connection to a SQLite database that reads one committed state at a time."""

from __future__ import annotations

import threading
from collections.abc import Callable, Generator, Iterator, Sequence
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Concatenate, ParamSpec, TypeVar, cast
from weakref import ref

import apsw

from jondel.core.engines.sqlite.error_translation import translated
from jondel.core.engines.sqlite.live_reader import LiveReader
from jondel.core.engines.sqlite.schema_reader import read_schema, remember_schema
from jondel.core.engines.sqlite.select_statements import order_by_code_point
from jondel.core.engines.sqlite.state_wait import check_stop
from jondel.core.engines.sqlite.unknown_order import shadow, tables_of_unknown_order
from jondel.core.errors import TableUnreadable
from jondel.core.model.schema import Schema, Table
from jondel.core.model.values import StoredValue

if TYPE_CHECKING:  # not needed to look at a table as it is
    from jondel.core.engines.sqlite.row_orders import KeptOrder

_STEPS_BETWEEN_LOOKS = 50_000
_ENCODINGS = {"UTF-8": "utf-8", "UTF-16le": "utf-16-le", "UTF-16be": "utf-16-be"}
Arguments = ParamSpec("Arguments")
T = TypeVar("T")
Reader = TypeVar("Reader", bound="SteadyReader")


def steady(
    method: Callable[Concatenate[Reader, Arguments], T],
) -> Callable[Concatenate[Reader, Arguments], T]:
    """Have a method that reads run on one committed state of the database."""

    @wraps(method)
    def steadied(reader: Reader, *args: Arguments.args, **options: Arguments.kwargs) -> T:
        return reader.steadily(lambda: method(reader, *args, **options))

    return cast(Callable[Concatenate[Reader, Arguments], T], steadied)


class SteadyReader:
    """One SQLite database, open for reading. What is read of it is in ``SqliteReader``."""

    def __init__(
        self,
        path: Path,
        opener: Callable[[Path], apsw.Connection],
        location: str,
        live: LiveReader | None = None,
    ) -> None:
        """``live`` sees to it that a file which an app writes is read one state at a time."""
        self._path = path
        self._opener = opener
        self._location = location
        self._live = live
        self._closed = False
        self._stop_asked = live.stop if live is not None else threading.Event()
        with translated(path):
            (live.steadily if live is not None else _run)(self._open)

    def _open(self) -> None:
        with translated(self._path):
            self._connection = self._opener(self._path)
        # Between the engine's own looks at whether it is to stop; Ctrl-C is noticed there too.
        self._connection.set_progress_handler(self._stop_asked.is_set, _STEPS_BETWEEN_LOOKS)
        self._epoch = self._live.epoch if self._live is not None else 0
        self._schema: tuple[int, tuple[int, Schema]] | None = None
        self._unknown: tuple[int, dict[str, str]] | None = None
        self._kept_orders: dict[str, ref[KeptOrder]] = {}
        with translated(self._path):
            name = str(self._value("PRAGMA encoding"))
        self._encoding = _ENCODINGS.get(name, "utf-8")
        if self._encoding != "utf-8":
            order_by_code_point(self._connection)

    def schema(self) -> Schema:
        key, schema = self.steadily(self._read_schema)
        if self._live is None or not self._live.working:
            remember_schema(key, schema)  # only what was read of a state that held
        return schema

    def _read_schema(self) -> tuple[int, Schema]:
        with translated(self._path):
            version = cast(int, self._value("PRAGMA schema_version"))
            if self._schema is None or self._schema[0] != version:
                self._shadow_unknown()
                self._schema = (version, read_schema(self._connection))
        return self._schema[1]

    def _shadow_unknown(self) -> dict[str, str]:
        """Have every statement scan the tables whose order only the app knows; returns them."""
        version = cast(int, self._value("PRAGMA schema_version"))
        if self._unknown is None or self._unknown[0] != version:
            tables = tables_of_unknown_order(self._connection)
            if tables or (self._unknown is not None and self._unknown[1]):
                shadow(self._connection, tables)
            self._unknown = (version, tables)
        return self._unknown[1]

    # Staying on one state of the right file

    def steadily(self, work: Callable[[], T]) -> T:
        """Run work that reads, on one committed state; see ``LiveReader``."""
        check_stop(self._stop_asked)
        if self._live is None:
            return work()
        with translated(self._path):
            return self._live.steadily(lambda: self._current(work))

    def steady_stream(
        self, work: Callable[[], Generator[T, None, None]], *, repeatable: bool
    ) -> Iterator[T]:
        """Run work that yields what it reads, on one committed state."""
        check_stop(self._stop_asked)
        if self._live is None:
            yield from work()
            return
        with translated(self._path):
            yield from self._live.stream(lambda: self._current(work), repeatable=repeatable)

    def _current(self, work: Callable[[], T]) -> T:
        """Run work with a connection to the file that is there now."""
        assert self._live is not None
        if self._live.epoch != self._epoch:
            old, orders = self._connection, self._kept_orders
            self._open()
            # An order that is still shown is read by the connection that it was made with.
            if all(order() is None for order in orders.values()):
                old.close()
        return work()

    def _value(self, sql: str, parameters: Sequence[StoredValue] = ()) -> object:
        return self._connection.execute(sql, cast("tuple[apsw.SQLiteValue]", parameters)).get

    def _require(self, table: Table) -> None:
        if table.unreadable:
            raise TableUnreadable(f"{self._path}: {table.name}: cannot be read: {table.unreadable}")


def _run(work: Callable[[], T]) -> T:
    return work()
