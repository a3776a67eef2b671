"""The store as a whole: the catalogue, and a shelf for each database.

Its size is kept within a budget by removing the oldest snapshots that have neither label nor pin.
"""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Iterator
from contextlib import closing, suppress
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from jondel.core.errors import StoreUnavailable
from jondel.core.snapshots.catalogue import Catalogue, Snapshot
from jondel.core.snapshots.old_images import is_old_image, keep_only_old_images
from jondel.core.snapshots.settings import change_store_settings, store_settings

if TYPE_CHECKING:
    from jondel.core.snapshots.shelf import Shelf

_KEPT_LATEST = 2
"""So many snapshots of a database are never removed to save room: what one is working with."""
_PART_REMOVED_AT_ONCE = 8


class Usage(NamedTuple):
    """What the store holds of one database."""

    location: str
    snapshots: int
    size_bytes: int


class Store:
    """The store in its folder; opening it makes nothing."""

    def __init__(self, home: Path | None = None) -> None:
        self._home = home
        self.settings = store_settings(home)
        self.folder = self.settings.folder

    def catalogue(self, location: str) -> Catalogue:
        return Catalogue(self.folder, location)

    def shelf(self, location: str) -> Shelf:
        """Where the pages of a database's snapshots are."""
        from jondel.core.snapshots.shelf import Shelf  # needs numpy: slow to load

        return Shelf(self.shelf_folder(location))

    def shelf_folder(self, location: str) -> Path:
        digest = hashlib.sha256(location.encode("utf-8", "surrogateescape")).hexdigest()[:16]
        return self.folder / "images" / digest

    def size(self) -> int:
        """How many bytes the snapshots of all databases take."""
        return _folder_size(self.folder / "images")

    def size_of(self, location: str) -> int:
        """How many bytes the snapshots of one database take."""
        return _folder_size(self.shelf_folder(location))

    def usage(self) -> list[Usage]:
        """What is kept of each database."""
        found = []
        for location in self._locations():
            with closing(self.catalogue(location)) as catalogue:
                count = len(catalogue.snapshots())
            found.append(Usage(location, count, self.size_of(location)))
        return found

    def clear_up(self, location: str, *, thorough: bool = False) -> None:
        """Remove what no snapshot of the database needs any more."""
        with closing(self.catalogue(location)) as catalogue, closing(self.shelf(location)) as shelf:
            shelf.keep_only(
                lambda: {snapshot.image for snapshot in catalogue.snapshots()}, thorough=thorough
            )
            old = {s.image for s in catalogue.snapshots() if is_old_image(s.image)}
            keep_only_old_images(self.shelf_folder(location), old)

    @property
    def over_budget(self) -> bool:
        """Whether the store takes more than its budget."""
        return self.size() > self.settings.budget_bytes

    def keep_within_budget(self) -> list[tuple[str, Snapshot]]:
        """Remove the oldest unprotected snapshots until the budget suffices; returns them.

        The latest of each database stay, and so does everything with a label or a pin, even
        where the store then is larger than its budget.
        """
        removed: list[tuple[str, Snapshot]] = []
        while self.over_budget:
            dispensable = self._dispensable()
            if not dispensable:
                break
            part = dispensable[: max(1, len(dispensable) // _PART_REMOVED_AT_ONCE)]
            for location in {location for location, _ in part}:
                numbers = [snapshot.number for of, snapshot in part if of == location]
                with closing(self.catalogue(location)) as catalogue:
                    catalogue.remove(numbers)
                self.clear_up(location, thorough=True)
            removed += part
        return removed

    def damage(self) -> Iterator[tuple[str, Snapshot, str]]:
        """Read everything, and yield each snapshot that is damaged, with what is wrong."""
        for location in self._locations():
            with (
                closing(self.catalogue(location)) as catalogue,
                closing(self.shelf(location)) as shelf,
            ):
                checked: dict[str, str | None] = {}
                for snapshot in catalogue.snapshots():
                    if is_old_image(snapshot.image):
                        continue
                    if snapshot.image not in checked:
                        checked[snapshot.image] = shelf.problem_of(snapshot.image)
                    problem = checked[snapshot.image]
                    if problem:
                        yield location, snapshot, problem

    def empty(self, location: str | None = None) -> None:
        """Throw the snapshots of one database away, or of all."""
        for one in [location] if location else self._locations():
            with closing(self.catalogue(one)) as catalogue:
                catalogue.forget()
            shutil.rmtree(self.shelf_folder(one), ignore_errors=True)

    def move(self, folder: Path) -> None:
        """Move the store to another folder, which must be empty or not exist.

        Everything is copied before the new place is written down, and the old one goes last.

        Raises:
            StoreUnavailable: it cannot be moved there.
        """
        folder = folder.expanduser().absolute()
        if folder == self.folder or self.folder in folder.parents:
            raise StoreUnavailable(f"{folder}: the store cannot be moved into itself")
        if folder.exists() and any(folder.iterdir()):
            raise StoreUnavailable(f"{folder}: not empty; give a new or an empty folder")
        try:
            if self.folder.exists():
                shutil.copytree(self.folder, folder, dirs_exist_ok=True)
                folder.chmod(0o700)
        except (OSError, shutil.Error) as error:
            shutil.rmtree(folder, ignore_errors=True)
            raise StoreUnavailable(
                f"{folder}: the store cannot be copied there ({error}); it stays where it is"
            ) from error
        change_store_settings(self._home, folder=str(folder))
        shutil.rmtree(self.folder, ignore_errors=True)
        self.folder = folder

    def _locations(self) -> list[str]:
        if not self.folder.exists():
            return []
        with closing(self.catalogue("")) as catalogue:
            return catalogue.locations()

    def _dispensable(self) -> list[tuple[str, Snapshot]]:
        """Snapshots that may go to save room, the oldest first."""
        found = []
        for location in self._locations():
            with closing(self.catalogue(location)) as catalogue:
                earlier = catalogue.snapshots()[:-_KEPT_LATEST]
            found += [(location, snapshot) for snapshot in earlier if not snapshot.protected]
        return sorted(found, key=lambda entry: entry[1].taken_at)


def _folder_size(folder: Path) -> int:
    total = 0
    with suppress(FileNotFoundError), os.scandir(folder) as entries:  # gone, or not made yet
        for entry in entries:
            with suppress(FileNotFoundError):  # another process clears up meanwhile
                is_folder = entry.is_dir()
                total += _folder_size(Path(entry.path)) if is_folder else entry.stat().st_size
    return total
