"""The target that a command is given: its trail, and the live database where that is needed."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager

from jondel.cli.output import confirmed, say
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import is_there, location_of, name_of, open_database
from jondel.core.errors import TargetError
from jondel.core.files.small_files import SmallFile
from jondel.core.find.connections import target_named
from jondel.core.trail.trail import Trail


class Target:
    """A database by its location; opened when it is first asked for.

    What concerns snapshots alone goes without, so it works when the file is gone or damaged.
    """

    def __init__(self, words: str, lock: bool) -> None:
        words = target_named(words)
        self._words = words
        self._lock = lock
        self._database: Database | None = None
        self.location = location_of(words)
        self.trail = Trail(self.location)

    @property
    def name(self) -> str:
        """A short name to show."""
        return name_of(self.location)

    @property
    def database(self) -> Database:
        """The live database. Raises ``TargetError``."""
        if self._database is None:
            self._database = open_database(self._words, lock=self._lock)
            for notice in self._database.notices:
                say(f"{self._database.name}: {notice}")
        return self._database

    def database_if_usable(self) -> Database | None:
        """The live database, or None after saying why it cannot be used."""
        try:
            return self.database
        except TargetError as error:
            say(f"{error}; only snapshots are looked at")
            return None

    def close(self) -> None:
        """Let go of the database and the trail."""
        if self._database is not None:
            self._database.close()
        self.trail.close()


def _offer_trail(target: Target, moved_from: str) -> None:
    """Ask once whether a database is one that was elsewhere, or say how to tell."""
    answers = SmallFile("moves", target.location)
    if answers.read().get("not") == moved_from:
        return
    what = f"{target.name} holds what {moved_from} held, which is gone"
    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        say(f"{what}; `jondel trail TARGET adopt {moved_from}` has its trail")
    elif confirmed(f"{what}; is its trail this one's?", yes=False):
        target.trail.take_over(moved_from)
    else:
        answers.write({"not": moved_from})


@contextmanager
def opened(
    words: str, *, lock: bool = False, may_be_missing: bool = False, logged: bool = True
) -> Iterator[Target]:
    """Open a target; the live database at once where nothing is recorded of it.

    ``lock``: see ``Database.lock``. ``may_be_missing``: there need be nothing there yet.
    ``logged``: what is done has something to write into the log.

    Raises:
        TargetError: there is neither a usable database nor a snapshot of it.
    """
    target = Target(words, lock)
    try:
        moved_from = target.trail.maybe_moved_from
        if moved_from is not None:
            _offer_trail(target, moved_from)
        if target.trail.empty and not (may_be_missing and not is_there(target.location)):
            target.database  # noqa: B018 - says what is wrong with it
        if logged:
            from jondel.cli.log import start_log  # slow to load

            start_log()
        yield target
    finally:
        target.close()
