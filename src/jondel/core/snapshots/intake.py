"""Takes in the pages of one capture: finds those that the store has, keeps the others."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from jondel.core.engines.pages import Origin, is_small
from jondel.core.snapshots.few_pages import FewPages
from jondel.core.snapshots.manifests import Manifest
from jondel.core.snapshots.packs import PackFolder
from jondel.core.snapshots.page_keeper import Keep, PageKeeper

if TYPE_CHECKING:
    from jondel.core.snapshots.many_pages import ManyPages

_MOST_FOUND_ONE_BY_ONE = 1 << 13
"""Among more pages than this, those of a small state too are looked for as arrays."""


class Intake:
    """The sink of one capture, see ``PageSink``.

    ``previous`` is the state captured before, ``origin`` where it came from, and ``known_groups``
    the hashes of its groups of pages. ``indexed`` says that new pages are kept for good and can be
    found again.
    """

    def __init__(
        self,
        previous: Manifest | None,
        origin: Origin | None,
        packs: PackFolder,
        keep: Keep,
        known_groups: bytes = b"",
        indexed: bool = True,
    ) -> None:
        self.known = origin if previous is not None else None
        self._previous = previous
        self._keeper = PageKeeper(packs, keep, indexed=indexed)
        self._known_groups = known_groups
        self._pages: FewPages | ManyPages | None = None
        self._manifest: Manifest | None = None
        self.origin: Origin | None = None

    def begin(self, page_size: int, page_count: int, *, partial: bool) -> None:
        previous = self._previous
        if previous is not None and previous.page_size != page_size:
            previous = None
        in_index = self._keeper.packs.index_entries()
        if is_small(page_count) and in_index <= _MOST_FOUND_ONE_BY_ONE:
            self._pages = FewPages(page_size, page_count, previous, self._keeper)
            return
        from jondel.core.snapshots.many_pages import ManyPages  # needs numpy: slow to load

        self._pages = ManyPages(
            page_size, page_count, previous, self._keeper, self._known_groups, partial=partial
        )

    def put(self, indexes: Sequence[int], data: bytes | bytearray) -> None:
        self._begun.put(indexes, data)

    def resize(self, page_count: int) -> None:
        self._begun.resize(page_count)

    def end(self, origin: Origin) -> None:
        self._manifest = self._begun.manifest()  # which may still have pages to keep
        self.origin = origin

    @property
    def manifest(self) -> Manifest:
        """The state that was taken in."""
        assert self._manifest is not None, "the capture has not ended"
        return self._manifest

    @property
    def groups(self) -> bytes:
        """The hashes of its groups of pages, zeros where they are not known."""
        return self._begun.groups()

    @property
    def _begun(self) -> FewPages | ManyPages:
        assert self._pages is not None, "the capture has not begun"
        return self._pages
