"""The rows of a file as new records, for the draft."""

from __future__ import annotations

from collections.abc import Mapping

from jondel.core.errors import ImportFailed
from jondel.core.imports.plan import ImportedRows, ImportPlan, require_unchanged
from jondel.core.imports.rejects import Rejects
from jondel.core.imports.source import open_source
from jondel.core.model.values import StoredValue

MOST_DRAFTED = 2_000


def drafted_records(
    plan: ImportPlan, rejects: Rejects, most: int = MOST_DRAFTED
) -> list[Mapping[str, StoredValue]]:
    """The records that a file holds, by the columns of the table.

    Raises:
        ImportFailed: there are more than ``most``, or the table is yet to be made.
    """
    if plan.is_new:
        raise ImportFailed(f"{plan.table} is yet to be made: rows for it cannot be in the draft")
    problem = plan.problem()
    if problem:
        raise ImportFailed(problem)
    require_unchanged(plan)
    found: list[Mapping[str, StoredValue]] = []
    source = open_source(plan.path, plan.options)
    for batch in ImportedRows(plan, source, rejects, lambda rows: None).batches():
        found += [dict(zip(batch.columns, row, strict=True)) for row in batch.rows]
        if len(found) > most:
            raise ImportFailed(
                f"{plan.path.name} has more than {most} rows, too many for the draft; "
                "import it at once"
            )
    return found
