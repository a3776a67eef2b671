"""Manifests: which pages a captured state consists of, and where the store keeps each.

A manifest is written whole, or as what differs from a whole one (its *base*). Either way it is one
small file that ends with a hash of itself and is put in place by renaming, so that it is there
whole or not at all. 24 bytes a page: a 128-bit hash and a place.
"""

from __future__ import annotations

import json
import os
import struct
import threading
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

import xxhash

from jondel.core.engines.pages import HASH_BYTES, PageHashes, is_small
from jondel.core.errors import StoreUnavailable
from jondel.core.files.replacement import replacing, sweep_unfinished
from jondel.core.snapshots.places import PLACE_BYTES, pack_of, place_bytes, place_from

if TYPE_CHECKING:  # slow to load, and needed for large databases only
    import numpy as np
    import numpy.typing as npt

_MAGIC = b"jondel manifest 1\n"
_DIGEST_BYTES = 16
_NUMBER_BYTES = 4
_MOST_REMEMBERED = 2
_LARGEST_DELTA = 8
"""A manifest is written whole when more than one in so many pages differ from its base's."""


class PageTable:
    """Hashes and places of pages, as they lie in a file; numbers are little-endian.

    ``hash_bytes`` and ``place_bytes`` hold 16 and 8 bytes a page. The arrays of them are made when
    they are asked for: of a small database nobody needs them.
    """

    hash_bytes: bytes
    place_bytes: bytes

    @cached_property
    def hashes(self) -> PageHashes:
        """Shaped (pages, 2)."""
        return as_hashes(self.hash_bytes)

    @cached_property
    def places(self) -> npt.NDArray[np.uint64]:
        """Shaped (pages,)."""
        return as_places(self.place_bytes)

    def hash_of(self, index: int) -> bytes:
        return self.hash_bytes[index * HASH_BYTES : (index + 1) * HASH_BYTES]

    def place_of(self, index: int) -> int:
        at = index * PLACE_BYTES
        return place_from(self.place_bytes[at : at + PLACE_BYTES])


@dataclass(frozen=True)
class Manifest(PageTable):
    """The pages of one state."""

    page_size: int
    hash_bytes: bytes
    place_bytes: bytes

    @property
    def page_count(self) -> int:
        return len(self.place_bytes) // PLACE_BYTES

    def place_numbers(self) -> Sequence[int]:
        """The places as numbers."""
        return struct.unpack(f"<{self.page_count}Q", self.place_bytes)

    def packs(self) -> set[int]:
        """The numbers of the packs that its pages are in."""
        if is_small(self.page_count):
            return {pack_of(place) for place in self.place_numbers()}
        from jondel.core.snapshots.page_arrays import distinct_packs  # needs numpy: slow to load

        return distinct_packs(self.places)

    def name(self) -> str:
        """What it goes by: equal states have equal names."""
        digest = xxhash.xxh3_128(self.page_size.to_bytes(4, "big"))
        digest.update(self.hash_bytes)
        return digest.hexdigest()


@dataclass(frozen=True)
class Stored(PageTable):
    """A manifest as it lies in its file.

    ``number_bytes`` are the indexes, 4 bytes each, of the pages that hashes and places are of;
    None for a whole manifest, which has no base.
    """

    page_size: int
    page_count: int
    base: str | None
    number_bytes: bytes | None
    hash_bytes: bytes
    place_bytes: bytes

    @cached_property
    def numbers(self) -> npt.NDArray[np.uint32]:
        import numpy as np

        return np.frombuffer(self.number_bytes or b"", "<u4").astype(np.uint32, copy=False)


