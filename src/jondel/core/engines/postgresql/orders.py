"""The rows of a filtered or sorted sheet: the keys of a server's rows in their order.

Keys are kept as the server writes them, one after the other: it never has a NUL in a text, so that
one parts the columns, and another byte the keys.
"""

from __future__ import annotations

from array import array
from bisect import bisect_right
from collections.abc import Sequence
from typing import TypeAlias, cast

from jondel.core.engines.postgresql.session import Asked, Session
from jondel.core.engines.postgresql.sql_text import quoted, quoted_list, source
from jondel.core.model.rows import Position, Window
from jondel.core.model.schema import Table

Part: TypeAlias = bytes
"""One column of a key, as the server writes it."""
_COLUMN, _KEY = b"\x00", b"\x00\x00"


class ServerOrder:
    """Keys in order; where rows have none, what to read them by."""

    anywhere = True

    def __init__(self, where: Asked, order: str) -> None:
        self.where, self.order = where, order
        self._keys = bytearray(_KEY)
        self._ends: array[int] = array("Q")
        self.rows = 0

    @property
    def bytes(self) -> int:
        return len(self._keys) + self._ends.itemsize * len(self._ends)

    def add(self, key: Sequence[Part | None]) -> None:
        """The key of the next row."""
        self._keys += _COLUMN.join(part or b"" for part in key) + _KEY
        self._ends.append(len(self._keys))
        self.rows += 1

    def key(self, place: int) -> list[Part]:
        start = self._ends[place - 1] if place else len(_KEY)
        return bytes(self._keys[start : self._ends[place] - len(_KEY)]).split(_COLUMN)

    @property
    def has_keys(self) -> bool:
        return bool(self._ends)

    def ordinal_of(self, position: Position) -> int | None:
        if not position:
            return None
        wanted = _COLUMN.join(_written(part) for part in position)
        at = self._keys.find(_KEY + wanted + _KEY)
        return bisect_right(self._ends, at + len(_KEY)) if at >= 0 else None


def _written(value: object) -> bytes:
    """A key's value as the server writes it."""
    if isinstance(value, bytes):
        return b"\\x" + value.hex().encode()
    text = str(value)
    return {"true": "t", "false": "f"}.get(text, text).encode("utf-8", "surrogatepass")


def ordered_window(
    session: Session, table: Table, order: ServerOrder, offset: int, limit: int
) -> Window:
    """Rows of an order; those that are gone come as empty ones."""
    if not order.has_keys:
        if not order.rows:
            return Window(offset, (), ())
        by = f" ORDER BY {order.order}" if order.order else ""
        asked = Asked(" WHERE ") + order.where + f"{by} LIMIT {limit} OFFSET {offset}"
        rows = session.rows(table, asked)
        return Window(offset, tuple(p for p, _ in rows), tuple(r for _, r in rows))
    keys = [order.key(place) for place in range(offset, min(offset + limit, order.rows))]
    if not keys:
        return Window(offset, (), ())
    names = ", ".join(f"jondel_v{number}" for number in range(len(table.primary_key)))
    match = " AND ".join(
        f"t.{quoted(name)} = k.jondel_v{number}" for number, name in enumerate(table.primary_key)
    )
    listed = session.values_list(table, [[part.decode() for part in key] for key in keys])
    joined = Asked(" JOIN ") + listed + f" AS k(jondel_n, {names}) ON {match}"
    found = dict(session.rows(table, joined))
    positions = [cast(Position, session.whole(table, table.primary_key, key)) for key in keys]
    return Window(offset, tuple(positions), tuple(found.get(p, ()) for p in positions))


def key_statement(table: Table, where: Asked, order: str) -> Asked:
    """What reads the keys of an order."""
    names = quoted_list(table.primary_key) or "1"
    by = f" ORDER BY {order}" if order else ""
    return Asked(f"SELECT {names} FROM {source(table)} t WHERE ") + where + by
