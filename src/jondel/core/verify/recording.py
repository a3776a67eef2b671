"""Runs an action as a step: snapshot, run, wait until the database settles, snapshot."""

from __future__ import annotations

import logging
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import NamedTuple

from jondel.core.engines.protocol import Database
from jondel.core.errors import ActionFailed, Cancelled, RecordNotFound
from jondel.core.model.addresses import TableId
from jondel.core.model.transactions import Transactions
from jondel.core.model.values import Value
from jondel.core.snapshots.action_runs import ActionRun
from jondel.core.snapshots.catalogue import Snapshot, Trigger
from jondel.core.trail.restore import restore
from jondel.core.trail.trail import Trail
from jondel.core.trail.transactions import keep_transactions, observed
from jondel.core.trail.watch import WatchTimes
from jondel.core.trail.writing_back import Stopping
from jondel.core.verify.action_run import ActionRunner
from jondel.core.verify.actions import Action, Outcome, RecordAddress
from jondel.core.verify.matchers import Setting
from jondel.core.verify.settling import wait_until_settled

_WHOLE_BYTES = 1 << 20
_USUAL_TIMES = WatchTimes()

_log = logging.getLogger(__name__)


class RecordedStep(NamedTuple):
    """A step that an action made: its ends, what came of the action, and when it ran."""

    action: Action
    before: Snapshot
    after: Snapshot
    outcome: Outcome
    setting: Setting
    transactions: Transactions | None = None
    """In how many transactions it was written, where that was observed."""
    settled: bool = True
    """False where the app went on writing, so that the step may hold more than the action."""


@dataclass(frozen=True)
class Told:
    """Who is told how far it is; called in the thread that runs it."""

    stage: Callable[[str], None] = lambda words: None
    opened: Callable[[Database], None] = lambda database: None


@dataclass(frozen=True)
class Place:
    """Where an action runs: the database, its trail, and what ``${database}`` stands for."""

    trail: Trail
    database: Database
    words: str
    record: Mapping[str, Value] = field(default_factory=dict)
    """The cells of the current record, which an action may fill in."""


def record_action(
    place: Place,
    action: Action,
    runner: ActionRunner,
    times: WatchTimes = _USUAL_TIMES,
    told: Told = Told(),
) -> RecordedStep:
    """Run an action and record what it wrote as a step, whether it failed or not.

    Raises:
        SnapshotNotFound: the snapshot that is to be restored first is not there.
        WriteRefused, RecordsMovedOn: it could not be restored.
        TargetError, StoreUnavailable: the database could not be read, or not be kept.
        Cancelled: it was stopped before it began.
    """
    trail, database = place.trail, place.database
    if action.start:
        told.stage(f"restoring {action.start}")
        restore(trail, database, trail.find(action.start), None, Stopping(told.opened))
    if runner.cancelled.is_set():
        raise Cancelled("stopped")
    told.stage("taking the snapshot before")
    before = trail.take_unless_unchanged(database, Trigger("command", f"before {action.name}"))
    with observed(database) as observation:
        told.stage("running")
        began = datetime.now(UTC)
        try:
            record = place.record or _record_of(database, action.record)
            outcome = runner.run(action, place.words, record)
        except ActionFailed as error:
            outcome = Outcome(None, "", "", 0, str(error))
        told.stage("waiting until the database settles")
        settle = times.settle if action.settle is None else action.settle
        settled = wait_until_settled(database, times._replace(settle=settle), runner.cancelled)
        ended = datetime.now(UTC)
        told.stage("taking the snapshot after")
        after = trail.take(database, None, Trigger("action", action.name))
        transactions = keep_transactions(trail, observation, before, after)
    _log.info("%s: %s ended after %.3f s: %s", database.name, action.name, outcome.seconds,
              outcome.failure or outcome.status)  # fmt: skip
    return RecordedStep(
        action, before, after, outcome, Setting(began, ended), transactions, settled
    )


def keep_run(trail: Trail, step: RecordedStep, verdict: str) -> None:
    """Remember what came of a step's action. Raises ``StoreUnavailable``."""
    outcome = step.outcome
    trail.runs.keep(
        ActionRun(
            step.after.number,
            step.action.name,
            step.setting.began,
            step.setting.ended,
            outcome.seconds,
            outcome.status,
            outcome.said,
            outcome.output,
            outcome.failure,
            verdict,
        )
    )


def _record_of(database: Database, address: RecordAddress | None) -> Mapping[str, Value]:
    """The cells of the record that an action names."""
    if address is None:
        return {}
    table = database.schema().named(address.table.spelled)
    if table is None:
        raise ActionFailed(f"record: there is no table {address.table}")
    columns = table.primary_key or table.position_columns
    if len(columns) != len(address.key):
        raise ActionFailed(
            f"record: the key of {table.title} is {', '.join(columns)}; "
            f"{len(address.key)} values are given"
        )
    return cells_of_record(database, table.id, columns, address.key)


def cells_of_record(
    database: Database, table: TableId, columns: tuple[str, ...], key: tuple[Value, ...]
) -> Mapping[str, Value]:
    """The cells of a record by column. Raises ``ActionFailed`` where it is not there."""
    declared = database.schema().by_id[table]
    position = database.rows.find_position(declared, columns, key)  # type: ignore[arg-type]
    row = None if position is None else database.rows.read_record(declared, position, _WHOLE_BYTES)
    if row is None:
        named = ", ".join(map(str, key))
        raise ActionFailed(f"record: {declared.title} has no record {named}") from RecordNotFound()
    return dict(zip(declared.column_names, row, strict=True))
