"""How a database made of pages hands them out, and is opened from pages kept elsewhere.

For engines whose whole database is one array of pages of equal size. What is captured goes into a
``PageSink``; what was captured is opened from a ``PageSource``.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, Protocol, TypeAlias

if TYPE_CHECKING:  # slow to load, and needed for large databases only
    import numpy as np
    import numpy.typing as npt

HASH_BYTES = 16
PageHashes: TypeAlias = "npt.NDArray[np.uint64]"
"""128-bit hashes, one row of two numbers a page."""

PageIndexes: TypeAlias = "npt.NDArray[np.intp]"

MOST_SMALL_PAGES = 512
"""A state of so many pages is handled without arrays: to load numpy would take longer than that."""

Origin: TypeAlias = dict[str, Any]
"""Where captured pages came from, in the engine's own words; JSON values only."""


def is_small(page_count: int) -> bool:
    """Whether a state of so many pages is handled without arrays."""
    return page_count <= MOST_SMALL_PAGES


class PageSink(Protocol):
    """Takes the pages of one capture."""

    @property
    def known(self) -> Origin | None:
        """The origin of the pages that the sink has already, from the capture before."""

    def begin(self, page_size: int, page_count: int, *, partial: bool) -> None:
        """Start, or start over: what was put since the last ``begin`` is void.

        ``partial`` says that pages which are not put are as they were at ``known``.
        """

    def put(self, indexes: Sequence[int], data: bytes | bytearray) -> None:
        """Take whole pages; ``indexes`` count from 0 and rise, a ``range`` where none is left out.

        A page that is put again is as it was put last. The data must not change afterwards.
        """

    def resize(self, page_count: int) -> None:
        """The state turned out to have another number of pages than was begun with.

        Pages that are new must be put.
        """

    def end(self, origin: Origin) -> None:
        """All pages were put, and they are of one consistent state."""


class PagePeek(Protocol):
    """Single pages of a state that is not opened."""

    @property
    def page_size(self) -> int: ...

    def hashes(self, pages: PageIndexes) -> PageHashes | None:
        """The hashes of some pages (indexes from 0); None where the state has not all of them."""

    def read(self, index: int) -> bytes:
        """One page. Raises ``StoreUnavailable``."""


class PageSource(Protocol):
    """The pages of one state of a database."""

    @property
    def page_size(self) -> int: ...

    @property
    def page_count(self) -> int: ...

    @property
    def hashes(self) -> bytes:
        """The pages' hashes, ``HASH_BYTES`` each, one behind the other.

        Pages with equal hashes are equal.
        """

    def read(self, index: int) -> bytes:
        """One page; ``index`` counts from 0.

        Raises:
            StoreUnavailable: it is missing or damaged.
        """

    @property
    def touched(self) -> set[int]:
        """The indexes of the pages that were read so far."""

    def close(self) -> None: ...
