"""The shelf of one database: its captured states, whose pages are stored once each.

    SHELF/
      lock            held by whoever writes
      latest          the state captured last and where it came from, for the next capture
      manifests/NAME  a state's list of pages, see ``manifests``
      packs/          the pages and an index of them, see ``packs``
      mirror/         of a database on a server, what is captured instead, see ``mirror.mirror``

A state is there once its manifest is. Everything that a manifest needs was written before it, and
nothing that is there is ever changed in place. So a crash at any instant leaves at most pages that
nothing refers to, or an unfinished file; both go at the next clearing up. That what was written
reaches the disk is seen to in the background: a power cut can cost the states of the last moments,
which the hashes then tell, and no earlier one.
"""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from jondel.core.engines.needed import capturer_of
from jondel.core.engines.pages import HASH_BYTES, Origin, PageSource
from jondel.core.engines.protocol import Database
from jondel.core.errors import StoreUnavailable
from jondel.core.files.home import private_folder
from jondel.core.files.replacement import replacing
from jondel.core.snapshots.intake import Intake
from jondel.core.snapshots.manifests import Manifest, ManifestFolder
from jondel.core.snapshots.pack_marks import boot_id, doubtful, read_synced, write_synced
from jondel.core.snapshots.packs import PackFolder
from jondel.core.snapshots.page_image import PageImage
from jondel.core.snapshots.page_keeper import Keep
from jondel.core.snapshots.page_peek import Peek
from jondel.core.snapshots.places import SCRATCH, offset_of, pack_of
from jondel.core.snapshots.syncer import Syncer

if TYPE_CHECKING:
    from jondel.core.engines.delta import DeltaSource
    from jondel.core.engines.roles import Capturer
    from jondel.core.snapshots.upkeep import Upkeep

_SCRATCH_BYTES = 8 << 20
_SYNCED = "synced"
_MIRROR = "mirror"
_TRIES_TO_OPEN = 3


