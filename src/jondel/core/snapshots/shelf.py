"""The shelf of one database: its captured states, whose pages are stored once each.

    SHELF/
      lock            held by whoever writes
      latest          the state captured last and where it came from, for the next capture
      manifests/NAME  a state's list of pages, see ``manifests``
      packs/          the pages and an index of them, see ``packs``

A state is there once its manifest is. Everything that a manifest needs was written before it, and
nothing that is there is ever changed in place. So a crash at any instant leaves at most pages that
nothing refers to, or an unfinished file; both go at the next clearing up. That what was written
reaches the disk is seen to in the background: a power cut can cost the states of the last moments,
which the hashes then tell, and no earlier one.
"""

from __future__ import annotations

import json
import os
import tempfile
from collections.abc import Callable, Iterable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import numpy.typing as npt

from jondel.core.engines.pages import Origin, PageHashes
from jondel.core.engines.protocol import Database
from jondel.core.errors import StoreUnavailable
from jondel.core.keeping.home import private_folder
from jondel.core.snapshots.intake import Intake, Keep
from jondel.core.snapshots.manifests import Manifest, ManifestFolder, Stored
from jondel.core.snapshots.packs import PackFolder, packs_of
from jondel.core.snapshots.page_image import SCRATCH, PageImage
from jondel.core.snapshots.syncing import Syncer

_SCRATCH_BYTES = 8 << 20
_COMPACTED_BELOW = 0.6
_COMPACTED_THOROUGHLY_BELOW = 0.95
"""A pack is rewritten when less than this share of it is still needed."""


@dataclass(frozen=True)
class Latest:
    """The state captured last, and where it came from."""

    name: str
    origin: Origin
    groups: PageHashes
    manifest: Manifest


@dataclass(frozen=True)
class Passing:
    """A state that is open for a while and not kept; ``name`` is what it would be called."""

    name: str
    image: PageImage


