"""Runs the actions of a plan and holds what each wrote against what is expected."""

from __future__ import annotations

import hashlib
import re
import shutil
import threading
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import NamedTuple

from jondel.core.browse.link_guesses import guessed_links
from jondel.core.browse.links import all_links, declared_links
from jondel.core.diff.compare import Scope
from jondel.core.diff.noise import NoiseRules
from jondel.core.engines.protocol import Database
from jondel.core.engines.registry import is_on_server, open_database
from jondel.core.errors import ActionFailed, JondelError
from jondel.core.files.home import jondel_home, private_folder
from jondel.core.model.addresses import TableId
from jondel.core.model.changes import Changes
from jondel.core.snapshots.catalogue import Trigger
from jondel.core.snapshots.store import Store
from jondel.core.trail.project import Project
from jondel.core.trail.trail import Trail
from jondel.core.trail.watch import WatchTimes
from jondel.core.verify.acceptance import Accepted, Knowledge, Seen, accept
from jondel.core.verify.action_run import ActionRunner, AskPerson
from jondel.core.verify.actions import Action
from jondel.core.verify.matching import hold_against
from jondel.core.verify.plan_file import Plan
from jondel.core.verify.recording import Place, RecordedStep, Told, keep_run, record_action
from jondel.core.verify.verdict import Verdict

_KEPT_RECORDS = 100_000
"""Of each table, so many records are held against an expectation; beyond them only their number."""
_COPIES_AT_ONCE = 4


class ActionResult(NamedTuple):
    """What came of one run of an action.

    ``step`` and ``changes`` are None where it did not come to a step; ``problem`` says why then.
    ``verdict`` is None where nothing is expected of it. ``target`` is where its trail is.
    """

    action: Action
    turn: int
    """Which of its runs it is, from 1."""
    target: str
    step: RecordedStep | None = None
    changes: Changes | None = None
    verdict: Verdict | None = None
    problem: str = ""

    @property
    def failure(self) -> str:
        """Why it failed, whatever it was to write; empty where it did not."""
        return self.problem or (self.step.outcome.failure if self.step is not None else "")

    @property
    def met(self) -> bool | None:
        """Whether it did what is expected; None where nothing is."""
        if self.failure:
            return False
        return None if self.verdict is None else self.verdict.met

    @property
    def summary(self) -> str:
        """What came of it in a few words."""
        if self.failure:
            return f"failed: {self.failure}"
        return "nothing is expected of it" if self.verdict is None else self.verdict.summary


@dataclass(frozen=True)
class Surroundings:
    """What a run goes by beside the plan: the project's folder and rules, and the environment."""

    folder: Path
    environment: Mapping[str, str]
    times: WatchTimes = field(default_factory=WatchTimes)
    rules: NoiseRules = field(default_factory=NoiseRules)
    ask_person: AskPerson | None = None
    cancelled: threading.Event = field(default_factory=threading.Event)

    @classmethod
    def of(
        cls,
        project: Project,
        environment: Mapping[str, str],
        ask_person: AskPerson | None = None,
    ) -> Surroundings:
        """Those of a project. Raises ``RuleInvalid`` where its file cannot be understood."""
        return cls(
            project.root,
            environment,
            project.watch_times(),
            project.noise_rules(),
            ask_person,
        )

    def runner(self) -> ActionRunner:
        return ActionRunner(self.folder, self.environment, self.ask_person, self.cancelled)


