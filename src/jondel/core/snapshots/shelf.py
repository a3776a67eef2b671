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
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import numpy.typing as npt

from jondel.core.engines.pages import Origin, PageHashes
from jondel.core.engines.protocol import Database
from jondel.core.errors import StoreUnavailable
from jondel.core.files.home import private_folder
from jondel.core.files.replacement import replacing
from jondel.core.snapshots.intake import Intake, Keep
from jondel.core.snapshots.manifests import Manifest, ManifestFolder, Stored
from jondel.core.snapshots.pack_marks import boot_id, doubtful, read_synced, write_synced
from jondel.core.snapshots.packs import PackFolder, offsets_of, packs_of
from jondel.core.snapshots.page_image import SCRATCH, PageImage
from jondel.core.snapshots.page_peek import Peek
from jondel.core.snapshots.state_sizes import freed_by
from jondel.core.snapshots.syncer import Syncer

_SCRATCH_BYTES = 8 << 20
_SYNCED = "synced"
_TRIES_TO_OPEN = 3
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
    verified: bool = False
    """Whether its pages had to be verified, so that how the packs are now is to be noted."""


@dataclass(frozen=True)
class Passing:
    """A state that is open for a while and not kept; ``name`` is what it would be called."""

    name: str
    image: PageImage


class Shelf:
    """The captured states of one database. Several processes may use a shelf at once."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._manifests = ManifestFolder(self._folder / "manifests", self._sync)
        self._packs = PackFolder(self._folder / "packs")
        self._syncer = Syncer()
        self._appended: dict[int, int] = {}

    def close(self) -> None:
        self._syncer.close()
        if self._appended:
            with suppress(OSError):
                self._note_synced()
        self._packs.close()

    def prepare(self) -> None:
        """Make the folders, for the first state to be kept.

        Raises:
            StoreUnavailable: they cannot be made.
        """
        private_folder(self._folder)
        with self._explained():
            self._manifests.prepare()
            self._packs.prepare()

    def _note_synced(self) -> None:
        """Note what has reached the disk by now."""
        path = self._folder / _SYNCED
        sizes = read_synced(path)
        for pack, size in self._appended.items():
            name = f"{pack:06d}"
            sizes[name] = max(size, sizes.get(name, 0))
        write_synced(path, sizes)

    def names(self) -> list[str]:
        return self._manifests.names()

    def size(self) -> int:
        """How many bytes the shelf takes."""
        folders = os.walk(self._folder)
        return sum(Path(at, name).stat().st_size for at, _, names in folders for name in names)

    @contextmanager
    def captured(self, database: Database) -> Iterator[str]:
        """Take in the database as it is now and give the state's name.

        Two captures with nothing committed in between have one name and cost next to nothing.
        The block runs while the shelf is locked, so that the name can be written down before
        anybody clears up.

        Raises:
            StoreUnavailable: it could not be kept.
        """
        self.prepare()
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
            self._appended |= appender.ends
            manifest = intake.manifest()
            name = self._manifests.keep(manifest, latest.name if latest else None)
            known = (latest.name, latest.origin) if latest and not latest.verified else None
            if known != (name, intake.origin):
                self._remember(Latest(name, intake.origin or {}, intake.groups, manifest))
            yield name

    @contextmanager
    def passing(self, database: Database) -> Iterator[Passing]:
        """Take in the database as it is now for as long as the block runs."""
        with ExitStack() as stack:
            with self._explained():
                # Pages beyond this size go to a file without a name; no crash leaves one behind.
                scratch = stack.enter_context(
                    tempfile.SpooledTemporaryFile(_SCRATCH_BYTES, dir=self._scratch_folder)
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
        for last in (False,) * _TRIES_TO_OPEN + (True,):
            manifest = self._manifests.load(name)
            try:
                # From now on they can be read, even if somebody compacts the shelf.
                self._packs.require(manifest.places)
            except StoreUnavailable:
                if last:
                    break  # the pages of the other packs can be read all the same
                continue
            break
        return PageImage(manifest, self._packs, what)

    def peek(self, name: str) -> Peek:
        """Have a look at single pages of a state, without opening it.

        Raises:
            StoreUnavailable: its list of pages is missing or damaged.
        """
        return Peek(name, self._manifests, self._packs)

    @property
    def _scratch_folder(self) -> str | None:
        writable = self._folder.is_dir() and os.access(self._folder, os.W_OK)
        return str(self._folder) if writable else None

    def problem_of(self, name: str) -> str | None:
        """What is wrong with a state, after reading all of it; None if nothing is."""
        # As it lies on the disk now, and not as it was when it was opened.
        packs = PackFolder(self._folder / "packs")
        try:
            image = PageImage(self._manifests.load(name), packs, "the snapshot")
            damaged = image.damaged_pages()
        except StoreUnavailable as error:
            return str(error)
        finally:
            packs.close()
        if not damaged:
            return None
        listed = ", ".join(str(index + 1) for index in damaged[:8])
        return f"{len(damaged)} of its pages are damaged ({listed}{', …' if damaged[8:] else ''})"

    def mend(self, database: Database | None) -> list[str]:
        """Find pages anew that are lost, and return the states that stay damaged.

        Pages are the same wherever they are found: at another place of the shelf, or in the live
        database. What was found damaged is not taken for the base of anything any more.
        """
        self.prepare()
        with self._explained(), self._locked():
            names = self._manifests.names()
            stored: dict[str, Stored] = {}
            for name in names:
                with suppress(StoreUnavailable):
                    stored[name] = self._manifests.stored(name)
            (self._folder / "latest").unlink(missing_ok=True)
            wrong = self._wrong_places(stored)
            self._rewrite_index(stored, without=wrong)
        if database is not None:
            with self.captured(database) as name:
                names.append(name)
        with self._explained(), self._locked():
            good: dict[bytes, int] = {}
            for hashes, places in self._packs.index():
                for at, place in enumerate(places.tolist()):
                    if place not in wrong:
                        good.setdefault(hashes[at].tobytes(), place)
            for name, entry in stored.items():
                places = entry.places.copy()
                for at in np.flatnonzero(np.isin(places, list(wrong))).tolist():
                    places[at] = good.get(entry.hashes[at].tobytes(), places[at])
                if not np.array_equal(places, entry.places):
                    self._manifests.write(name, replace(entry, places=places))
        return [name for name in sorted(set(names)) if self.problem_of(name) is not None]

    def _wrong_places(self, stored: Mapping[str, Stored]) -> set[int]:
        """The places at which there is not what a manifest says."""
        checked: set[int] = set()
        wrong: set[int] = set()
        for entry in stored.values():
            new = ~np.isin(entry.places, list(checked)) if checked else slice(None)
            places, hashes = entry.places[new], entry.hashes[new]
            checked.update(places.tolist())
            bad = self._packs.wrong(places, hashes, entry.page_size)
            wrong.update(places[bad].tolist())
        return wrong

    def freed_by(self, ranks: Mapping[str, int], kept: Iterable[str]) -> tuple[dict[int, int], int]:
        """See ``freeing.freed_by``."""
        return freed_by(self._manifests, self._packs, ranks, kept)

    def keep_only(self, names: Callable[[], Iterable[str]], *, thorough: bool = False) -> None:
        """Remove all other states, and the pages that only they needed.

        ``names`` is called while the shelf is locked. ``thorough`` makes as much room as can be;
        otherwise files that are mostly needed are left as they are.
        """
        if not self._folder.is_dir():
            return
        with self._explained(), self._locked():
            self._manifests.sweep()
            wanted = set(names())
            present = set(self._manifests.names())
            stored: dict[str, Stored] = {}
            readable = True
            for name in wanted & present:
                try:
                    stored[name] = self._manifests.stored(name)
                except StoreUnavailable:
                    readable = False
            bases = {entry.base or name for name, entry in stored.items()}
            for name in bases - stored.keys():
                try:
                    stored[name] = self._manifests.stored(name)
                except StoreUnavailable:
                    readable = False
            for name in present - wanted - bases:
                self._manifests.remove(name)
            if readable:  # a damaged list of pages could need any page; better keep too much
                self._clear_packs(
                    stored, _COMPACTED_THOROUGHLY_BELOW if thorough else _COMPACTED_BELOW
                )

    def _sync(self, descriptor: int) -> None:
        self._syncer.sync(descriptor)

    # Clearing up

    def _clear_packs(self, stored: dict[str, Stored], compacted_below: float) -> None:
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
        self._rewrite_index(stored)
        self._remember_packs()

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
        for name, entry in list(stored.items()):
            if not len(entry.places):
                continue
            order = np.searchsorted(places, entry.places)
            order[order == len(places)] = 0
            hit = places[order] == entry.places
            if hit.any():
                new_places = np.where(hit, moved[order], entry.places)
                stored[name] = replace(entry, places=new_places)
                self._manifests.write(name, stored[name], sync=False)
        os.sync()  # of all of them at once
        for pack in sparse:
            self._packs.remove(pack)

    def _rewrite_index(
        self, stored: Mapping[str, Stored], without: Collection[int] = frozenset()
    ) -> None:
        """Make the index tell of the pages that manifests refer to, and of no others."""
        if not stored:
            self._packs.replace_index(np.empty((0, 2), np.uint64), np.empty(0, np.uint64))
            return
        places = np.concatenate([entry.places for entry in stored.values()])
        hashes = np.concatenate([entry.hashes for entry in stored.values()])
        _, first = np.unique(places, return_index=True)
        first = first[~np.isin(places[first], list(without))] if without else first
        self._packs.replace_index(hashes[first], places[first])

    # What was captured last

    def _latest(self) -> Latest | None:
        try:
            content = (self._folder / "latest").read_bytes()
            head, _, groups = content.partition(b"\n")
            stated = json.loads(head)
            manifest = self._manifests.load(stated["name"])
            self._packs.require(manifest.places)
            doubts = doubtful(stated, self._packs.identities(), read_synced(self._folder / _SYNCED))
            if doubts and not self._is_intact(manifest, doubts):
                return None
            return Latest(
                stated["name"],
                stated["origin"],
                np.frombuffer(groups, np.uint64).reshape(-1, 2),
                manifest,
                bool(doubts),
            )
        except (OSError, ValueError, KeyError, TypeError, StoreUnavailable):
            return None  # then everything is read, as for a first capture

    def _remember(self, latest: Latest) -> None:
        with replacing(self._folder / "latest") as file:
            head = {
                "name": latest.name,
                "origin": latest.origin,
                "packs": self._packs.identities(),
                "boot": boot_id(),
            }
            file.write(json.dumps(head).encode() + b"\n" + latest.groups.tobytes())

    def _remember_packs(self) -> None:
        """Note that the packs are as they were just left."""
        latest = self._latest()
        if latest is not None:
            self._remember(latest)

    def _is_intact(self, manifest: Manifest, doubts: Mapping[int, int]) -> bool:
        """Whether the pages of a state that are in doubt are what they should be."""
        packs = packs_of(manifest.places)
        for pack, start in doubts.items():
            wanted = (packs == pack) & (offsets_of(manifest.places) >= start)
            if self._packs.wrong(
                manifest.places[wanted], manifest.hashes[wanted], manifest.page_size
            ).any():
                return False
        return True

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
