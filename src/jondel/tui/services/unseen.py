"""The steps that came by themselves and that nobody has looked at yet."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from jondel.tui.services.moments import AtStep, Moment


class UnseenSteps:
    """Steps that were recorded while watching, or by another Jondel."""

    def __init__(self) -> None:
        self._numbers: list[int] = []

    def __len__(self) -> int:
        return len(self._numbers)

    def __contains__(self, number: object) -> bool:
        return number in self._numbers

    def __iter__(self) -> Iterator[int]:
        return iter(self._numbers)

    @property
    def first(self) -> AtStep | None:
        """The earliest of them."""
        return AtStep(self._numbers[0]) if self._numbers else None

    def add(self, numbers: Iterable[int]) -> None:
        """New steps are on the trail."""
        self._numbers = sorted({*self._numbers, *numbers})

    def look_at(self, moment: Moment) -> None:
        """Somebody looks at a moment."""
        if isinstance(moment, AtStep) and moment.number in self._numbers:
            self._numbers.remove(moment.number)

    def keep(self, numbers: Iterable[int]) -> None:
        """These are the steps that there still are."""
        self._numbers = sorted({*self._numbers} & {*numbers})
