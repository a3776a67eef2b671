"""Asking before something is done: one way for all features."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from functools import partial
from typing import TYPE_CHECKING

from jondel.core.errors import WriteError
from jondel.core.trail.trail import Step
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.place import AtPosition, Place

if TYPE_CHECKING:
    from jondel.core.draft.remedies import Remedy
    from jondel.tui.dialogs.confirm import Confirmed, Question
    from jondel.tui.dialogs.obstacles import ObstacleAnswer
    from jondel.tui.services.drafts import PlannedWrite


async def confirm(
    desk: Desk, title: str, lines: Sequence[str], yes: str, no: str = "cancels"
) -> bool:
    """Ask whether to do something; ``yes`` says what is done then, and ``no`` what else."""
    from jondel.tui.dialogs.confirm import Confirmed, Question  # most keys ask nothing

    return await answer_to(desk, Question(title, yes, lines, no=no)) is Confirmed.YES


async def answer_to(desk: Desk, question: Question) -> Confirmed:
    """Ask whether to do all of something, nothing, or only the part that is offered."""
    from jondel.tui.dialogs.confirm import ConfirmDialog

    return await desk.ask(ConfirmDialog(question))


async def show_obstacles(
    desk: Desk, error: WriteError, remedies: Collection[Remedy] = ()
) -> ObstacleAnswer | None:
    """Name the records for which nothing was written, all of them, and offer what would help.

    Goes to a record that is chosen. Raises the error itself where it names no records.
    """
    from jondel.tui.dialogs.obstacles import ObstacleDialog

    obstacles = error.obstacles
    if len(obstacles) < 2 and not any(obstacle.positions for obstacle in obstacles):
        raise error
    answer = await desk.ask(ObstacleDialog(obstacles, remedies))
    if answer is None:
        desk.say_problem(error)
    elif answer.table:
        place = Place(table=answer.table, record=AtPosition(answer.position))
        desk.navigator.go(place, view="records", afresh=True, focus=True)
    return answer


async def confirm_plan(
    desk: Desk, title: str, yes: str, planned: PlannedWrite, footnote: str
) -> bool:
    """Ask whether a planned write is meant, record by record."""
    from jondel.tui.dialogs.confirm import Confirmed, ListedStatements, Question

    async def statements() -> ListedStatements:
        return planned.statements, len(planned.plan.plan.writes)

    question = Question(
        title, yes, changes=planned.changes, footnote=footnote, statements=statements
    )
    return await answer_to(desk, question) is Confirmed.YES


async def confirm_taking_back(desk: Desk, title: str, step: Step) -> bool:
    """Ask whether what a step changed is to be undone."""
    from jondel.tui.dialogs.confirm import Confirmed, Question
    from jondel.tui.widgets.listed_changes import MOST_LISTED

    with desk.busy("comparing"):
        changes = await desk.workspace.comparisons.step_changes(step)
    writing = desk.workspace.writing
    question = Question(
        f"{title} This will be undone:",
        "takes it back",
        changes=changes,
        footnote="Only if none of it has changed since.",
        statements=partial(writing.statements_to_take_back_step, step, MOST_LISTED),
    )
    return await answer_to(desk, question) is Confirmed.YES
