"""What is to be written to a database, row by row, and what must hold for it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, NamedTuple, TypeAlias

from jondel.core.model.addresses import TableId
from jondel.core.model.rows import Position
from jondel.core.model.values import StoredValue

WriteKind: TypeAlias = Literal["insert", "update", "delete"]
Cells: TypeAlias = tuple[tuple[str, StoredValue], ...]
"""Columns and their values."""


@dataclass(frozen=True)
class RowWrite:
    """One row to insert, update or delete.

    An update or delete takes place where all cells of ``expected`` hold exactly, storage class
    included; there must be one such row. ``values`` are the cells to write. Columns are named as
    the table names them, its row number by the name it can be selected by.
    """

    kind: WriteKind
    table: TableId
    expected: Cells
    values: Cells
    record: str
    """The record in words, for messages."""
    position_columns: tuple[str, ...] = ()
    """What addresses the table's rows; see ``Table``."""


@dataclass(frozen=True)
class LinkCheck:
    """After writing: if a row of ``child`` holds these values, ``parent`` must have them too."""

    child: TableId
    child_columns: tuple[str, ...]
    parent: TableId
    parent_columns: tuple[str, ...]
    values: tuple[StoredValue, ...]
    child_position_columns: tuple[str, ...] = ()
    """What addresses the child's rows; see ``Table``."""


class SequenceState(NamedTuple):
    """Where a sequence of numbers is: the last one, and whether that has been taken."""

    sequence: TableId
    last: int
    taken: bool


@dataclass(frozen=True)
class WritePlan:
    """Rows to write as one transaction, in this order, and what must hold at its end."""

    writes: tuple[RowWrite, ...]
    checks: tuple[LinkCheck, ...] = ()
    triggers: bool = False
    """Whether the database's triggers run, as they do when the app writes."""
    sequences: tuple[SequenceState, ...] = ()
    """Where sequences are to be afterwards."""


class Obstacle(NamedTuple):
    """Records of one table for which a plan cannot be written.

    ``reason`` says it whole, in words. ``positions`` are the first of the records, of ``total``;
    there may be none where they have no address. Where they are left pointing at a record that
    would be gone, ``link`` is how, and it would help if they went or pointed at nothing;
    otherwise it is None.
    """

    reason: str
    table: TableId
    positions: tuple[Position, ...] = ()
    total: int = 0
    link: LinkCheck | None = None
