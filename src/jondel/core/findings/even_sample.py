"""A sample of values that come one after the other, taken evenly from all of them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Generic, TypeVar

T = TypeVar("T")


class EvenSample(Generic[T]):
    """Each n-th of the values fed, where n doubles whenever there would be more than wanted.

    So the first are no better represented than the last, however many come.
    """

    def __init__(self, most: int) -> None:
        self._most = most
        self._taken: list[T] = []
        self._each = 1
        self._passed_over = 0
        """How many of the next values are not taken."""

    @property
    def values(self) -> Sequence[T]:
        """What was taken, in the order in which it came."""
        return self._taken

    @property
    def version(self) -> tuple[int, int]:
        """Differs where the values do."""
        return self._each, len(self._taken)

    def feed(self, values: Sequence[T]) -> None:
        """Take of some more values those whose turn it is."""
        taken = values[self._passed_over :: self._each]
        self._taken += taken
        self._passed_over += len(taken) * self._each - len(values)
        while len(self._taken) > self._most:
            if len(self._taken) % 2:
                self._passed_over += self._each
            self._taken = self._taken[::2]
            self._each *= 2
