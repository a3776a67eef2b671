"""The Verify view: the list of actions and findings, and what is known of the current one."""

from __future__ import annotations

import time

from textual.app import ComposeResult

from jondel.core.errors import JondelError
from jondel.core.findings.finding import Finding
from jondel.core.trail.trail import Step
from jondel.core.verify.actions import Action
from jondel.tui.frame.desk import Desk
from jondel.tui.frame.moment_state import MomentState
from jondel.tui.frame.navigator import Reach
from jondel.tui.frame.place import Place
from jondel.tui.frame.view import Arrival, View
from jondel.tui.services.verifying import KnownPlan, StepKnowledge
from jondel.tui.views.verify.words import detail_of_action, detail_of_finding, list_lines
from jondel.tui.widgets.bands import Band
from jondel.tui.widgets.part_lines import PartLines

_TICK_SECONDS = 0.2


class VerifyView(View):
    """Actions and findings above, the current one below."""

    NAME = "verify"
    WIDGET_KEYS = (("Moving in the lists of Verify", PartLines.BINDINGS),)
    DEFAULT_CSS = """
    VerifyView #verify-list { height: 3fr; }
    VerifyView #verify-detail { height: 2fr; border-top: solid $panel; }
    """

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._title = Band(id="verify-title", classes="title")
        self.list = PartLines(id="verify-list")
        self.detail = PartLines(id="verify-detail")
        self.plan: KnownPlan | None = None
        self.findings: list[Finding] | None = []
        self._findings_of = ""
        self._found_for: object = None
        self._of_all = False
        """Whether the findings are those of all tables."""
        self._knowledge: dict[str, StepKnowledge] = {}
        self._now_running: tuple[Action, str, float] | None = None
        self._note = ""

    def compose(self) -> ComposeResult:
        yield self._title
        yield self.list
        yield self.detail

    def on_mount(self) -> None:
        self.set_interval(_TICK_SECONDS, self._tick)

    @property
    def focus_target(self) -> PartLines:
        return self.list

    @property
    def current_action(self) -> Action | None:
        """The action that the cursor is on."""
        chosen = self.list.chosen
        return chosen if isinstance(chosen, Action) else None

    @property
    def current_finding(self) -> Finding | None:
        """The finding that the cursor is on."""
        chosen = self.list.chosen
        return chosen if isinstance(chosen, Finding) else None

    @property
    def step_of_current(self) -> Step | None:
        """The step that the current action's last run made, if it is there."""
        action = self.current_action
        runs = self.plan.runs_of(action) if action is not None and self.plan is not None else []
        numbers = {step.number: step for step in self._desk.workspace.trail.steps}
        return numbers.get(runs[-1].number or -1) if runs else None

    async def prepare(self, place: Place, state: MomentState) -> Arrival:
        return Arrival(place, self._arrive)

    def _arrive(self) -> None:
        self.refresh_all()

    def show_changes(self, state: MomentState) -> None:
        self._look_for_findings()

    async def refresh_rows(self, state: MomentState) -> None:
        """What is known is of steps; nothing here is of the rows as they are now."""

    # What is known

    def refresh_all(self) -> None:
        """Read the project's file and the runs anew."""
        self._desk.start(self._load, "verify")
        self._look_for_findings()

    async def _load(self) -> None:
        self.plan = await self._desk.workspace.verifying.plan()
        self._knowledge.clear()
        self.show_lists()
        await self._know()

    def _look_for_findings(self) -> None:
        """Look for those of the step that one is at, or of the last one."""
        trail = self._desk.workspace.trail
        at = trail.resolve(self._desk.place.moment)
        step = at if isinstance(at, Step) else trail.last
        wanted = (step.number, step.after.image) if step is not None else None
        if wanted == self._found_for and not self._of_all:
            return
        self._found_for, self._of_all = wanted, False
        if step is None or step.before is None:
            self.findings, self._findings_of = [], "of a step: there is none yet"
            self.show_lists()
            return
        self.findings, self._findings_of = None, f"of {step.after.id}, being looked for …"
        self.show_lists()

        async def look() -> None:
            found = await self._desk.workspace.verifying.findings_of_step(step)
            self.show_findings(found, f"of {step.after.id}")

        self._desk.start(look, "findings")

    def show_findings(self, found: list[Finding], of: str, *, of_all: bool = False) -> None:
        """Show findings, and of what they are."""
        self.findings, self._findings_of, self._of_all = found, of, of_all
        self.show_lists()

    @property
    def shows_all_tables(self) -> bool:
        """Whether the findings are those of all tables."""
        return self._of_all

    def forget_findings(self) -> None:
        """Have them looked for anew."""
        self._found_for = object()
        self._look_for_findings()

    async def _know(self) -> None:
        """Find out how the current action's last step stands to what is expected of it."""
        action, step = self.current_action, self.step_of_current
        if action is None or step is None or action.name in self._knowledge:
            return
        try:
            knowledge = await self._desk.workspace.verifying.knowledge(step)
        except JondelError as error:
            self._note = str(error)
            self.show_detail()
            return
        self._knowledge[action.name] = knowledge
        self.show_detail()

    # Running

    def show_running(self, action: Action | None, stage: str = "") -> None:
        """Show that an action runs and how far it is; None when it is over."""
        began = self._now_running[2] if self._now_running is not None else time.monotonic()
        self._now_running = (action, stage, began) if action is not None else None
        self.show_lists()

    def _tick(self) -> None:
        if self._now_running is not None:
            self._show_title()

    def stop(self) -> str:
        running = self.running
        if running is None or not self._desk.stop_work("verify run"):
            return ""
        return f"stopping {running.name}"

    @property
    def running(self) -> Action | None:
        """The action that runs now."""
        return self._now_running[0] if self._now_running is not None else None

    # Showing

    def show_lists(self) -> None:
        """Show all that is known."""
        if self.plan is None or not self.is_attached:
            return
        running = ""
        if self._now_running is not None:
            running = f"{self._now_running[0].name}\n{self._now_running[1]}"
        width = max(20, self.list.size.width - 2)
        lines = list_lines(self.plan, self.findings, self._findings_of, running, width)
        self.list.show(list(lines))
        self._show_title()
        self.show_detail()
        self._desk.show_surroundings()

    def _show_title(self) -> None:
        plan = self.plan
        if self._now_running is not None:
            action, stage, began = self._now_running
            seconds = time.monotonic() - began
            words = f" {action.name}: {stage} … {seconds:.0f} s"
            self._title.show([(words, "strong")], [(" Escape stops it ", "flag")])
            return
        right = []
        if plan is not None and plan.actions:
            last = [runs[-1] for action in plan.actions if (runs := plan.runs_of(action))]
            met = sum(run.met is True for run in last)
            unmet = sum(run.met is False for run in last)
            right = [(f"{met} met ", "plain"), (f" {unmet} not met ", "flag" if unmet else "dim")]
        name = plan.path.name if plan is not None else ""
        self._title.show([(" verify", "strong"), (f"  {name}", "dim")], right)

    def show_detail(self) -> None:
        """Show what is known of the current line."""
        action, finding = self.current_action, self.current_finding
        if finding is not None:
            self.detail.show(list(detail_of_finding(finding)))
        elif action is not None and self.plan is not None:
            note = self._note
            if self.running == action and self._now_running is not None:
                note = f"{self._now_running[1]} …"
            knowledge = self._knowledge.get(action.name)
            self.detail.show(list(detail_of_action(action, self.plan, knowledge, note)))
        else:
            self.detail.show([])

    def on_part_lines_moved(self, event: PartLines.Moved) -> None:
        event.stop()
        if event.lines is self.list:
            self._note = ""
            self.show_detail()
            self._desk.start(self._know, "verify know", Reach.MOMENT)
            self._desk.show_surroundings()

    def on_part_lines_wanted(self, event: PartLines.Wanted) -> None:
        event.stop()
        if event.lines is self.list:
            self._desk.run("verify.run")

    @property
    def has_record(self) -> bool:
        return self.list.chosen is not None
