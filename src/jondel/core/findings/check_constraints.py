"""Records for which a constraint does not hold, though their table declares it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from jondel.core.diff.keys import Key
from jondel.core.engines.protocol import Database
from jondel.core.findings.finding import Suspicion
from jondel.core.model.constraints import Violation
from jondel.core.model.schema import Table
from jondel.core.model.values import StoredValue

_MOST_CHARACTERS = 200


def violations(
    database: Database,
    table: Table,
    key: Key,
    records: Sequence[tuple[StoredValue, ...]] | None = None,
) -> Iterator[tuple[Violation, Suspicion]]:
    """The records of a table for which a constraint does not hold; of very many, the first.

    With ``records`` only those with these keys are looked at. Of a server nothing is found: it
    keeps its constraints by itself.

    Raises:
        Cancelled: it was interrupted.
    """
    columns = (table.row_id,) if key.is_row_id else key.columns
    names = [name for name in columns if name is not None]
    if database.constraints is None or not names:
        return
    for violation in database.constraints.violations(table, names, records):
        words = " ".join(violation.constraint.split())[:_MOST_CHARACTERS]
        yield violation, Suspicion("constraint", f"CHECK ({words}) does not hold", 0.99)
