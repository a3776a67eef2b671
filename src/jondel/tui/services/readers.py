"""Reads databases as of any moment, in threads of their own."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path
from typing import TypeAlias, TypeVar, cast

from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.trail.trail import Step, Trail
from jondel.tui.services.early_look import EarlyLook
from jondel.tui.services.moments import AtResult, Now
from jondel.tui.services.threads import Job, WorkThread

Source: TypeAlias = Now | Step | AtResult
"""Where to read: the live database, the state that a step left, or the rows of a statement."""

T = TypeVar("T")
_KEPT_IMAGES = 3


class MomentReader(WorkThread):
    """One thread with a connection of its own to the live database and to steps' images.

    The connection of an early look becomes its own, if one is given. Everything else is opened
    when it is first asked for, and again after an attempt that failed.
    """

    def __init__(self, name: str, target: str, early: EarlyLook | None = None) -> None:
        super().__init__(name)
        self._target = target
        self._early = early
        self.lock = False
        """Whether the live database may be read under a lock; see ``Database.lock``."""
        self._live: Database | None = None
        self._images: OrderedDict[str, Database] = OrderedDict()

    def _prepared(self, work: Callable[[Job], T]) -> Callable[[Job], T]:
        def prepared(job: Job) -> T:
            for database in (self._live, *self._images.values()):
                if database is not None:
                    database.resume()  # what was stopped before was something else
            return work(job)

        return prepared

    async def read(self, source: Source, trail: Trail | None, work: Callable[[Database], T]) -> T:
        """Run work on a database. Raises what opening the database and the work itself raise."""
        return await self.run(lambda job: work(self.open(job, source, trail)))

    def open(self, job: Job, source: Source, trail: Trail | None) -> Database:
        """The database to read, for a job in this reader's thread."""
        database = self.live() if isinstance(source, Now) else self._image(source, trail)
        job.uses(database)
        return database

    def live(self) -> Database:
        """The live database, for work in this reader's thread."""
        if self._live is None and self._early is not None:
            self._live, self._early = self._early.take_database(), None
        if self._live is None:
            self._live = open_database(self._target, lock=self.lock)
        self._live.lock = self.lock
        return self._live

    async def forget_images(self) -> None:
        """Close the steps' images, so that they are opened anew when next asked for."""

        def work(_: Job) -> None:
            while self._images:
                self._images.popitem()[1].close()

        await self.run(work)

    def _image(self, source: Step | AtResult, trail: Trail | None) -> Database:
        name = source.path if isinstance(source, AtResult) else source.after.image
        database = self._images.pop(name, None)
        if database is None and isinstance(source, AtResult):
            from jondel.core.query.results import open_result  # most people ask nothing

            database = open_result(Path(source.path), source.title)
        elif database is None:
            assert trail is not None, "steps come from a trail"
            database = trail.open(cast(Step, source).after)
        self._images[name] = database
        while len(self._images) > _KEPT_IMAGES:
            self._images.popitem(last=False)[1].close()
        return database

    def close(self, last: Callable[[], None] | None = None) -> None:
        """Stop everything and close all databases, then run ``last`` in the thread."""

        def end() -> None:
            for database in (self._live, *self._images.values()):
                if database is not None:
                    database.close()
            if last is not None:
                last()

        super().close(end)
