"""What helps where records keep a draft from being written: having them go or let go too."""

from __future__ import annotations

from collections.abc import Sequence
from enum import Enum

from jondel.core.draft.draft import Draft
from jondel.core.draft.draft_plan import cells_of
from jondel.core.engines.protocol import Database
from jondel.core.errors import WriteRefused
from jondel.core.model.rows import Window
from jondel.core.model.schema import Schema
from jondel.core.model.writes import Obstacle

MOST_IN_THE_WAY = 10_000


class Remedy(Enum):
    """What can be taken into the draft for the records of an obstacle."""

    DELETE = "delete them too"
    SET_NULL = "set their links to NULL"


def remedies_for(obstacle: Obstacle, schema: Schema) -> tuple[Remedy, ...]:
    """What would help; nothing where it is not a link that would lead nowhere."""
    if obstacle.link is None or not obstacle.positions:
        return ()
    columns = _freed_columns(obstacle, schema)
    return (Remedy.DELETE, Remedy.SET_NULL) if columns else (Remedy.DELETE,)


def records_in_the_way(obstacle: Obstacle, database: Database) -> Window:
    """All records of an obstacle with a link, as they are now.

    Raises:
        WriteRefused: there are too many, or the table is gone.
    """
    link, table = obstacle.link, database.schema().find(obstacle.table)
    if link is None or table is None:
        raise WriteRefused(f"{obstacle.table}: the table is no longer there")
    cells = tuple(zip(link.child_columns, link.values, strict=True))
    found = database.rows.matching_rows(table, cells, MOST_IN_THE_WAY + 1)
    if len(found.rows) > MOST_IN_THE_WAY:
        raise WriteRefused(
            f"{obstacle.table}: more than {MOST_IN_THE_WAY} records point there; "
            "change them with the app, or with a filter and = in Records"
        )
    return found


def apply_remedy(
    draft: Draft, found: Sequence[tuple[Obstacle, Window]], schema: Schema, remedy: Remedy
) -> int:
    """Take a remedy for records into the draft; returns for how many.

    Where it cannot be had for an obstacle, that one is left. A record that is drafted already
    stays as it is drafted otherwise.
    """
    count = 0
    with draft.one_edit():
        for obstacle, window in found:
            table = schema.find(obstacle.table)
            if table is None or remedy not in remedies_for(obstacle, schema):
                continue
            columns = _freed_columns(obstacle, schema)
            for position, row in zip(window.positions, window.rows, strict=True):
                original = cells_of(table, row)
                if remedy is Remedy.DELETE:
                    draft.delete(table.id, position, original)
                else:
                    for name in columns:
                        draft.set_cell(table.id, position, original, name, None)
                count += 1
    return count


def _freed_columns(obstacle: Obstacle, schema: Schema) -> tuple[str, ...]:
    """The columns of a link that can be NULL; with one of them NULL it points at nothing."""
    table = schema.find(obstacle.table)
    if obstacle.link is None or table is None:
        return ()
    columns = [table.column(name) for name in obstacle.link.child_columns]
    free = (c for c in columns if c and not (c.not_null or c.key_position or c.generated))
    return tuple(column.name for column in free)
