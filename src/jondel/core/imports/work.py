"""An import as something that is tried out and then written."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from types import MappingProxyType

from jondel.core.imports.plan import ImportPlan, import_statements
from jondel.core.imports.rejects import Rejected, Rejects, rejects_beside
from jondel.core.model.outcomes import ScriptStatement
from jondel.core.model.values import StoredValue
from jondel.core.query.work import Prepared, Questions
from jondel.core.sql.dialect import Dialect

_REASONS_SAID = 10


class ImportWork:
    """See ``WritingWork``. ``rejected`` is what the last time came to."""

    values: Mapping[str, StoredValue] = MappingProxyType({})

    def __init__(
        self,
        plan: ImportPlan,
        dialect: Dialect,
        progress: Callable[[int], None] = lambda rows: None,
        *,
        rejects_to: Path | None = None,
        any_rejected: bool = True,
    ) -> None:
        """``progress`` is told how many rows are in the table, in the thread that inserts them.

        Rejected rows go to a file beside the imported one, or to ``rejects_to``; where none may
        be, nothing is written.
        """
        self.plan = plan
        self.rejected = Rejected(0)
        self._dialect, self._progress = dialect, progress
        self._rejects_to, self._any_rejected = rejects_to, any_rejected

    @contextmanager
    def prepared(self, ask: Questions, *, for_real: bool) -> Iterator[Prepared]:
        """See ``WritingWork.prepared``.

        Raises:
            ImportFailed: the file has changed, or rejected rows cannot be kept.
        """
        if not for_real:
            rejects = Rejects(any_allowed=self._any_rejected)
            yield Prepared(self._statements(rejects), lambda: self._told(rejects.result()))
            return
        with rejects_beside(
            self.plan.path, self._rejects_to, any_allowed=self._any_rejected
        ) as kept:
            yield Prepared(self._statements(kept.rejects), lambda: self._told(kept.keep()))

    def _statements(self, rejects: Rejects) -> tuple[ScriptStatement, ...]:
        return import_statements(self.plan, self._dialect, rejects, self._progress)

    def _told(self, rejected: Rejected) -> Sequence[str]:
        self.rejected = rejected
        return rejected_words(rejected)


def rejected_words(rejected: Rejected) -> list[str]:
    """What was rejected, in lines: the reasons, and where the rows are."""
    if not rejected.rows:
        return []
    lines = [
        f"rejected: {reason} ({_rows(count)})" for reason, count in rejected.reasons[:_REASONS_SAID]
    ]
    left = len(rejected.reasons) - _REASONS_SAID
    if left > 0:
        lines.append(f"and {left} other reason{'' if left == 1 else 's'}")
    where = f"they are in {rejected.path}" if rejected.path is not None else "they stay out"
    return [*lines, f"{_rows(rejected.rows)} rejected; {where}"]


def _rows(count: int) -> str:
    return f"{count} row{'' if count == 1 else 's'}"
