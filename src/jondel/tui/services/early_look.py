"""A first look at the database, taken while the interface is still being loaded.

Loading the toolkit takes longer than opening a database and reading its first rows, and another
thread can do that meanwhile; the first thing painted then is the table itself. This module must
not import the toolkit.
"""

from __future__ import annotations

import threading
from collections.abc import Hashable, Mapping, Sequence
from contextlib import closing, suppress
from typing import NamedTuple

from jondel.core.browse.first_table import LastTable, first_table
from jondel.core.browse.windows import WindowCache
from jondel.core.engines.needed import commits_of
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import location_of, open_database
from jondel.core.errors import JondelError, TargetError, TargetLocked
from jondel.core.model.addresses import TableId
from jondel.core.model.schema import Table


class Identity(NamedTuple):
    """What the masthead says of the live database."""

    name: str
    engine: str
    notices: tuple[str, ...]
    look_every_seconds: float = 0.0
    """See ``Commits``."""

    @classmethod
    def of(cls, database: Database) -> Identity:
        commits = database.commits
        pause = commits.look_every_seconds if commits is not None else 0.0
        return cls(database.name, database.engine, database.notices, pause)


class Look(NamedTuple):
    """What was seen: the tables to show, and the beginning of the one to open with."""

    token: Hashable
    identity: Identity
    tables: tuple[Table, ...]
    cache: WindowCache


class EarlyLook:
    """Opens a target and looks at it in a thread of its own."""

    def __init__(self, target: str) -> None:
        self._target = target
        self._opened = threading.Event()
        self._error: BaseException | None = None
        self._database: Database | None = None
        self._look: Look | None = None
        self._thread = threading.Thread(target=self._work, name="early-look", daemon=True)
        self._thread.start()

    def require_opened(self) -> None:
        """Wait until the target is open; raises what keeps it from being opened."""
        self._opened.wait()
        if self._error is not None:
            raise self._error

    def finished(self) -> Look | None:
        """What was seen, if that is known by now."""
        return None if self._thread.is_alive() else self._look

    def take_database(self) -> Database | None:
        """Wait for the end of the look and hand the open database over, once."""
        self._thread.join()
        database, self._database = self._database, None
        return database

    def let_go(self) -> None:
        """Close what was opened, once it is; nobody is going to use it."""
        if (database := self.take_database()) is not None:
            database.close()

    def _work(self) -> None:
        try:
            self._database = open_database(self._target)
        except BaseException as error:
            self._error = error
            return
        finally:
            self._opened.set()
        with suppress(JondelError):  # the interface looks again, and says what is wrong
            self._look = _look_at(self._database)


def looked_at(target: str, early: EarlyLook | None = None) -> EarlyLook:
    """Open a target, and begin to look at it.

    ``early`` is a look at it that has begun already. One that is locked may be free again soon, and
    one that has a trail can be looked back at: these are no reason not to open it.

    Raises:
        TargetError: it cannot be opened.
    """
    early = early or EarlyLook(target)
    try:
        early.require_opened()
    except TargetLocked:
        pass
    except TargetError:
        if not _is_recorded(target):
            raise
    return early


def _is_recorded(target: str) -> bool:
    """Whether there are snapshots of a database."""
    from jondel.core.trail.trail import Trail

    with closing(Trail(location_of(target))) as trail:
        return not trail.empty


def _look_at(database: Database) -> Look | None:
    token = commits_of(database).change_token()
    tables = tuple(table for table in database.schema().tables if not table.internal)
    if not tables:
        return None
    table = table_to_open_with(database.location, tables)
    cache = WindowCache(table, database.rows.measure(table, quick=True))
    if cache.extent.rows:
        cache.add(cache.fetch(database, 0))
    return Look(token, Identity.of(database), tables, cache)


def table_to_open_with(location: str, tables: Sequence[Table]) -> Table:
    """The table that a database opens with; reads what is kept of it."""
    last = LastTable(location).read()
    return first_table(tables, last, None if last else _lately_changed(location))


def _lately_changed(location: str) -> Mapping[TableId, int]:
    """How many rows of each table the last step changed of which that is known."""
    from jondel.core.trail.trail import Trail

    with suppress(JondelError), closing(Trail(location)) as trail:
        if trail.empty:
            return {}
        for step in reversed(trail.steps()):
            if step.summary is not None and step.summary.tables:
                return {table: counts.total for table, counts in step.summary.tables.items()}
    return {}
