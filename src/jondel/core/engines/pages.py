"""How a database made of pages hands them out, and is opened from pages kept elsewhere.

For engines whose whole database is one array of pages of equal size. What is captured goes into a
``PageSink``; what was captured is opened from a ``PageSource``.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Protocol, TypeAlias

if TYPE_CHECKING:  # slow to load, and not needed to look at a database
    import numpy as np
    import numpy.typing as npt

PageHashes: TypeAlias = "npt.NDArray[np.uint64]"
"""128-bit hashes, one row of two numbers a page."""

PageIndexes: TypeAlias = "npt.NDArray[np.intp]"

Origin: TypeAlias = dict[str, Any]
"""Where captured pages came from, in the engine's own words; JSON values only."""


class PageSink(Protocol):
    """Takes the pages of one capture."""

    @property
    def known(self) -> Origin | None:
        """The origin of the pages that the sink has already, from the capture before."""

    def begin(self, page_size: int, page_count: int, *, partial: bool) -> None:
        """Start, or start over: what was put since the last ``begin`` is void.

        ``partial`` says that pages which are not put are as they were at ``known``.
        """

    def put(self, indexes: PageIndexes, data: bytes | bytearray) -> None:
        """Take whole pages; ``indexes`` count from 0 and rise.

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
    def hashes(self) -> PageHashes:
        """The pages' hashes, shaped ``(page_count, 2)``; equal hashes, equal pages."""

    def read(self, index: int) -> bytes:
        """One page; ``index`` counts from 0.

        Raises:
            StoreUnavailable: it is missing or damaged.
        """

    @property
    def touched(self) -> set[int]:
        """The indexes of the pages that were read so far."""

    def close(self) -> None: ...
