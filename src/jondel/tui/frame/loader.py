"""Brings the interface to a place, and keeps what it shows there up to date."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable
from datetime import datetime
from functools import partial

from jondel.core.errors import (
    Cancelled,
    JondelError,
    RecordNotFound,
    TargetBusy,
    TargetUnavailable,
)
from jondel.core.model.changes import Changes
from jondel.core.trail.trail import Step
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.moment_state import MomentState
from jondel.tui.frame.navigator import Journey, Reach
from jondel.tui.frame.place import NotShownHere, Place
from jondel.tui.frame.view import Arrival
from jondel.tui.services.moments import (
    NOW,
    AtResult,
    AtStep,
    GoneStep,
    Moment,
    Now,
    OtherDatabase,
    StepGone,
)

_SHOW_COUNTS_SECONDS = 0.1
_LONGEST_SECONDS_WITH_OTHER = 2.0
"""What takes longer is not done again by itself."""
_LOOK_AGAIN_SECONDS = 0.5
"""How soon a database that is written without a pause is looked at again."""


class Loader:
    """Reads for the navigator's journeys, and again when something was committed."""

    def __init__(self, desk: Desk, show_place: Callable[[bool], None]) -> None:
        """``show_place`` has the screen show the place that was arrived at; it is given whether
        to go to the view's keys."""
        self._desk = desk
        self._show_place = show_place
        self.commits = 0
        """How many times something was found to have been committed."""
        self._shown_commits = 0
        """After how many of them the place was last read."""
        self._read_at = datetime.now().astimezone()
        self._no_lock = asyncio.Event()
        self._no_lock.set()
        self._seconds_with_other = 0.0
        """How long it took to compare with another database."""
        self._other_outdated = self._is_following_other = False
        self.stale_since: datetime | None = None
        """When what is shown of now was read, while nothing later can be; else None."""

    # Journeys

    def set_out(self, journey: Journey) -> None:
        """Begin to read what a journey needs."""
        journey.start(partial(self._travel, journey), "travel")
        self._desk.show_surroundings()

    async def _travel(self, journey: Journey) -> None:
        desk = self._desk
        while True:
            try:
                state, arrival = await self._prepare(journey)
            except TargetBusy:
                self._note_stale()
                await asyncio.sleep(_LOOK_AGAIN_SECONDS)
            except NotShownHere as error:
                if error.instead is None:
                    desk.navigator.give_up()
                    desk.say_problem(error)
                else:
                    desk.navigator.go_on_to(error.instead)
                return
            except (RecordNotFound, StepGone) as error:
                desk.navigator.give_up()
                desk.say_problem(error)
                return
            except Cancelled:
                desk.navigator.give_up()
                return
            else:
                break
        self._arrive(journey, state, arrival)
        self.refresh_if_due()  # what was read on the way may be from before a commit

    async def _prepare(self, journey: Journey) -> tuple[MomentState, Arrival]:
        desk, place = self._desk, journey.place
        view = await desk.views.open(journey.view)
        state = desk.state
        if state.problem or not state.tables or not place.same_moment(desk.place):
            state = MomentState()
            try:
                await self._read_tables(state, place)
            except (TargetBusy, StepGone, Cancelled):
                raise
            except JondelError as error:
                state.problem = str(error)
                return state, Arrival(place, partial(self._show_problem, str(error)))
            self._take_known_changes(state, place)
        return state, await view.prepare(place, state)

    def arrive_with(self, state: MomentState, arrival: Arrival) -> None:
        """Be at a place of which all has been read already: the first one."""
        self._desk.state = state
        self._desk.navigator.begin_at(arrival.place)
        arrival.show()

    def _arrive(self, journey: Journey, state: MomentState, arrival: Arrival) -> None:
        desk = self._desk
        focus = journey.view != desk.navigator.view if journey.focus is None else journey.focus
        other_moment = state is not desk.state
        desk.navigator.arrive(journey, arrival.place)
        desk.state = state
        arrival.show()
        journey.on_arrival()
        self._show_place(focus)
        if other_moment:
            self.load_changes()
            if not state.problem:
                self._count_tables()
        for view in desk.views.opened:
            view.show_changes(state)
        if not state.problem:
            self._know_state()

    def _show_problem(self, message: str) -> None:
        for view in self._desk.views.opened:
            view.show_problem(message)

    async def _read_tables(self, state: MomentState, place: Place) -> None:
        schema = await self._desk.workspace.rows.schema(place.moment)
        with_internal = self._desk.with_internal
        state.tables = [t for t in schema.tables if with_internal or not t.internal]
        names = {table.id for table in state.tables}
        state.counts = {name: rows for name, rows in state.counts.items() if name in names}

    # Keeping up

    def committed(self) -> None:
        """Something was committed to the live database."""
        self.commits += 1
        self._compare_with_other_again()
        if self._no_lock.is_set():  # else it is due afterwards, without a lock
            self.refresh_if_due()

    def refresh(self) -> None:
        """Read the place anew."""
        # Of use for the table one is at: whoever goes to another one calls ``refresh_if_due``.
        self._desk.start(self._refresh, "refresh", Reach.TABLE)

    def refresh_if_due(self) -> None:
        """Read the place anew, unless that has been done since the last commit."""
        if self._desk.is_at_now and self._shown_commits != self.commits:
            self.refresh()

    async def _refresh(self) -> None:
        desk, commits = self._desk, self.commits
        state = desk.state
        try:
            await self._read_tables(state, desk.place)
            state.problem = ""
            desk.show_surroundings()
            for view in desk.views.opened:
                await view.refresh_rows(state)
        except Cancelled:
            return
        except TargetBusy as error:
            if desk.is_at_now:
                self._wait_for_pause(error)
            return
        except JondelError as error:
            self.fail(error)
        else:
            self._count_tables()
        self._shown_commits = commits
        self._know_state()

    def fail(self, error: JondelError) -> None:
        """Show that nothing of the moment can be shown any more."""
        state = self._desk.state
        state.problem, state.counts = str(error), {}
        self._show_problem(str(error))
        self._desk.show_surroundings()

    def _count_tables(self) -> None:
        self._desk.start(partial(self._count, self._desk.state), "counts", Reach.MOMENT)

    async def _count(self, state: MomentState) -> None:
        desk, shown_at = self._desk, 0.0
        moment = desk.place.moment
        for table in list(state.tables):
            try:
                if not table.unreadable:
                    state.counts[table.id] = await desk.workspace.rows.count(moment, table)
            except Cancelled:
                return
            except JondelError:
                state.counts[table.id] = None
            if time.monotonic() - shown_at > _SHOW_COUNTS_SECONDS:
                shown_at = time.monotonic()
                self._show_counts()
        self._show_counts()

    def _show_counts(self) -> None:
        self._desk.show_surroundings()
        for view in self._desk.views.opened:
            view.show_counts()

    def count_soon(self) -> None:
        """Count the tables of the moment; other work of the surveying thread comes first."""
        self._count_tables()

    # A database that is written without a pause

    def _know_state(self) -> None:
        """What is on the screen is the latest there is."""
        self._read_at = datetime.now().astimezone()
        if self.stale_since is not None:
            self.stale_since = None
            self._desk.show_surroundings()

    def _note_stale(self) -> None:
        if self.stale_since is None:
            self.stale_since = self._read_at
            self._desk.show_surroundings()

    def _wait_for_pause(self, error: TargetBusy) -> None:
        """Leave what is on the screen, say how old it is, and look again in a moment."""
        if not self._desk.state.tables:
            self.fail(error)
        self._note_stale()
        self._desk.start(self._look_again, "look-again", Reach.MOMENT)

    async def _look_again(self) -> None:
        await asyncio.sleep(_LOOK_AGAIN_SECONDS)
        await self._no_lock.wait()  # that is not to be stopped
        if self.stale_since is not None:
            self.refresh()

    async def read_under_lock(self) -> None:
        """Read the live database once as another reader would, which makes the app wait."""
        desk = self._desk
        self._no_lock.clear()
        desk.workspace.rows.allow_lock(True)
        try:
            with desk.busy("reading under a lock"):
                journey = desk.navigator.journey
                if journey is not None:
                    journey.start(partial(self._travel, journey), "travel")
                    await journey.over.wait()
                else:
                    desk.stop_work("refresh")
                    await self._refresh()
        finally:
            desk.workspace.rows.allow_lock(False)
            self._no_lock.set()
            self.refresh_if_due()

    # Changes

    def _take_known_changes(self, state: MomentState, place: Place) -> None:
        if place.compare_from is not None:
            return
        if isinstance(place.moment, Now):
            state.changes = self._desk.comparer.since
        else:
            state.changes = self._desk.workspace.comparisons.known_changes(place.moment)

    def load_changes(self) -> None:
        """Find and show the changes of the moment."""
        self._desk.start(partial(self._load_changes, self._desk.state), "changes", Reach.MOMENT)

    def compare_anew(self) -> None:
        """Other noise rules are in force: find and show all changes again."""
        desk = self._desk
        desk.workspace.comparisons.forget_all()
        desk.state.changes = None
        desk.comparer.start_anew()
        self.load_changes()

    async def _load_changes(self, state: MomentState) -> None:
        desk, place = self._desk, self._desk.place
        workspace = desk.workspace
        if isinstance(place.moment, Now) and place.compare_from is None:
            self._compare_with_last(state)
            return
        resolved = workspace.trail.resolve(place.moment)
        if isinstance(resolved, AtResult):
            self._take_changes(state, Changes(method="same"))
            return
        if state.changes is None:
            self._show_notice(state, "Comparing …")
        try:
            with desk.busy("comparing"):
                if isinstance(place.compare_from, OtherDatabase):
                    changes = await self._compare_with_other(place.compare_from, place.moment)
                elif place.compare_from is not None:
                    changes = await workspace.comparisons.between(place.compare_from, place.moment)
                elif isinstance(resolved, Step):
                    changes = await workspace.comparisons.step_changes(resolved)
                else:
                    raise StepGone(resolved.number if isinstance(resolved, GoneStep) else 0)
        except Cancelled:
            self._show_notice(state, "Stopped. Press c to compare again.")
        except JondelError as error:
            self._show_notice(state, str(error))
        else:
            self._take_changes(state, changes)

    async def _compare_with_other(self, other: OtherDatabase, moment: Moment) -> Changes:
        """By what another open database differs. Raises ``JondelError``."""
        desk = self._desk
        there = next((d for d in desk.others if d.workspace.location == other.location), None)
        if there is None:
            raise TargetUnavailable(f"{other.name} is no longer open; m ends the comparison")
        began = time.monotonic()
        comparisons = desk.workspace.comparisons
        changes = await comparisons.from_other(there.workspace.open_again, moment)
        self._seconds_with_other = time.monotonic() - began
        return changes

    def _compare_with_other_again(self) -> None:
        """Something was committed: so it may differ from the other one otherwise."""
        is_other = isinstance(self._desk.place.compare_from, OtherDatabase)
        is_quick = self._seconds_with_other <= _LONGEST_SECONDS_WITH_OTHER
        if not (is_other and is_quick and self._desk.is_at_now):
            return
        self._other_outdated = True
        if not self._is_following_other:
            self._desk.start(self._follow_other, "other", Reach.MOMENT)

    async def _follow_other(self) -> None:
        self._is_following_other = True
        try:
            while self._other_outdated:
                self._other_outdated = False
                # An app that always writes must not keep us busy.
                await asyncio.sleep(_LOOK_AGAIN_SECONDS + 2 * self._seconds_with_other)
                await self._load_changes(self._desk.state)
        finally:
            self._is_following_other = False

    def _compare_with_last(self, state: MomentState) -> None:
        desk = self._desk
        since = desk.comparer.since
        if since is not None and desk.comparer.up_to_date:
            self._take_changes(state, since)
        elif desk.workspace.trail.steps:
            self._show_notice(state, "Comparing with the last snapshot …")
            desk.comparer.refresh_now(asked=desk.navigator.view == "changes")
        else:
            self._take_changes(state, Changes())

    def take_compared(self, since: Changes) -> None:
        """What was written since the last snapshot is known now."""
        desk = self._desk
        if not desk.is_at_now:
            return
        start = desk.place.compare_from
        if start is None:
            self._take_changes(desk.state, since)
        elif isinstance(start, AtStep):
            self.load_changes()

    def _take_changes(self, state: MomentState, changes: Changes) -> None:
        state.changes, state.changes_notice = changes, ""
        state.changes_at = datetime.now().astimezone()
        self._changes_changed(state)

    def _show_notice(self, state: MomentState, words: str) -> None:
        """Say why the changes cannot be listed now; rows stay marked by those last known."""
        state.changes_notice = words
        self._changes_changed(state)

    def _changes_changed(self, state: MomentState) -> None:
        if state is self._desk.state:
            for view in self._desk.views.opened:
                view.show_changes(state)
            self._desk.show_surroundings()

    # Steps that are gone

    def leave_gone_steps(self) -> None:
        """Go on to now where the step that one is at, or compares from, is gone."""
        desk = self._desk
        place = desk.navigator.destination
        trail = desk.workspace.trail
        start, gone = place.compare_from, []
        if isinstance(start, AtStep) and isinstance(trail.resolve(start), GoneStep):
            gone.append(start.number)
            place = place._replace(compare_from=None)
        at = trail.resolve(place.moment)
        if isinstance(at, GoneStep):
            gone.append(at.number)
            place = place._replace(moment=NOW)
        if gone:
            desk.navigator.forget_way_back()
            desk.navigator.go(place, forced=True)
            names = " and ".join(f"s{number}" for number in sorted(set(gone)))
            desk.say(f"{names}: deleted; this is now")
