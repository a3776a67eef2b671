"""The navigator: it alone knows and changes where one is, and the one way back.

Going somewhere is a *journey*: what the place needs is read first, while everything on the screen
still speaks of the place one is at; arriving changes all of it at once. A journey that takes long
is said so and can be given up, and a later one takes its place.

What is asked for a place is asked within a *visit*. Leaving the place ends the visit, and with it
all that was asked and has not been answered: this is the only spot where late answers are dropped.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from enum import IntEnum
from typing import NamedTuple, Protocol, TypeAlias

from jondel.core.model.addresses import TableId
from jondel.tui.frame.place import Place, RecordRef

Work: TypeAlias = Callable[[], Awaitable[None]]


class Task(Protocol):
    """Work that was started."""

    def cancel(self) -> None:
        """Stop it: none of its code runs any more, but for clearing up."""

    @property
    def is_finished(self) -> bool:
        """Whether it has come to its end."""

    @property
    def is_cancelled(self) -> bool:
        """Whether it was stopped."""


StartTask: TypeAlias = Callable[[Work, str], Task]
"""Starts work of a group, and says in the message line what went wrong with it."""


class Visit:
    """One stay, with the work that is done for it."""

    def __init__(self, start: StartTask) -> None:
        self._start = start
        self._tasks: list[tuple[str, Task]] = []
        self.ended = False

    def start(self, work: Work, group: str, *, beside: bool = False) -> Task:
        """Start work that is of use only during this visit.

        It replaces earlier work of its group, unless it goes on ``beside`` that.
        """
        if not beside:
            self.stop(group)
        task = self._start(work, group)
        if self.ended:
            task.cancel()
        self._tasks = [entry for entry in self._tasks if not entry[1].is_finished]
        self._tasks.append((group, task))
        return task

    def stop(self, *groups: str) -> bool:
        """Stop the work of some groups; False where there was none."""
        stopped = False
        for group, task in self._tasks:
            if group in groups and not task.is_finished:
                task.cancel()
                stopped = True
        return stopped

    def end(self) -> None:
        """Leave: whatever is still being asked is dropped."""
        self.ended = True
        for _, task in self._tasks:
            task.cancel()
        self._tasks.clear()


class Reach(IntEnum):
    """For how long a visit lasts: while one is at the moment, the table, or the record."""

    MOMENT = 0
    TABLE = 1
    RECORD = 2


class Stop(NamedTuple):
    """A place on the way back; ``undo`` puts right what leaving it changed."""

    view: str
    place: Place
    title: str = ""
    """How the way back names it; empty for a mere change of view."""
    undo: Callable[[], None] | None = None


class Journey(Visit):
    """A visit to come: what the place needs is being read."""

    def __init__(
        self,
        start: StartTask,
        view: str,
        place: Place,
        way_back: tuple[Stop, ...],
        focus: bool | None = None,
    ) -> None:
        """``focus``: whether the view's keys are gone to on arrival; None where it is another."""
        super().__init__(start)
        self.view = view
        self.place = place
        self.way_back = way_back
        self.focus = focus
        self.on_arrival: Callable[[], None] = lambda: None
        self.over = asyncio.Event()
        """Set once one has arrived, or gives it up."""

    def end(self) -> None:
        super().end()
        self.over.set()


