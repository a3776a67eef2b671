"""What the interface asks of core, as awaitable calls: one database, its trail, its app.

Five threads: one reads the rows that are on the screen and is never kept waiting; one makes the
orders of sheets; one answers what is asked beside (links, tallies, searches); one surveys (counts,
snapshots, comparisons) and may be busy for long; one talks to the app.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import location_of
from jondel.core.errors import SnapshotError, WriteRefused
from jondel.core.model.changes import Changes, ChangeSummary
from jondel.core.model.values import StoredValue
from jondel.core.snapshots.catalogue import Trigger
from jondel.core.trail.trail import Step, Trail
from jondel.tui.early_look import EarlyLook
from jondel.tui.moments import Moment
from jondel.tui.row_reading import RowReading
from jondel.tui.session import Job, Session

if TYPE_CHECKING:
    from jondel.core.diff.compare import Scope
    from jondel.core.diff.noise import NoiseRules
    from jondel.core.draft.draft import Draft
    from jondel.core.draft.writing import Written
    from jondel.core.trail.history import Version
    from jondel.core.trail.restore import Restored
    from jondel.core.verify.actions import Action

_KEPT_RECORDS = 2000
"""Records listed for each table; all are counted."""
_KEPT_VALUE_BYTES = 16 * 1024
_KEPT_COMPARISONS = 8
_QUICKLY_COMPARED_BYTES = 2 * 1024 * 1024 * 1024


class Workspace(RowReading):
    """An open database with its trail. Every coroutine may raise ``JondelError``."""

    def __init__(
        self,
        target: str,
        actions: Sequence[Action] = (),
        early: EarlyLook | None = None,
        *,
        read_only: bool = False,
    ) -> None:
        """``read_only``: nothing is ever written to the database from here, whoever asks."""
        super().__init__(location_of(target), target, early)
        self.always_read_only = read_only
        self.read_only = read_only
        self.actions = tuple(actions)
        self.early = early
        self._app = Session("app")
        self._compared: dict[int, tuple[int | None, Changes]] = {}
        self._rules: NoiseRules | None = None
        self.hidden_shown = False
        self.rules_problem = ""
        """Why the project's noise rules cannot be read; empty while they can."""
        self.about_room = ""
        """What there is to say about the store's budget; empty if nothing."""
        self._acted: list[str] = []

    def close(self) -> None:
        """Stop all work and let go of everything."""
        trail = self._trail
        self._app.close()
        self._rows.close()
        self._orders.close()
        self._aside.close()
        self._survey.close(trail.close if trail else None)

    async def open_trail(self) -> None:
        """Read what is recorded for the database; it need not be readable itself for that."""
        self.steps = await self._survey.run(lambda _: self._read_steps())

    async def reload_steps(self) -> bool:
        """Read the trail anew; True if another process changed it."""
        known = [step.after for step in self.steps]
        self.steps = await self._survey.run(lambda _: self._read_steps())
        return [step.after for step in self.steps] != known

    def _read_steps(self) -> list[Step]:
        return self.trail.steps(self.rules)

    @property
    def compares_quickly(self) -> bool:
        """Whether comparing with now is cheap enough to be done without being asked.

        What it costs follows the change where a log tells what changed; else all is read.
        """
        try:
            size = os.stat(self.location).st_size
        except OSError:
            return False
        return size <= _QUICKLY_COMPARED_BYTES or os.path.exists(self.location + "-wal")

    @property
    def trail(self) -> Trail:
        """The trail, for work in the surveying thread.

        Raises:
            StoreUnavailable: it could not be opened; the database can be looked at all the same.
        """
        if self._trail is None:
            self._trail = Trail(self.location)
        return self._trail

    async def trail_size(self) -> int:
        """How many bytes the trail's snapshots take."""
        return await self._survey.run(lambda _: self.trail.size())

    # The trail

    async def take_snapshot(self, label: str | None) -> Step:
        """Take a snapshot of the live database; what the app was made to do since is its title."""
        told = len(self._acted)
        acted = ", ".join(dict.fromkeys(self._acted))
        trigger = Trigger("action", acted) if acted else Trigger()

        def work(job: Job) -> list[Step]:
            database = self._survey.live()
            job.uses(database)
            self.trail.take(database, label, trigger)
            self._make_room()
            return self._read_steps()

        self.steps = await self._survey.run(work)
        del self._acted[:told]
        return self.steps[-1]

    def _make_room(self) -> None:
        """Keep the store within its budget, and remember what there is to say about it."""
        gone, still_over = self.trail.keep_within_budget()
        if gone:
            self.about_room = f"{len(gone)} old snapshots went to make room"
        if still_over:
            self.about_room = (
                "the store is larger than its budget: delete labelled snapshots (g, d) or raise it"
            )

    async def take_if_changed(self, words: str = "") -> Step | None:
        """Take a snapshot as part of watching; None if nothing was committed since the last."""

        def work(job: Job) -> tuple[bool, list[Step]]:
            database = self._survey.live()
            job.uses(database)
            last = self.steps[-1].number if self.steps else 0
            acted = ", ".join(dict.fromkeys(self._acted))
            trigger = Trigger("action", acted) if acted and not words else Trigger("watch", words)
            taken = self.trail.take_unless_unchanged(database, trigger)
            if taken.number != last:
                self._make_room()
            return taken.number != last, self._read_steps()

        told = len(self._acted)
        taken, self.steps = await self._survey.run(work)
        if taken and not words:
            del self._acted[:told]
        return self.steps[-1] if taken else None

    async def tend(self, change: Callable[[Trail], None]) -> None:
        """Change something about the trail's snapshots, in the surveying thread."""

        def work(_: Job) -> list[Step]:
            change(self.trail)
            return self._read_steps()

        self.steps = await self._survey.run(work)
        # What was deleted may have had pages moved that open images still look for elsewhere.
        await self._rows.forget_images()
        await self._survey.forget_images()
        await self._orders.forget_images()
        await self._aside.forget_images()
        known = {step.number for step in self.steps}
        befores = {step.number: step.before and step.before.number for step in self.steps}
        for number, (before, _) in list(self._compared.items()):
            if number not in known or befores[number] != before:
                del self._compared[number]

    # Noise rules

    async def change_rules(self, rules: NoiseRules) -> str:
        """Keep other noise rules for the project; returns the file they are in."""

        from jondel.core.trail.project import Project

        def work(_: Job) -> tuple[str, list[Step]]:
            path = Project(self.location).keep_noise_rules(rules)
            self._rules = rules
            return str(path), self._read_steps()

        path, self.steps = await self._survey.run(work)
        self._compared.clear()
        return path

    def show_hidden(self, shown: bool) -> None:
        """Show what noise rules hide, or hide it again."""
        self.hidden_shown = shown
        self._compared.clear()

    @property
    def project_rules(self) -> NoiseRules:
        """The project's noise rules, whether or not they are in force. Raises ``RuleInvalid``."""
        if self._rules is None:
            from jondel.core.trail.project import Project  # not needed for the first rows

            self._rules = Project(self.location).noise_rules()
        return self._rules

    @property
    def rules(self) -> NoiseRules:
        """The noise rules in force; none where their file is broken, see ``rules_problem``."""
        from jondel.core.diff.noise import NoiseRules
        from jondel.core.errors import RuleInvalid

        if self.hidden_shown:
            return NoiseRules()
        try:
            return self.project_rules
        except RuleInvalid as error:
            self.rules_problem = str(error)
            return NoiseRules()

    @property
    def settle_seconds(self) -> float:
        """The project's settle time for watching. Raises ``RuleInvalid``."""
        from jondel.core.trail.project import Project

        return Project(self.location).settle_seconds()

    def _scope(self) -> Scope:
        from jondel.core.diff.compare import Scope  # not needed for the first rows

        return Scope(
            keep_records=_KEPT_RECORDS, keep_value_bytes=_KEPT_VALUE_BYTES, noise=self.rules
        )

    # Putting things back

    async def losses(self, number: int) -> Changes:
        """What a restore to a step would undo."""

        def work(job: Job) -> Changes:
            live = self._survey.live()
            job.uses(live)
            step = self._known_step(number)
            return self.trail.changes(step.after, live, self._scope(), job.uses)

        return await self._survey.run(work)

    async def restore(self, number: int) -> Restored:
        """Put the whole database back to a step."""
        from jondel.core.trail.restore import restore

        step = self._known_step(number)
        return await self._put_back(lambda live: restore(self.trail, live, step.after))

    async def restore_table(self, number: int, table: str) -> Restored:
        """Put one table back to a step."""
        from jondel.core.trail.restore import restore

        step = self._known_step(number)
        return await self._put_back(lambda live: restore(self.trail, live, step.after, [table]))

    async def take_back_step(self, number: int) -> Restored:
        """Undo what a step changed."""
        from jondel.core.trail.restore import take_back_step

        step = self._known_step(number)
        return await self._put_back(lambda live: take_back_step(self.trail, live, step))

    async def take_back_record(
        self, before: int, after: Moment, table: str, key: tuple[StoredValue, ...]
    ) -> Restored:
        """Undo the change of one record between a step and a later one, or now."""
        from jondel.core.trail.restore import take_back_record

        start = self._known_step(before).after
        end = self.step(after)

        def work(live: Database) -> Restored:
            ends = (start, end.after if end else live)
            return take_back_record(self.trail, live, ends, table, lambda r: r.key == key)

        return await self._put_back(work)

    def require_writing(self) -> None:
        """Raises ``WriteRefused`` where nothing is to be written."""
        if self.read_only:
            raise WriteRefused("read-only: nothing is written to this database from here")

    async def write_draft(self, draft: Draft) -> Written:
        """Write a draft, which is empty then; see ``core.draft.writing``."""
        from jondel.core.draft.writing import write_draft

        self.require_writing()

        def run(_: Job) -> tuple[Written, list[Step]]:
            # Not to be interrupted half-way: it is one transaction, and short.
            try:
                trail = self.trail
            except SnapshotError:
                return write_draft(draft, self._survey.live(), None), self.steps
            done = write_draft(draft, self._survey.live(), trail)
            self._make_room()
            return done, self._read_steps()

        done, self.steps = await self._survey.run(run)
        return done

    async def _put_back(self, work: Callable[[Database], Restored]) -> Restored:
        self.require_writing()

        def run(_: Job) -> tuple[Restored, list[Step]]:
            # Not to be interrupted half-way: it is one transaction, and short.
            done = work(self._survey.live())
            return done, self._read_steps()

        done, self.steps = await self._survey.run(run)
        return done

    def _known_step(self, number: int) -> Step:
        step = self.step(number)
        assert step is not None, "steps are chosen from those there are"
        return step

    # One record over time

    async def history(
        self, table: str, key_columns: Sequence[str], key: tuple[StoredValue, ...]
    ) -> list[Version]:
        """All versions of a record over the trail, up to now."""
        from jondel.core.trail.history import record_history

        def work(job: Job) -> list[Version]:
            live = self._survey.live()
            job.uses(live)
            return list(record_history(self.trail, table, key_columns, key, live, opened=job.uses))

        return await self._survey.run(work)

    async def changes_of(self, moment: Moment) -> Changes:
        """A step's changes; for now, those since the last step (none where there is no step)."""
        step = self.step(moment)
        if step is not None and step.number in self._compared:
            return self._compared[step.number][1]

        def work(job: Job) -> tuple[Changes, list[Step]]:
            scope = self._scope()
            if step is not None:
                found = self.trail.step_changes(step, scope, job.uses)
                return found, self._read_steps()
            if not self.steps:
                return Changes(method="same"), self.steps
            live = self._survey.live()
            job.uses(live)
            return self.trail.changes(self.steps[-1].after, live, scope, job.uses), self.steps

        changes, self.steps = await self._survey.run(work)
        if step is not None:
            while len(self._compared) >= _KEPT_COMPARISONS:
                self._compared.pop(next(iter(self._compared)))
            self._compared[step.number] = (step.before and step.before.number, changes)
        return changes

    async def changes_between(self, start: int, end: Moment) -> Changes:
        """What changed from one step to any later one, or to now."""

        def work(job: Job) -> Changes:
            scope, last = self._scope(), self.step(end)
            live = self._survey.live() if last is None else None
            if live is not None:
                job.uses(live)
            after = last.after if last is not None else live
            assert after is not None
            return self.trail.changes(self._known_step(start).after, after, scope, job.uses)

        return await self._survey.run(work)

    def known_summary(self, moment: Moment) -> ChangeSummary | None:
        """The size of a step's changes, where they have been looked at before."""
        step = self.step(moment)
        return step.summary if step is not None else None

    # The app

    async def act(self, action: Action) -> str:
        """Make the app do something; returns what it says."""
        said = await self._app.run(lambda _: action.run())
        self._acted.append(action.label)
        return said
