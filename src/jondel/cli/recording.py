"""The two snapshots around a command that ``record`` runs, also where it makes the database."""

from __future__ import annotations

import tempfile
from contextlib import ExitStack, closing

from jondel.cli.target import Target
from jondel.core.engines.registry import is_there, open_database
from jondel.core.engines.roles import Observation
from jondel.core.errors import TargetNotFound
from jondel.core.model.transactions import Transactions
from jondel.core.snapshots.catalogue import Snapshot, Trigger
from jondel.core.trail.trail import check_label
from jondel.core.trail.transactions import keep_transactions, observed


class Recording:
    """What is recorded of a database from ``begin`` to ``end``."""

    def __init__(self, target: Target, label: str | None, trigger: Trigger) -> None:
        """Raises ``LabelInvalid`` or ``LabelTaken``."""
        self._target = target
        self._label = label
        self._trigger = trigger
        self._before: Snapshot | None = None
        self._observing = ExitStack()
        self._observation: Observation | None = None
        self.transactions: Transactions | None = None
        """In how many transactions it was written, once it has ended."""
        if label is not None:
            check_label(label)
            target.trail.require_free(label)

    def begin(self) -> None:
        """Take the snapshot before, of nothing where there is no database yet."""
        trail, before = self._target.trail, Trigger("command", f"before {self._trigger.text}")
        if not is_there(self._target.location):
            # An empty file is a database in which there is nothing.
            with (
                tempfile.NamedTemporaryFile() as empty,
                closing(open_database(empty.name)) as nothing,
            ):
                self._before = trail.take_unless_unchanged(nothing, before)
        else:
            database = self._target.database
            self._before = trail.take_unless_unchanged(database, before)
            self._observation = self._observing.enter_context(observed(database))

    def end(self) -> tuple[Snapshot, Snapshot] | None:
        """Take the snapshot after; gives both, or None where there is no database then either."""
        before, trail = self._before, self._target.trail
        assert before is not None, "it has begun"
        with self._observing:
            try:
                database = self._target.database
            except TargetNotFound:
                return None
            after = trail.take(database, self._label, self._trigger)
            self.transactions = keep_transactions(trail, self._observation, before, after)
        return before, after