class Navigator:
    """Owns the place: ``place`` in ``view`` is where one is, ``destination`` where one will be."""

    def __init__(self, start: StartTask, view: str, place: Place) -> None:
        self._start = start
        self._view = view
        self._place = place
        self._way_back: tuple[Stop, ...] = ()
        self._visits = [Visit(start) for _ in Reach]
        self._journey: Journey | None = None
        self.on_set_out: Callable[[Journey], None] = lambda _: None
        self.on_turned: Callable[[], None] = lambda: None
        """One goes elsewhere than where one was going; ``on_set_out`` follows."""
        self.on_given_up: Callable[[], None] = lambda: None
        self.may_leave: Callable[[bool], bool] = lambda _: True
        """Asked before one sets out: whether what one is at can be left. Given whether one has to
        leave it anyway."""

    @property
    def view(self) -> str:
        """The name of the view one is in."""
        return self._view

    @property
    def place(self) -> Place:
        """Where one is."""
        return self._place

    @property
    def way_back(self) -> tuple[Stop, ...]:
        """The places that one came from, the last one last."""
        return self._way_back

    @property
    def journey(self) -> Journey | None:
        """The journey one is on, if one is."""
        return self._journey

    @property
    def destination(self) -> Place:
        """Where one will be once all has arrived."""
        return self._journey.place if self._journey is not None else self._place

    @property
    def destination_view(self) -> str:
        """The view that one will be in."""
        return self._journey.view if self._journey is not None else self._view

    def visit(self, reach: Reach) -> Visit:
        """The visit that ends when one leaves the moment, the table or the record."""
        return self._visits[reach]

    # Going

    def begin_at(self, place: Place) -> None:
        """Be at a place of which everything has been read already: the first one."""
        self._place = place

    def go(
        self,
        place: Place | None = None,
        *,
        view: str | None = None,
        leaving: Stop | None = None,
        afresh: bool = False,
        focus: bool | None = None,
        forced: bool = False,
    ) -> bool:
        """Set out for a place in a view; what is not given is as at the destination so far.

        ``leaving`` is put on the way back. ``afresh``: one went there by oneself, so there is no
        way back from there. ``focus``: see ``Journey``. ``forced``: one cannot stay. Returns
        False where one has to stay, see ``may_leave``.
        """
        if not self.may_leave(forced):
            return False
        way = () if afresh else self._way_back
        if leaving is not None:
            way = (*way, leaving)
        self._turn(
            Journey(
                self._start,
                self.destination_view if view is None else view,
                self.destination if place is None else place,
                way,
                focus,
            )
        )
        return True

    def go_on_to(self, place: Place) -> None:
        """Go to another place on the journey one is on, with the same way back."""
        journey = self._journey
        assert journey is not None, "called for a journey that leads nowhere"
        self._set_out(Journey(self._start, journey.view, place, journey.way_back, journey.focus))

    def go_back(self) -> bool:
        """Set out for the place one came from last; False where there is none."""
        if not self._way_back or not self.may_leave(False):
            return False
        *rest, stop = self._way_back
        journey = Journey(self._start, stop.view, stop.place, tuple(rest), focus=True)
        if stop.undo is not None:
            journey.on_arrival = stop.undo
        self._turn(journey)
        return True

    def _turn(self, journey: Journey) -> None:
        if self._journey is not None:
            self.on_turned()
        self._set_out(journey)

    def _set_out(self, journey: Journey) -> None:
        if self._journey is not None:
            self._journey.end()
        self._journey = journey
        self.on_set_out(journey)

    def keys_go_to_the_view(self, wanted: bool) -> None:
        """Whether the keys go to the view once one has arrived, if one is on a journey: a person
        has gone to it, or elsewhere, meanwhile."""
        if self._journey is not None:
            self._journey.focus = wanted

    def give_up(self) -> bool:
        """Stay where one is; False where one is not on a journey."""
        if self._journey is None:
            return False
        journey, self._journey = self._journey, None
        journey.end()
        self.on_given_up()
        return True

    def arrive(self, journey: Journey, place: Place) -> None:
        """All that the place needs is here: be there. Called at the end of a journey's own work."""
        assert journey is self._journey, "a journey that was given up does not arrive"
        self._journey = None
        journey.over.set()
        place = place._replace(sheet=None)
        if not place.same_moment(self._place):
            self._renew(Reach.MOMENT)
        elif place.table != self._place.table:
            self._renew(Reach.TABLE)
        else:
            self._renew(Reach.RECORD)
        self._view, self._place, self._way_back = journey.view, place, journey.way_back

    def move_to_record(self, record: RecordRef | None, column: str) -> None:
        """The cursor of the view is on another record, or in another column."""
        place = self._place
        if record != place.record:
            self._renew(Reach.RECORD)
            self._place = place._replace(record=record, column=column)
        elif column != place.column:
            self._place = place._replace(column=column)

    def move_to_table(self, table: TableId) -> None:
        """The cursor is in another table of the same view, beside the one before."""
        if table != self._place.table:
            self._renew(Reach.TABLE)
            self._place = self._place._replace(table=table, record=None, column="")

    def forget_way_back(self) -> None:
        """There is no way back any more."""
        self._way_back = ()

    def _renew(self, reach: Reach) -> None:
        for level in Reach:
            if level >= reach:
                self._visits[level].end()
                self._visits[level] = Visit(self._start)
