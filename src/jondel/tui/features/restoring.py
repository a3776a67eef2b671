"""Putting things back: the whole database, a table, what a step changed, one record."""

from __future__ import annotations

from collections.abc import Awaitable, Iterable, Sequence
from functools import partial
from typing import TYPE_CHECKING, Protocol

from jondel.core.browse.display import line
from jondel.core.errors import (
    DatabaseDamaged,
    LinkedInTheWay,
    NotADatabase,
    TargetNotFound,
    WriteError,
)
from jondel.core.model.changes import ChangeCounts, Changes, Unread
from jondel.core.trail.trail import Step
from jondel.tui.features.comparing import selected_step
from jondel.tui.features.confirming import (
    answer_to,
    confirm,
    confirm_taking_back,
    show_obstacles,
)
from jondel.tui.frame.commands import CHANGES, Command, Situation
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.feature import Feature
from jondel.tui.frame.place import Place
from jondel.tui.services.moments import AtStep, Moment, Now, OtherDatabase
from jondel.tui.views.changes.access import current_change

if TYPE_CHECKING:
    from jondel.core.trail.restore import Restored


_NOT_COMPARED = (
    " What could not be compared is left alone, unless the whole database is copied over."
)


class PutBack(Protocol):
    """Work that puts something back; ``with_linked`` as in ``core.trail.restore``."""

    def __call__(self, *, with_linked: bool) -> Awaitable[Restored]: ...


