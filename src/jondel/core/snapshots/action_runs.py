"""The runs of the app's actions: when, what came of them, and which step each made."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple

from jondel.core.snapshots.catalogue import Catalogue

_KEPT = 2000
"""So many runs of a database are remembered."""
_COLUMNS = "number, action, began_at, ended_at, seconds, status, said, output, failure, verdict"


class ActionRun(NamedTuple):
    """One run of an action.

    ``number`` is that of the step it made, None where that is gone or there was none. ``failure``
    says why it failed, empty where it did not; ``verdict`` what came of its expectation in a few
    words, ``met`` where it is met, empty where there is none. Secrets are in none of it.
    """

    number: int | None
    action: str
    began: datetime
    ended: datetime
    seconds: float
    status: int | None
    said: str
    output: str
    failure: str
    verdict: str

    @property
    def met(self) -> bool | None:
        """Whether its expectation was met; None where it has none. A run that failed meets none."""
        if self.failure:
            return False
        return self.verdict == "met" if self.verdict else None


class ActionRuns:
    """What a catalogue knows of the runs for one database."""

    def __init__(self, catalogue: Catalogue) -> None:
        self._catalogue = catalogue

    def all(self) -> list[ActionRun]:
        """All runs that are remembered, oldest first."""
        rows = self._catalogue.read(
            f"SELECT {_COLUMNS} FROM action_run r JOIN database d ON d.id = r.database_id "
            "WHERE location = ?1 ORDER BY r.id"
        )
        return [_run(*row) for row in rows]

    def of_step(self, number: int) -> ActionRun | None:
        """The run that made a step, if one did."""
        rows = self._catalogue.read(
            f"SELECT {_COLUMNS} FROM action_run r JOIN database d ON d.id = r.database_id "
            "WHERE location = ?1 AND number = ?2 ORDER BY r.id DESC LIMIT 1",
            number,
        )
        return _run(*rows[0]) if rows else None

    def judge(self, number: int, verdict: str) -> None:
        """Say what came of the expectation of the run that made a step, if one did."""
        with self._catalogue.writing() as (connection, of):
            connection.execute(
                "UPDATE action_run SET verdict = ? WHERE database_id = ? AND number = ?",
                (verdict, of, number),
            )

    def keep(self, run: ActionRun) -> None:
        """Remember a run; the oldest are forgotten where there are many.

        Raises:
            StoreUnavailable: it cannot be written down.
        """
        row = (*run[:2], run.began.isoformat(), run.ended.isoformat(), *run[4:])
        with self._catalogue.writing() as (connection, of):
            connection.execute(
                f"INSERT INTO action_run(database_id, {_COLUMNS}) "
                "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (of, *row),
            )
            connection.execute(
                "DELETE FROM action_run WHERE database_id = ?1 AND id <= "
                "(SELECT id FROM action_run WHERE database_id = ?1 "
                "ORDER BY id DESC LIMIT 1 OFFSET ?2)",
                (of, _KEPT),
            )


def _run(
    number: int | None, action: str, began: str, ended: str, seconds: float, *rest: object
) -> ActionRun:
    times = datetime.fromisoformat(began), datetime.fromisoformat(ended)
    return ActionRun(number, action, *times, seconds, *rest)  # type: ignore[arg-type]