class ManifestFolder:
    """The manifests of one database's states, a file each."""

    def __init__(self, folder: Path, sync: Callable[[int], None]) -> None:
        """``sync`` is given open files to have them reach the disk, and closes them."""
        self._folder = folder
        self._sync = sync
        self._read: dict[str, tuple[tuple[int, int], Stored]] = {}
        self._lock = threading.Lock()
        """For what is remembered: states are opened by several threads."""
        self._read_deltas: dict[str, tuple[tuple[int, int], Stored]] = {}
        self._asked_of_base: (
            tuple[Stored, npt.NDArray[np.intp], tuple[PageHashes, npt.NDArray[np.uint64]]] | None
        ) = None

    def prepare(self) -> None:
        """Make the folder."""
        self._folder.mkdir(mode=0o700, exist_ok=True)

    def names(self) -> list[str]:
        try:
            return sorted(name for name in os.listdir(self._folder) if "." not in name)
        except FileNotFoundError:
            return []

    def has(self, name: str) -> bool:
        return (self._folder / name).exists()

    def base_of(self, name: str) -> str:
        """The whole manifest that one goes back to; itself where it is whole."""
        return self.stored(name).base or name

    def load(self, name: str) -> Manifest:
        """Read a manifest and put it together.

        Raises:
            StoreUnavailable: it is missing or damaged.
        """
        stored = self.stored(name)
        if stored.base is None:
            return Manifest(stored.page_size, stored.hash_bytes, stored.place_bytes)
        base = self.stored(stored.base)
        hashes = resized(base.hash_bytes, stored.page_count * HASH_BYTES)
        places = resized(base.place_bytes, stored.page_count * PLACE_BYTES)
        if is_small(stored.page_count):
            numbers = struct.unpack(
                f"<{len(stored.place_bytes) // PLACE_BYTES}I", stored.number_bytes or b""
            )
            for at, number in enumerate(numbers):
                put_item(hashes, number, stored.hash_of(at))
                put_item(places, number, stored.place_bytes[at * PLACE_BYTES :][:PLACE_BYTES])
        else:
            as_hashes(hashes)[stored.numbers] = stored.hashes
            as_places(places)[stored.numbers] = stored.places
        return Manifest(stored.page_size, bytes(hashes), bytes(places))

    def stored(self, name: str) -> Stored:
        """Read a manifest's file as it is."""
        path = f"{self._folder}/{name}"  # thousands are read one after the other
        try:
            info = os.stat(path)
            with self._lock:
                known = self._read.get(name) or self._read_deltas.get(name)
            if known is not None and known[0] == (info.st_ino, info.st_mtime_ns):
                return known[1]
            with open(path, "rb", buffering=0) as file:
                content = file.read()
        except OSError as error:
            raise StoreUnavailable(
                f"{path}: a snapshot's list of pages is missing ({error.strerror}); "
                "that snapshot is lost, the others can still be used"
            ) from error
        try:
            manifest = _decoded(content)
        except (ValueError, KeyError, TypeError) as error:
            raise StoreUnavailable(
                f"{path}: a snapshot's list of pages is damaged; "
                "that snapshot is lost, the others can still be used"
            ) from error
        # Whole ones are asked for again and again, as the base of others.
        remembered = self._read if manifest.base is None else self._read_deltas
        with self._lock:
            while len(remembered) >= _MOST_REMEMBERED:
                remembered.pop(next(iter(remembered)))
            remembered[name] = ((info.st_ino, info.st_mtime_ns), manifest)
        return manifest

    def keep(self, manifest: Manifest, near: str | None) -> str:
        """Write a manifest unless it is there, short where one near it can be its base."""
        name = manifest.name()
        there = self.has(name)
        if there and self._is_as(name, manifest):
            return name
        # Over one that is damaged, or of pages that are, a whole one: it may be others' base.
        stored = (None if there else self._as_delta(manifest, near)) or Stored(
            manifest.page_size,
            manifest.page_count,
            None,
            None,
            manifest.hash_bytes,
            manifest.place_bytes,
        )
        self.write(name, stored)
        return name

    def _is_as(self, name: str, manifest: Manifest) -> bool:
        """Whether a manifest that is there can be read, and names the same places."""
        try:
            return self.load(name).place_bytes == manifest.place_bytes
        except StoreUnavailable:
            return False

    def write(self, name: str, stored: Stored, *, sync: bool = True) -> None:
        """Put a manifest's file in place, over an older one of the name.

        Without ``sync`` the caller sees to it that it reaches the disk.
        """
        with replacing(self._folder / name) as file:
            digest = xxhash.xxh3_128()
            for part in _encoded(stored):
                digest.update(part)
                file.write(part)
            file.write(digest.digest())
            descriptor = os.dup(file.fileno()) if sync else None
        if descriptor is not None:
            self._sync(descriptor)

    def remove(self, name: str) -> None:
        (self._folder / name).unlink(missing_ok=True)

    def sweep(self) -> None:
        """Remove what a crash left half written; the caller holds the store's lock."""
        sweep_unfinished(self._folder)

    def at(
        self, stored: Stored, pages: npt.NDArray[np.intp]
    ) -> tuple[PageHashes, npt.NDArray[np.uint64]] | None:
        """Hashes and places of some pages (indexes) of a state; None where it has not all of them.

        Raises:
            StoreUnavailable: its base is missing or damaged.
        """
        import numpy as np

        if not len(pages) or int(pages.max()) >= stored.page_count:
            return None
        if stored.base is None:
            return stored.hashes[pages], stored.places[pages]
        in_base = self._in_base(stored.base, pages)
        at = np.searchsorted(stored.numbers, pages)
        at[at == len(stored.numbers)] = 0
        own = stored.numbers[at] == pages if len(stored.numbers) else np.zeros(len(pages), bool)
        if not own.any():
            return in_base
        hashes, places = (array.copy() for array in in_base)
        hashes[own] = stored.hashes[at[own]]
        places[own] = stored.places[at[own]]
        return hashes, places

    def _in_base(
        self, name: str, pages: npt.NDArray[np.intp]
    ) -> tuple[PageHashes, npt.NDArray[np.uint64]]:
        """Hashes and places of pages in a whole manifest, zeros where it has not so many.

        The last answer is remembered: thousands of states with one base are asked for one record.
        """
        import numpy as np

        base = self.stored(name)
        known = self._asked_of_base
        if known is not None and known[0] is base and known[1] is pages:
            return known[2]
        hashes = np.zeros((len(pages), 2), np.uint64)
        places = np.zeros(len(pages), np.uint64)
        there = pages < base.page_count
        hashes[there] = base.hashes[pages[there]]
        places[there] = base.places[pages[there]]
        self._asked_of_base = (base, pages, (hashes, places))
        return hashes, places

    def _as_delta(self, manifest: Manifest, near: str | None) -> Stored | None:
        if near is None:
            return None
        try:
            base_name = self.base_of(near)
            base = self.stored(base_name)
        except StoreUnavailable:
            return None
        if base.page_size != manifest.page_size:
            return None
        numbers = _differing(base, manifest, manifest.page_count // _LARGEST_DELTA)
        if numbers is None:
            return None
        return Stored(
            manifest.page_size,
            manifest.page_count,
            base_name,
            struct.pack(f"<{len(numbers)}I", *numbers),
            b"".join([manifest.hash_of(number) for number in numbers]),
            b"".join([place_bytes(manifest.place_of(number)) for number in numbers]),
        )


def as_hashes(content: bytes | bytearray | memoryview) -> PageHashes:
    """Hashes that lie one behind the other as an array, shaped (pages, 2), of the same memory."""
    import numpy as np

    hashes: PageHashes = np.frombuffer(content, "<u8").reshape(-1, 2)
    return hashes.astype(np.uint64, copy=False)


def as_places(content: bytes | bytearray | memoryview) -> npt.NDArray[np.uint64]:
    """Places that lie one behind the other as an array of the same memory."""
    import numpy as np

    return np.frombuffer(content, "<u8").astype(np.uint64, copy=False)


def put_item(content: bytearray, number: int, item: bytes) -> None:
    """Put one of the items of equal length that lie one behind the other."""
    content[number * len(item) : (number + 1) * len(item)] = item


def resized(content: bytes | bytearray, length: int) -> bytearray:
    """The beginning of some bytes, or the bytes with zeros behind them."""
    larger, common = bytearray(length), min(length, len(content))
    larger[:common] = memoryview(content)[:common]
    return larger


def _differing(one: Stored, other: Manifest, most: int) -> Sequence[int] | None:
    """The indexes, rising, of the pages of a manifest that are not the same, at the same place, in
    a whole one; None if they are more than ``most``."""
    common = min(one.page_count, other.page_count)
    added = range(common, other.page_count)
    if is_small(other.page_count):
        differing = [
            index
            for index in range(common)
            if one.hash_of(index) != other.hash_of(index)
            or one.place_of(index) != other.place_of(index)
        ]
    else:
        import numpy as np

        differs = (one.hashes[:common] != other.hashes[:common]).any(1)
        differs |= one.places[:common] != other.places[:common]
        if np.count_nonzero(differs) > most:
            return None
        differing = np.flatnonzero(differs).tolist()
    return [*differing, *added] if len(differing) + len(added) <= most else None


def _encoded(stored: Stored) -> Iterator[bytes]:
    """The file's parts, but for the hash at its end."""
    head = {
        "page_size": stored.page_size,
        "page_count": stored.page_count,
        "base": stored.base,
        "entries": len(stored.place_bytes) // PLACE_BYTES,
    }
    yield _MAGIC + json.dumps(head).encode() + b"\n"
    yield stored.number_bytes or b""
    yield stored.hash_bytes
    yield stored.place_bytes


def _decoded(content: bytes) -> Stored:
    body, digest = memoryview(content)[:-_DIGEST_BYTES], content[-_DIGEST_BYTES:]
    if not content.startswith(_MAGIC) or xxhash.xxh3_128_digest(body) != digest:
        raise ValueError("the hash does not fit")
    end = content.index(b"\n", len(_MAGIC)) + 1
    head = json.loads(content[len(_MAGIC) : end])
    entries, numbers = head["entries"], None
    if head["base"] is not None:
        numbers = _part(body, end, entries * _NUMBER_BYTES)
        end += len(numbers)
    hashes = _part(body, end, entries * HASH_BYTES)
    places = _part(body, end + len(hashes), entries * PLACE_BYTES)
    return Stored(head["page_size"], head["page_count"], head["base"], numbers, hashes, places)


def _part(content: memoryview, start: int, length: int) -> bytes:
    part = bytes(content[start : start + length])
    if len(part) < length:
        raise ValueError("the list is cut short")
    return part
