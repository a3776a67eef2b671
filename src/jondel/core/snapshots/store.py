"""The store as a whole: the catalogue, and a shelf for each database.

Its size is kept within a budget by removing the oldest snapshots that have neither label nor pin.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, suppress
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from jondel.core.engines.registry import likeness
from jondel.core.errors import SnapshotNotFound, SnapshotProtected, StoreUnavailable
from jondel.core.files.small_files import move_small_files
from jondel.core.snapshots.catalogue import Catalogue, Snapshot, as_signed
from jondel.core.snapshots.old_images import is_old_image, keep_only_old_images
from jondel.core.snapshots.settings import change_store_settings, store_settings

if TYPE_CHECKING:
    from jondel.core.engines.protocol import Database
    from jondel.core.snapshots.shelf import Shelf

_ALIKE = 0.5
"""Share of pages in common from which on a file is taken for a database that was moved."""
_KEPT_LATEST = 2
"""So many snapshots of a database are never removed to save room: what one is working with."""


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

    def shelf(self, location: str, *, lasting: bool = True) -> Shelf:
        """Where the pages of a database's snapshots are; ``lasting``: see ``Shelf``."""
        from jondel.core.snapshots.shelf import Shelf  # needs numpy: slow to load

        return Shelf(
            self.shelf_folder(location),
            largest_table=self.settings.largest_table_bytes,
            lasting=lasting,
        )

    def shelf_folder(self, location: str) -> Path:
        with closing(self.catalogue(location)) as catalogue:
            return self.folder / "images" / catalogue.shelf_name()

    def trail_of(self, location: str) -> tuple[str, str | None]:
        """The location under which what is recorded of a database is found.

        Its own, mostly. Another name of the same file (a hard link) has the same trail. Of a file
        that was renamed the trail is taken over: it is the same file, holds what the database
        held, and that is gone from its place. The second item is the place of one that is gone
        and that the file may be a copy of, which only a person can know.
        """
        with closing(self.catalogue(location)) as catalogue:
            if catalogue.last() is not None:
                return location, None
            try:
                info = os.stat(location)
            except (OSError, ValueError):
                return location, None
            identity = (as_signed(info.st_dev), as_signed(info.st_ino))
            gone: list[tuple[str, Snapshot]] = []
            renamed: list[tuple[str, Snapshot]] = []
            for other, known_by, latest in catalogue.latest_of_others():
                try:
                    if os.path.samestat(os.stat(other), info):
                        return other, None
                except FileNotFoundError:
                    if not is_old_image(latest.image) and "\\" not in other:
                        (renamed if known_by == identity else gone).append((other, latest))
                except OSError:
                    continue
            if not (gone or renamed) or not stat.S_ISREG(info.st_mode) or not catalogue.writable:
                return location, None
            moved_from = self._most_alike(location, renamed)
            if moved_from is not None:
                self._take_over(catalogue, location, moved_from)
                return location, None
        return location, self._most_alike(location, gone)

    def take_over(self, location: str, other: str) -> None:
        """Have what is recorded of another location be this database's.

        Raises:
            SnapshotNotFound: nothing is recorded of the other one.
            SnapshotProtected: something is recorded of this one.
        """
        with closing(self.catalogue(location)) as catalogue:
            if catalogue.last() is not None:
                raise SnapshotProtected(
                    f"{location} has a trail of its own; empty it first "
                    f"(`jondel store empty {location}`)"
                )
            if other not in catalogue.locations():
                raise SnapshotNotFound(
                    f"nothing is recorded of {other}; `jondel store` lists what is"
                )
            self._take_over(catalogue, location, other)

    def _take_over(self, catalogue: Catalogue, location: str, other: str) -> None:
        catalogue.take_over(other)
        move_small_files(other, location)

    def _most_alike(self, location: str, gone: Sequence[tuple[str, Snapshot]]) -> str | None:
        """Which of some databases that are gone from their places a file is, if it is one."""
        likenesses: dict[str, float] = {}
        for other, latest in gone:
            with closing(self.shelf(other)) as shelf, suppress(StoreUnavailable):
                likenesses[other] = likeness(location, shelf.peek(latest.image))
        best = max(likenesses, key=lambda other: likenesses[other], default=None)
        return best if best is not None and likenesses[best] >= _ALIKE else None

    def size(self) -> int:
        """How many bytes the snapshots of all databases take."""
        return _folder_size(self.folder / "images")

    def size_of(self, location: str) -> int:
        """How many bytes the snapshots of one database take."""
        return _folder_size(self.shelf_folder(location))

    def usage(self) -> list[Usage]:
        """What is kept of each database."""
        usages = []
        for location in self._locations():
            with closing(self.catalogue(location)) as catalogue:
                count = len(catalogue.snapshots())
            usages.append(Usage(location, count, self.size_of(location)))
        return usages

    def clear_up(self, location: str, *, thorough: bool = False) -> None:
        """Remove what no snapshot of the database needs any more."""
        with closing(self.catalogue(location)) as catalogue, closing(self.shelf(location)) as shelf:
            shelf.keep_only(catalogue.images, thorough=thorough)
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
        cleared = False
        while (size := self.size()) > self.settings.budget_bytes:
            dispensable = self._dispensable()
            if not dispensable and cleared:
                break
            excess = size - self.settings.budget_bytes
            part = dispensable[: self._enough_to_free(excess, dispensable, at_least=int(cleared))]
            cleared = True
            for location in {location for location, _ in part} or set(self._locations()):
                numbers = [snapshot.number for of, snapshot in part if of == location]
                with closing(self.catalogue(location)) as catalogue:
                    catalogue.remove(numbers)
                self.clear_up(location, thorough=True)
            removed += part
        return removed

    def _enough_to_free(
        self, excess: int, dispensable: Sequence[tuple[str, Snapshot]], at_least: int
    ) -> int:
        """About how many of the first of these must go to free so many bytes."""
        freed = [0] * len(dispensable)
        for location in {location for location, _ in dispensable}:
            ranks = {s.image: at for at, (of, s) in enumerate(dispensable) if of == location}
            with closing(self.catalogue(location)) as catalogue:
                others = catalogue.images() - ranks.keys()
            with closing(self.shelf(location)) as shelf:
                sizes, unneeded = shelf.freed_by(ranks, others)
            excess -= unneeded
            for rank, size in sizes.items():
                freed[rank] += size
        total = 0
        for at, size in enumerate(freed):
            if total >= excess and at >= at_least:
                return at
            total += size
        return len(dispensable)

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

    def mend(
        self, location: str, database: Database | None, let_go: Callable[[list[Snapshot]], bool]
    ) -> list[Snapshot]:
        """Find lost pages of a database's snapshots anew, and let go of what stays damaged.

        ``database`` is the live one, where it can be read; a snapshot's page may be in it still.
        ``let_go`` is asked before snapshots are removed. Returns those that stay damaged.
        """
        with closing(self.catalogue(location)) as catalogue:
            with closing(self.shelf(location)) as shelf:
                damaged = set(shelf.mend(database))
                missing = {s.image for s in catalogue.snapshots()} - set(shelf.names())
            lost = [
                snapshot
                for snapshot in catalogue.snapshots()
                if snapshot.image in damaged | missing and not is_old_image(snapshot.image)
            ]
            if lost and let_go(lost):
                catalogue.remove([snapshot.number for snapshot in lost])
                lost = []
        if not lost:
            self.clear_up(location)
        return lost

    def locations(self) -> list[str]:
        """The databases that something is recorded of."""
        return self._locations()

    def empty(self, location: str | None = None) -> None:
        """Throw the snapshots of one database away, or of all."""
        import shutil  # slow to load, and seldom needed

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
        import shutil  # slow to load, and seldom needed

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
        dispensable = []
        for location in self._locations():
            with closing(self.catalogue(location)) as catalogue:
                earlier = catalogue.snapshots()[:-_KEPT_LATEST]
            dispensable += [(location, snapshot) for snapshot in earlier if not snapshot.protected]
        return sorted(dispensable, key=lambda entry: entry[1].taken_at)


def _folder_size(folder: Path) -> int:
    total = 0
    with suppress(OSError), os.scandir(folder) as entries:  # gone, or not made yet
        for entry in entries:
            with suppress(FileNotFoundError):  # another process clears up meanwhile
                is_folder = entry.is_dir()
                total += _folder_size(Path(entry.path)) if is_folder else entry.stat().st_size
    return total
