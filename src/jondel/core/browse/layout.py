"""How a person wants a table's columns: which are shown, in which order, how wide."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple


class ColumnLayout(NamedTuple):
    """The choices for one table's columns, all by name; what is not chosen follows the table.

    ``order`` names columns in the order wanted, the others follow; ``widths`` are in cells;
    ``frozen`` is how many of the shown columns stay in place while the others scroll, None for the
    key's where they come first.
    """

    order: tuple[str, ...] = ()
    hidden: frozenset[str] = frozenset()
    widths: tuple[tuple[str, int], ...] = ()
    frozen: int | None = None

    def shown(self, names: Sequence[str], key: Sequence[str]) -> list[int]:
        """The indexes of the shown columns among the table's names, in the order wanted.

        Where no order is wanted the key's columns come first, so that they can stay in place.
        """
        if not self.order:
            in_key = [number for number, name in enumerate(names) if name in key]
            rest = [number for number in range(len(names)) if number not in in_key]
            return [number for number in (*in_key, *rest) if names[number] not in self.hidden]
        index = {name: number for number, name in enumerate(names)}
        wanted = [index[name] for name in self.order if name in index]
        chosen = set(wanted)
        # A column that is new since comes where the table has it: behind its neighbour.
        for number in range(len(names)):
            if number not in chosen:
                before = wanted.index(number - 1) + 1 if number and number - 1 in wanted else 0
                wanted.insert(before if number else 0, number)
        return [number for number in wanted if names[number] not in self.hidden]

    def width(self, name: str) -> int | None:
        """The width chosen for a column."""
        return next((width for column, width in self.widths if column == name), None)

    def frozen_places(self, key: Sequence[str], shown: Sequence[str]) -> int:
        """How many of the shown columns, by name, are to stay."""
        if self.frozen is not None:
            return min(self.frozen, len(shown))
        return next((place for place, name in enumerate(shown) if name not in key), len(shown))

    def with_width(self, name: str, width: int | None) -> ColumnLayout:
        """This with a column as wide, or as wide as its content for None."""
        others = tuple(entry for entry in self.widths if entry[0] != name)
        return self._replace(widths=others if width is None else (*others, (name, width)))

    def with_hidden(self, name: str, hidden: bool) -> ColumnLayout:
        """This with a column hidden or shown."""
        rest = self.hidden - {name}
        return self._replace(hidden=rest | {name} if hidden else rest)

    def moved(
        self, names: Sequence[str], key: Sequence[str], name: str, places: int
    ) -> ColumnLayout:
        """This with a column moved by some places among all, hidden ones included."""
        order = [names[number] for number in self._replace(hidden=frozenset()).shown(names, key)]
        at = order.index(name)
        order.remove(name)
        order.insert(max(0, min(at + places, len(order))), name)
        return self._replace(order=tuple(order))

    def as_plain(self) -> dict[str, Any]:
        """For a file."""
        return {
            "order": list(self.order),
            "hidden": sorted(self.hidden),
            "widths": dict(self.widths),
            "frozen": self.frozen,
        }

    @classmethod
    def from_plain(cls, plain: Mapping[str, Any]) -> ColumnLayout:
        """From a file; what is not understood counts as not chosen."""
        order, hidden = plain.get("order"), plain.get("hidden")
        widths, frozen = plain.get("widths"), plain.get("frozen")
        return cls(
            tuple(map(str, order)) if isinstance(order, list) else (),
            frozenset(map(str, hidden)) if isinstance(hidden, list) else frozenset(),
            tuple((str(n), w) for n, w in widths.items() if isinstance(w, int) and 0 < w < 1000)
            if isinstance(widths, dict)
            else (),
            frozen if isinstance(frozen, int) and frozen >= 0 else None,
        )