class PlanRun:
    """Runs the actions of a plan, those on the database itself one after the other, in their
    order, those on copies of it several at once."""

    def __init__(
        self,
        plan: Plan,
        place: Place,
        surroundings: Surroundings,
        told: Told | None = None,
        *,
        keeps_copies: bool = False,
    ) -> None:
        """Copies stay where an expectation is not met; with ``keeps_copies`` all of them do."""
        self._keeps_copies = keeps_copies
        self._plan = plan
        self._place = place
        self._around = surroundings
        self._told = told or Told()

    def results(self, actions: Sequence[Action]) -> Iterator[ActionResult]:
        """Run actions, and yield what came of each run of them as it ends."""
        in_place = [action for action in actions if not action.copy]
        on_copies = [action for action in actions if action.copy]
        with closing(self._around.runner()) as runner:
            for action in in_place:
                for turn in range(1, action.repeat + 1):
                    if self._around.cancelled.is_set():
                        return
                    yield self.result(action, turn, self._place, runner)
        if on_copies:
            yield from self._on_copies(on_copies)

    def result(self, action: Action, turn: int, place: Place, runner: ActionRunner) -> ActionResult:
        """Run an action once and hold what it wrote against what is expected."""
        target = place.database.location
        try:
            step = record_action(place, action, runner, self._around.times, self._told)
            changes = place.trail.changes(
                step.before,
                step.after,
                Scope(noise=self._around.rules, keep_records=_KEPT_RECORDS, inside=False),
                self._told.opened,
            )
            expectation = self._plan.expectation_of(action)
            verdict = None
            if expectation is not None:
                verdict = hold_against(expectation, changes, step.setting, step.transactions)
            keep_run(place.trail, step, verdict.summary if verdict is not None else "")
        except JondelError as error:
            return ActionResult(action, turn, target, problem=str(error))
        return ActionResult(action, turn, target, step, changes, verdict)

    def _on_copies(self, actions: Sequence[Action]) -> Iterator[ActionResult]:
        turns = [(action, turn) for action in actions for turn in range(1, action.repeat + 1)]
        with ThreadPoolExecutor(_COPIES_AT_ONCE, thread_name_prefix="copy") as executor:
            making = threading.Lock()
            running = [
                executor.submit(self._on_copy, action, turn, making) for action, turn in turns
            ]
            for future in running:
                yield future.result()

    def _on_copy(self, action: Action, turn: int, making: threading.Lock) -> ActionResult:
        place = self._place
        try:
            if is_on_server(place.database.location):
                raise ActionFailed(
                    "copies are made of SQLite files alone; leave out copy, and say from which "
                    "snapshot it starts: from = ..."
                )
            with making:  # the trail is one thread's at a time
                path = self._make_copy(action, turn)
            return self._run_on(path, action, turn)
        except JondelError as error:
            return ActionResult(action, turn, place.database.location, problem=str(error))

    def _make_copy(self, action: Action, turn: int) -> Path:
        """A copy of the database as the snapshot has it, or as it is now."""
        trail, database = self._place.trail, self._place.database
        source = Path(database.location)
        folder = copies_folder(database.location) / f"{_plain(action.name)}-{turn}"
        forget_copy(folder / source.name)
        private_folder(folder)
        start = (
            trail.find(action.start)
            if action.start
            else trail.take_unless_unchanged(database, Trigger("command", f"before {action.name}"))
        )
        trail.export(start, folder / source.name)
        return folder / source.name

    def _run_on(self, path: Path, action: Action, turn: int) -> ActionResult:
        with (
            closing(open_database(str(path))) as database,
            closing(Trail(database.location)) as trail,
            closing(self._around.runner()) as runner,
        ):
            place = Place(trail, database, str(path), self._place.record)
            # The copy is of the state that it starts from.
            result = self.result(replace(action, start=""), turn, place, runner)
        if result.met is not False and not self._keeps_copies:
            forget_copy(path)
        return result._replace(action=action)


def copies_folder(location: str) -> Path:
    """Where copies of a database are that actions run on."""
    digest = hashlib.sha256(location.encode("utf-8", "surrogateescape")).hexdigest()[:16]
    return jondel_home() / "copies" / digest


def forget_copy(path: Path) -> None:
    """Throw a copy and its trail away."""
    Store().empty(str(path))
    shutil.rmtree(path.parent, ignore_errors=True)


def _plain(name: str) -> str:
    """A name as a folder can have it."""
    plain = re.sub(r"[^A-Za-z0-9]+", "-", name).strip("-").lower()[:40]
    return f"{plain}-{hashlib.sha256(name.encode()).hexdigest()[:6]}"


# Accepting


def knowledge_of(
    project: Project,
    after: Database,
    given: str,
    varying: Sequence[tuple[TableId, str]] = (),
) -> Knowledge:
    """What helps to tell what varies in a step that ends with this state."""
    schema = after.schema()
    links = all_links(
        declared_links(schema),
        guessed_links(after, schema),
        project.link_decisions().resolved(schema),
    )
    return Knowledge(schema, tuple(links), given, tuple(varying))


def accepted(trail: Trail, project: Project, results: Sequence[ActionResult]) -> Accepted | None:
    """What to expect of an action that was run once or several times; None without any step.

    Further runs tell what varies where they began from the same state.
    """
    steps = [result for result in results if result.step is not None and not result.failure]
    if not steps:
        return None
    first = steps[0]
    assert first.step is not None
    assert first.changes is not None
    again = [
        Seen(result.changes, result.step.setting)
        for result in steps[1:]
        if result.step is not None
        and result.changes is not None
        and result.step.before.image == first.step.before.image
    ]
    with trail.opened(first.step.after) as after:
        knowledge = knowledge_of(project, after, first.action.given)
    seen = Seen(first.changes, first.step.setting)
    return accept(first.action.expectation, seen, knowledge, again)