class Restoring(Feature):
    """A snapshot is taken first, so that it can be undone itself."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        desk.restore_step = self._start_restore
        desk.take_back_step = self._start_taking_back

    def commands(self) -> Iterable[Command]:
        yield Command(
            "restore",
            "restore",
            "restore the database to the selected step",
            "Time",
            self._restore_selected,
            ("R",),
            refusal=_refusal,
            footer_rank=lambda s: 0 if s.at_now else 45,
        )
        yield Command(
            "take_back.record",
            "take back",
            "take back the change of this record",
            "Changes",
            self._take_back_record,
            ("u",),
            contexts=CHANGES,
            refusal=_record_refusal,
            footer_rank=lambda _: 48,
        )
        yield Command(
            "take_back.step",
            "take back the step",
            "take back what the selected step changed",
            "Time",
            self._take_back_selected,
            ("U",),
            refusal=_refusal,
        )

    # The whole database, or a table

    def _restore_selected(self) -> None:
        step = selected_step(self.desk)
        if step is not None:
            self._start_restore(step)

    def _start_restore(self, step: Step) -> None:
        self.desk.start(partial(self._restore, step), "restore")

    async def _restore(self, step: Step) -> None:
        from jondel.tui.dialogs.confirm import Confirmed, Question
        from jondel.tui.widgets.listed_changes import MOST_LISTED

        desk = self.desk
        try:
            with desk.busy("comparing"):
                lost = await desk.workspace.comparisons.losses(step)
        except (TargetNotFound, NotADatabase, DatabaseDamaged) as error:
            await self._restore_where_there_is_none(step, str(error))
            return
        if lost.empty and not lost.hidden and not lost.unread:
            desk.say(f"the database already matches {step.after.title}")
            return
        table = desk.place.table
        part = f"restores only {line(str(table), 40)}" if table and lost.table(table) else ""
        name = desk.database_name or "the database"
        writing = desk.workspace.writing
        question = Question(
            f"Restore {name} to {step.after.title}? This will be undone:",
            "restores",
            changes=lost,
            footnote="A snapshot is taken first, so the restore can be undone."
            + (_NOT_COMPARED if lost.unread else ""),
            part=part,
            statements=partial(writing.statements_to_restore, step, MOST_LISTED),
        )
        answer = await answer_to(desk, question)
        if answer is Confirmed.YES:
            self._put_back("restoring", partial(writing.restore, step))
        elif answer is Confirmed.PART and table:
            self._put_back("restoring", partial(writing.restore_table, step, table))

    async def _restore_where_there_is_none(self, step: Step, problem: str) -> None:
        """Ask whether a snapshot is to stand where there is no usable database."""
        if await confirm(
            self.desk,
            f"Restore {step.after.title}? The database cannot be used in its present state:",
            [problem, "", "Whatever is there now is kept aside."],
            "restores",
        ):
            self._put_back("restoring", partial(self.desk.workspace.writing.restore, step))

    # What a step changed

    def _take_back_selected(self) -> None:
        step = selected_step(self.desk)
        if step is not None:
            self._start_taking_back(step)

    def _start_taking_back(self, step: Step) -> None:
        self.desk.start(partial(self._take_back, step), "restore")

    async def _take_back(self, step: Step) -> None:
        writing = self.desk.workspace.writing
        if await confirm_taking_back(self.desk, f"Take back {step.after.title}?", step):
            self._put_back("taking back", partial(writing.take_back_step, step))

    async def _take_back_record(self) -> None:
        from jondel.tui.dialogs.confirm import Confirmed, Question
        from jondel.tui.widgets.listed_changes import MOST_LISTED

        desk = self.desk
        current = current_change(desk)
        start, end = self._ends()
        if current is None or start is None:
            desk.say("select a change first; u takes it back")
            return
        table, record, writing = current.table.table, current.record, desk.workspace.writing
        counts = ChangeCounts().counted(record.kind)
        question = Question(
            "Take back the change of this record? This will be undone:",
            "takes it back",
            changes=Changes((current.table._replace(records=(record,), counts=counts),)),
            footnote="Only if it has not changed since.",
            statements=partial(
                writing.statements_to_take_back_record, start, end, table, record.key, MOST_LISTED
            ),
        )
        if await answer_to(desk, question) is Confirmed.YES:
            work = partial(writing.take_back_record, start, end, table, record.key)
            self._put_back("taking back", work)

    def _ends(self) -> tuple[Step | None, Moment]:
        """The step that the changes shown begin with, and the moment that they end with."""
        trail, place = self.desk.workspace.trail, self.desk.place
        if isinstance(place.compare_from, OtherDatabase):
            raise WriteError(
                f"these are differences from {place.compare_from.name}, not changes to take back"
            )
        if place.compare_from is not None:
            return trail.require_step(place.compare_from.number), place.moment
        if isinstance(place.moment, Now):
            return trail.last, place.moment
        step = trail.step_at(place.moment)
        if step.before is None:
            return None, place.moment
        return trail.require_step(step.before.number), AtStep(step.number)

    # Doing it

    def _put_back(self, words: str, work: PutBack, *, with_linked: bool = False) -> None:
        # On its own, for what is written is not to be forgotten whatever is asked for next.
        finish = partial(self._finish, words, work, with_linked)
        self.desk.start(finish, "put-back", beside=True)

    async def _ask_for_linked(self, error: LinkedInTheWay) -> bool:
        """Ask whether records are to go that links take along."""
        from jondel.tui.dialogs.confirm import Confirmed, Question
        from jondel.tui.widgets.listed_changes import MOST_LISTED

        desk = self.desk
        question = Question(
            "Take these along? They point at what will be gone:",
            "takes them along",
            changes=await desk.workspace.writing.changes_of(error.writes, MOST_LISTED),
            footnote="\n".join(obstacle.reason for obstacle in error.obstacles[:3]),
        )
        return await answer_to(desk, question) is Confirmed.YES

    async def _finish(self, words: str, work: PutBack, with_linked: bool) -> None:
        desk = self.desk
        desk.stop_work("counts")
        desk.comparer.pause()
        token = desk.follower.token
        try:
            with desk.busy(words), desk.follower.writing_ourselves():
                done = await work(with_linked=with_linked)
        except LinkedInTheWay as error:
            if await self._ask_for_linked(error):
                self._put_back(words, work, with_linked=True)
            else:
                desk.say("nothing was written")
            return
        except WriteError as error:
            await show_obstacles(desk, error)
            return
        finally:
            desk.comparer.refresh_now()
        desk.follower.action_recorded(token)
        desk.comparer.start_anew()
        if done.before is None:
            kept = f"; what lay there is kept as {done.aside}" if done.aside else ""
            desk.say(f"done: {done.after.title}{kept}")
        elif not done.changed:
            desk.say(f"nothing to do{_left_alone(done.left_alone)}")
        else:
            said = f"done: {done.after.title}{_left_alone(done.left_alone)}"
            desk.say(f"{said}. Restore {done.before.id} (g, R) to undo this")
        place = desk.navigator.destination
        desk.navigator.go(Place(compare_from=place.compare_from, table=place.table), afresh=True)


def _left_alone(tables: Sequence[Unread]) -> str:
    """What to say of the tables that could not be compared."""
    if not tables:
        return ""
    more = f" and {len(tables) - 1} more" if len(tables) > 1 else ""
    return f"; left alone: {line(str(tables[0].table), 40)}{more} ({line(tables[0].reason, 60)})"


def _refusal(situation: Situation) -> str:
    if not situation.steps:
        return "no snapshots yet; s takes one"
    if situation.read_only:
        return "read-only: Jondel writes nothing to this database"
    return ""


def _record_refusal(situation: Situation) -> str:
    return _refusal(situation) or (
        "" if situation.has_record else "select a change first; u takes it back"
    )