@dataclass(frozen=True)
class Latest:
    """The state captured last, and where it came from."""

    name: str
    origin: Origin
    groups: bytes
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

    def __init__(
        self, folder: Path, *, largest_table: int | None = None, lasting: bool = True
    ) -> None:
        """``largest_table``: bytes above which a table of a server is left out.

        What is kept survives a crash, unless it is not to be ``lasting``: then this process alone
        uses the shelf.
        """
        self._folder = folder
        self._largest_table = largest_table
        self._manifests = ManifestFolder(self._folder / "manifests", self._sync)
        self._packs = PackFolder(self._folder / "packs")
        self._syncer = Syncer(lasting=lasting)
        self._lasting = lasting
        self._latest_here: Latest | None = None
        """The state captured last, where nobody else captures any."""
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
                self._capturer(database).capture(intake)
                appender.finish(self._syncer.sync)
            except BaseException:
                appender.abandon()
                raise
            self._appended |= appender.ends
            manifest = intake.manifest
            name = self._manifests.keep(manifest, latest.name if latest else None)
            known = (latest.name, latest.origin) if latest and not latest.verified else None
            if known != (name, intake.origin):
                self._remember(Latest(name, intake.origin or {}, intake.groups, manifest))
            yield name

    def keep_state(self, pages: PageSource, near: str) -> str:
        """Keep a state that is made of pages, and give its name; ``near`` is one much like it.

        Whoever asked writes the name down before anybody clears up: see ``captured``.

        Raises:
            StoreUnavailable: it could not be kept.
        """
        self.prepare()
        with self._explained(), self._locked():
            below = self._manifests.load(near)
            self._packs.require(below.packs())
            appender = self._packs.appender()
            try:
                intake = Intake(below, {}, self._packs, self._kept(appender.append))
                known, hashes = below.hash_bytes, pages.hashes
                intake.begin(pages.page_size, pages.page_count, partial=True)
                for index in range(pages.page_count):
                    at = slice(index * HASH_BYTES, (index + 1) * HASH_BYTES)
                    if hashes[at] != known[at]:
                        intake.put(range(index, index + 1), pages.read(index))
                intake.end({})
                appender.finish(self._syncer.sync)
            except BaseException:
                appender.abandon()
                raise
            self._appended |= appender.ends
            return self._manifests.keep(intake.manifest, near)

    @contextmanager
    def passing(self, database: Database, deltas: DeltaSource | None = None) -> Iterator[Passing]:
        """Take in the database as it is now for as long as the block runs.

        ``deltas``: see ``Trail.now``.
        """
        import tempfile  # slow to load, and not needed for a snapshot

        with ExitStack() as stack:
            with self._explained():
                # Pages beyond this size go to a file without a name; no crash leaves one behind.
                scratch = stack.enter_context(
                    tempfile.SpooledTemporaryFile(_SCRATCH_BYTES, dir=self._scratch_folder)
                )

            def keep(data: bytes | bytearray, page_size: int) -> range:
                first = SCRATCH | scratch.seek(0, os.SEEK_END)
                scratch.write(data)
                return range(first, first + len(data), page_size)

            with self._explained():
                intake = self._intake(self._latest(), keep, indexed=False)
                self._capturer(database, deltas).capture(intake)
            manifest = intake.manifest
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
                self._packs.require(manifest.packs())
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
        upkeep = self._upkeep()
        self.prepare()
        with self._explained(), self._locked():
            names = self._manifests.names()
            (self._folder / "latest").unlink(missing_ok=True)
            damage = upkeep.damage(names)
        if database is not None:
            with self.captured(database) as name:
                names.append(name)
        with self._explained(), self._locked():
            upkeep.find_again(damage)
        return [name for name in sorted(set(names)) if self.problem_of(name) is not None]

    def freed_by(self, ranks: Mapping[str, int], kept: Iterable[str]) -> tuple[dict[int, int], int]:
        """See ``state_sizes.freed_by``."""
        from jondel.core.snapshots.state_sizes import freed_by  # needs numpy: slow to load

        return freed_by(self._manifests, self._packs, ranks, kept)

    def keep_only(self, names: Callable[[], Iterable[str]], *, thorough: bool = False) -> None:
        """Remove all other states, and the pages that only they needed.

        ``names`` is called while the shelf is locked. ``thorough`` makes as much room as can be;
        otherwise files that are mostly needed are left as they are.
        """
        if not self._folder.is_dir():
            return
        upkeep = self._upkeep()
        with self._explained(), self._locked():
            if upkeep.keep_only(set(names()), thorough=thorough):
                self._remember_packs()

    def _upkeep(self) -> Upkeep:
        from jondel.core.snapshots.upkeep import Upkeep  # needs numpy: slow to load

        return Upkeep(self._manifests, self._packs)

    def _sync(self, descriptor: int) -> None:
        self._syncer.sync(descriptor)

    def _capturer(self, database: Database, deltas: DeltaSource | None = None) -> Capturer:
        deltas = deltas or database.deltas
        if deltas is None:
            return capturer_of(database)
        from jondel.core.mirror.capturing import MirrorCapturer  # only servers have mirrors

        return MirrorCapturer(self._folder / _MIRROR, deltas, self._largest_table)

    # What was captured last

    def _latest(self) -> Latest | None:
        if not self._lasting:
            return self._latest_here
        try:
            content = (self._folder / "latest").read_bytes()
            head, _, groups = content.partition(b"\n")
            if len(groups) % HASH_BYTES:
                raise ValueError("it is cut short")
            stated = json.loads(head)
            manifest = self._manifests.load(stated["name"])
            self._packs.require(manifest.packs())
            doubts = doubtful(stated, self._packs.identities(), read_synced(self._folder / _SYNCED))
            if doubts and not self._is_intact(manifest, doubts):
                return None
            return Latest(stated["name"], stated["origin"], groups, manifest, bool(doubts))
        except (OSError, ValueError, KeyError, TypeError, StoreUnavailable):
            return None  # then everything is read, as for a first capture

    def _remember(self, latest: Latest) -> None:
        if not self._lasting:
            self._latest_here = latest
            return
        with replacing(self._folder / "latest") as file:
            head = {
                "name": latest.name,
                "origin": latest.origin,
                "packs": self._packs.identities(),
                "boot": boot_id(),
            }
            file.write(json.dumps(head).encode() + b"\n" + latest.groups)

    def _remember_packs(self) -> None:
        """Note that the packs are as they were just left."""
        latest = self._latest()
        if latest is not None:
            self._remember(latest)

    def _is_intact(self, manifest: Manifest, doubts: Mapping[int, int]) -> bool:
        """Whether the pages of a state that are in doubt are what they should be."""
        return all(
            self._packs.holds(place, manifest.hash_of(index), manifest.page_size)
            for index, place in enumerate(manifest.place_numbers())
            if offset_of(place) >= doubts.get(pack_of(place), sys.maxsize)
        )

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

        def kept(data: bytes | bytearray, page_size: int) -> range:
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
