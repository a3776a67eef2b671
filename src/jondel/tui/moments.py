"""Reads databases as of any moment, in threads of their own.

A *moment* is a step's number (the database as that step left it) or None for now.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from typing import TypeAlias, TypeVar

from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import open_database
from jondel.core.trail.trail import Step, Trail
from jondel.tui.early_look import EarlyLook
from jondel.tui.session import Job, Session

Moment: TypeAlias = int | None

T = TypeVar("T")
_KEPT_IMAGES = 3


class MomentReader:
    """One thread with a connection of its own to the live database and to steps' images.

    The connection of an early look becomes its own, if one is given. Everything else is opened
    when it is first asked for, and again after an attempt that failed.
    """

    def __init__(self, name: str, target: str, early: EarlyLook | None = None) -> None:
        self._session = Session(name)
        self._target = target
        self._early = early
        self._live: Database | None = None
        self._images: OrderedDict[str, Database] = OrderedDict()

    async def read(
        self, step: Step | None, trail: Trail | None, work: Callable[[Database], T]
    ) -> T:
        """Run work on the database as a step left it, or on the live one for None.

        Raises what opening the database and the work itself raise.
        """

        def run(job: Job) -> T:
            database = self._of_step(step, trail) if step is not None else self.live()
            job.uses(database)
            return work(database)

        return await self._session.run(run)

    async def run(self, work: Callable[[Job], T]) -> T:
        """Run work that opens what it needs by itself."""
        return await self._session.run(work)

    def live(self) -> Database:
        """The live database, for work in this reader's thread."""
        if self._live is None and self._early is not None:
            self._live, self._early = self._early.take_database(), None
        if self._live is None:
            self._live = open_database(self._target)
        return self._live

    async def forget_images(self) -> None:
        """Close the steps' images, so that they are opened anew when next asked for."""

        def work(_: Job) -> None:
            while self._images:
                self._images.popitem()[1].close()

        await self._session.run(work)

    def _of_step(self, step: Step, trail: Trail | None) -> Database:
        image = step.after.image
        found = self._images.pop(image, None)
        if found is None:
            assert trail is not None, "steps come from a trail"
            found = trail.open(step.after)
        self._images[image] = found
        while len(self._images) > _KEPT_IMAGES:
            self._images.popitem(last=False)[1].close()
        return found

    def close(self, last: Callable[[], None] | None = None) -> None:
        """Stop everything and close all databases, then run ``last`` in the thread."""

        def end() -> None:
            for database in (self._live, *self._images.values()):
                if database is not None:
                    database.close()
            if last is not None:
                last()

        self._session.close(end)