class Shelf:
    """The captured states of one database. Several processes may use a shelf at once."""

    def __init__(self, folder: Path) -> None:
        self._folder = private_folder(folder)
        with self._explained():
            self._manifests = ManifestFolder(self._folder / "manifests", self._sync)
            self._packs = PackFolder(self._folder / "packs")
        self._syncer = Syncer()

    def close(self) -> None:
        self._syncer.close()
        self._packs.close()

    def names(self) -> list[str]:
        return self._manifests.names()

    def size(self) -> int:
        """How many bytes the shelf takes."""
        with self._explained():
            return self._manifests.size() + self._packs.size()

    @contextmanager
    def captured(self, database: Database) -> Iterator[str]:
        """Take in the database as it is now and give the state's name.

        Two captures with nothing committed in between have one name and cost next to nothing.
        The block runs while the shelf is locked, so that the name can be written down before
        anybody clears up.

        Raises:
            StoreUnavailable: it could not be kept.
        """
        with self._explained(), self._locked():
            latest = self._latest()
            appender = self._packs.appender()
            try:
                intake = self._intake(latest, appender.append, indexed=True)
                database.capture(intake)
                appender.finish(self._syncer.sync)
            except BaseException:
                appender.abandon()
                raise
            manifest = intake.manifest()
            name = self._manifests.keep(manifest, latest.name if latest else None)
            if latest is None or (latest.name, latest.origin) != (name, intake.origin):
                self._remember(Latest(name, intake.origin or {}, intake.groups, manifest))
            yield name

    @contextmanager
    def passing(self, database: Database) -> Iterator[Passing]:
        """Take in the database as it is now for as long as the block runs."""
        with ExitStack() as stack:
            with self._explained():
                # Pages beyond this size go to a file without a name; no crash leaves one behind.
                scratch = stack.enter_context(
                    tempfile.SpooledTemporaryFile(_SCRATCH_BYTES, dir=str(self._folder))
                )

            def keep(data: bytes | bytearray, page_size: int) -> npt.NDArray[np.uint64]:
                first = scratch.seek(0, os.SEEK_END)
                scratch.write(data)
                return np.arange(first, first + len(data), page_size, dtype=np.uint64) | np.uint64(
                    SCRATCH
                )

            with self._explained():
                intake = self._intake(self._latest(), keep, indexed=False)
                database.capture(intake)
            manifest = intake.manifest()
            yield Passing(
                manifest.name(),
                PageImage(manifest, self._packs, "the database as it is now", scratch),
            )

    def open(self, name: str, what: str) -> PageImage:
        """Open a state; ``what`` names it in messages.

        Raises:
            StoreUnavailable: its list of pages is missing or damaged.
        """
        return PageImage(self._manifests.load(name), self._packs, what)

    def problem_of(self, name: str) -> str | None:
        """What is wrong with a state, after reading all of it; None if nothing is."""
        try:
            damaged = self.open(name, "the snapshot").damaged_pages()
        except StoreUnavailable as error:
            return str(error)
        if not damaged:
            return None
        listed = ", ".join(str(index + 1) for index in damaged[:8])
        return f"{len(damaged)} of its pages are damaged ({listed}{', …' if damaged[8:] else ''})"

    def keep_only(self, names: Callable[[], Iterable[str]], *, thorough: bool = False) -> None:
        """Remove all other states, and the pages that only they needed.

        ``names`` is called while the shelf is locked. ``thorough`` makes as much room as can be;
        otherwise files that are mostly needed are left as they are.
        """
        with self._explained(), self._locked():
            self._manifests.sweep()
            wanted = set(names())
            present = set(self._manifests.names())
            bases = set()
            for name in wanted & present:
                with suppress(StoreUnavailable):
                    bases.add(self._manifests.base_of(name))
            for name in present - wanted - bases:
                self._manifests.remove(name)
            self._clear_packs(_COMPACTED_THOROUGHLY_BELOW if thorough else _COMPACTED_BELOW)

    def _sync(self, descriptor: int) -> None:
        self._syncer.sync(descriptor)

    # Clearing up

    def _clear_packs(self, compacted_below: float) -> None:
        stored = self._readable_manifests()
        if stored is None:
            return  # a damaged list of pages could need any page; better keep too much
        live = _distinct_places(stored.values())
        sizes = {entry.page_size for entry in stored.values()}
        page_size = max(sizes, default=0)
        by_pack = packs_of(live)
        needed, counts = np.unique(by_pack, return_counts=True)
        kept = dict(zip(needed.tolist(), (counts * page_size).tolist(), strict=True))
        sparse = []
        for pack in self._packs.numbers():
            if pack not in kept:
                self._packs.remove(pack)
            elif len(sizes) == 1 and kept[pack] < compacted_below * self._packs.pack_size(pack):
                sparse.append(pack)
        if sparse:
            self._compact(sparse, stored, live[np.isin(by_pack, sparse)], page_size)
        self._rewrite_index()

    def _readable_manifests(self) -> dict[str, Stored] | None:
        try:
            return {name: self._manifests.stored(name) for name in self._manifests.names()}
        except StoreUnavailable:
            return None

    def _compact(
        self,
        sparse: list[int],
        stored: dict[str, Stored],
        places: npt.NDArray[np.uint64],
        page_size: int,
    ) -> None:
        """Copy what is needed of sparse packs to new ones and point the manifests there.

        Old packs go last: whenever this stops, each manifest finds its pages.
        """
        appender = self._packs.appender(fresh=True)
        moved = np.empty(len(places), np.uint64)
        try:
            for at, place in enumerate(places.tolist()):
                data = self._packs.read(place, page_size).ljust(page_size, b"\0")
                moved[at] = appender.append(data, page_size)[0]
            appender.finish()
        finally:
            appender.close()
        for name, entry in stored.items():
            found = np.searchsorted(places, entry.places)
            found[found == len(places)] = 0
            hit = places[found] == entry.places
            if hit.any():
                new_places = np.where(hit, moved[found], entry.places)
                self._manifests.write(name, replace(entry, places=new_places))
        for pack in sparse:
            self._packs.remove(pack)

    def _rewrite_index(self) -> None:
        """Make the index tell of the pages that manifests refer to, and of no others."""
        stored = self._readable_manifests() or {}
        if not stored:
            self._packs.replace_index(np.empty((0, 2), np.uint64), np.empty(0, np.uint64))
            return
        places = np.concatenate([entry.places for entry in stored.values()])
        hashes = np.concatenate([entry.hashes for entry in stored.values()])
        _, first = np.unique(places, return_index=True)
        self._packs.replace_index(hashes[first], places[first])

    # What was captured last

    def _latest(self) -> Latest | None:
        try:
            content = (self._folder / "latest").read_bytes()
            head, _, groups = content.partition(b"\n")
            stated = json.loads(head)
            return Latest(
                stated["name"],
                stated["origin"],
                np.frombuffer(groups, np.uint64).reshape(-1, 2),
                self._manifests.load(stated["name"]),
            )
        except (OSError, ValueError, KeyError, TypeError, StoreUnavailable):
            return None  # then everything is read, as for a first capture

    def _remember(self, latest: Latest) -> None:
        unfinished = self._folder / "latest.unfinished"
        descriptor = os.open(unfinished, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(descriptor, "wb") as file:
            head = {"name": latest.name, "origin": latest.origin}
            file.write(json.dumps(head).encode() + b"\n" + latest.groups.tobytes())
        unfinished.rename(self._folder / "latest")

    def _intake(self, latest: Latest | None, keep: Keep, *, indexed: bool) -> Intake:
        kept = self._kept(keep)
        if latest is None:
            return Intake(None, None, self._packs, kept, indexed=indexed)
        return Intake(
            latest.manifest, latest.origin, self._packs, kept, latest.groups, indexed=indexed
        )

    @contextmanager
    def _locked(self) -> Iterator[None]:
        """Hold the shelf for writing; waits for other processes."""
        import fcntl

        descriptor = os.open(self._folder / "lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX)
            yield
        finally:
            os.close(descriptor)

    def _kept(self, keep: Keep) -> Keep:
        """What takes pages in, its errors told apart from those of the database being read."""

        def kept(data: bytes | bytearray, page_size: int) -> npt.NDArray[np.uint64]:
            with self._explained():
                return keep(data, page_size)

        return kept

    @contextmanager
    def _explained(self) -> Iterator[None]:
        try:
            yield
        except OSError as error:
            raise StoreUnavailable(
                f"{self._folder}: the snapshot could not be kept ({error.strerror}); "
                "make room or set JONDEL_HOME to another folder"
            ) from error


def _distinct_places(stored: Iterable[Stored]) -> npt.NDArray[np.uint64]:
    parts = [entry.places for entry in stored]
    return np.unique(np.concatenate(parts)) if parts else np.empty(0, np.uint64)
