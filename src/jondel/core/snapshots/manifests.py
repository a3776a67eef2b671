"""Manifests: which pages a captured state consists of, and where the store keeps each.

A manifest is written whole, or as what differs from a whole one (its *base*). Either way it is one
small file that ends with a hash of itself and is put in place by renaming, so that it is there
whole or not at all. 24 bytes a page: a 128-bit hash and a place.
"""

from __future__ import annotations

import json
import os
import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import xxhash

from jondel.core.engines.pages import PageHashes
from jondel.core.errors import StoreUnavailable
from jondel.core.files.replacement import replacing, sweep_unfinished

_MAGIC = b"jondel manifest 1\n"
_DIGEST_BYTES = 16
_MOST_REMEMBERED = 2
_LARGEST_DELTA = 8
"""A manifest is written whole when more than one in so many pages differ from its base's."""


@dataclass(frozen=True)
class Manifest:
    """The pages of one state; ``hashes`` is shaped (pages, 2), ``places`` (pages,)."""

    page_size: int
    hashes: PageHashes
    places: npt.NDArray[np.uint64]

    @property
    def page_count(self) -> int:
        return len(self.places)

    def name(self) -> str:
        """What it goes by: equal states have equal names."""
        digest = xxhash.xxh3_128(self.page_size.to_bytes(4, "big"))
        digest.update(np.ascontiguousarray(self.hashes).data)
        return digest.hexdigest()


@dataclass(frozen=True)
class Stored:
    """A manifest as it lies in its file.

    ``numbers`` are the indexes of the pages that ``hashes`` and ``places`` are of; None for a
    whole manifest, which has no base.
    """

    page_size: int
    page_count: int
    base: str | None
    numbers: npt.NDArray[np.uint32] | None
    hashes: PageHashes
    places: npt.NDArray[np.uint64]


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
        if stored.base is None or stored.numbers is None:
            return Manifest(stored.page_size, stored.hashes, stored.places)
        base = self.stored(stored.base)
        hashes = resized(base.hashes, stored.page_count)
        places = resized(base.places, stored.page_count)
        hashes[stored.numbers] = stored.hashes
        places[stored.numbers] = stored.places
        return Manifest(stored.page_size, hashes, places)

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
            manifest.hashes,
            manifest.places,
        )
        self.write(name, stored)
        return name

    def _is_as(self, name: str, manifest: Manifest) -> bool:
        """Whether a manifest that is there can be read, and names the same places."""
        try:
            return bool(np.array_equal(self.load(name).places, manifest.places))
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
        if not len(pages) or int(pages.max()) >= stored.page_count:
            return None
        if stored.base is None or stored.numbers is None:
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
        common = min(base.page_count, manifest.page_count)
        differs = np.ones(manifest.page_count, bool)
        differs[:common] = (base.hashes[:common] != manifest.hashes[:common]).any(1)
        differs[:common] |= base.places[:common] != manifest.places[:common]
        numbers = np.flatnonzero(differs).astype(np.uint32)
        if len(numbers) * _LARGEST_DELTA > manifest.page_count:
            return None
        return Stored(
            manifest.page_size,
            manifest.page_count,
            base_name,
            numbers,
            manifest.hashes[numbers],
            manifest.places[numbers],
        )


def resized(array: npt.NDArray[Any], length: int) -> npt.NDArray[Any]:
    """The beginning of an array, or the array with zeros behind it."""
    larger = np.zeros((length, *array.shape[1:]), array.dtype)
    common = min(length, len(array))
    larger[:common] = array[:common]
    return larger


def _encoded(stored: Stored) -> Iterator[bytes | memoryview]:
    """The file's parts, but for the hash at its end."""
    head = {
        "page_size": stored.page_size,
        "page_count": stored.page_count,
        "base": stored.base,
        "entries": len(stored.places),
    }
    yield _MAGIC + json.dumps(head).encode() + b"\n"
    if stored.numbers is not None:
        yield stored.numbers.astype("<u4").tobytes()
    for array in (stored.hashes, stored.places):
        yield np.ascontiguousarray(array, "<u8").view(np.uint8).reshape(-1).data


def _decoded(content: bytes) -> Stored:
    body, digest = memoryview(content)[:-_DIGEST_BYTES], content[-_DIGEST_BYTES:]
    if not content.startswith(_MAGIC) or xxhash.xxh3_128_digest(body) != digest:
        raise ValueError("the hash does not fit")
    end = content.index(b"\n", len(_MAGIC)) + 1
    head = json.loads(content[len(_MAGIC) : end])
    entries, numbers = head["entries"], None
    if head["base"] is not None:
        numbers = np.frombuffer(body, "<u4", entries, end).astype(np.uint32)
        end += numbers.nbytes
    hashes = np.frombuffer(body, "<u8", entries * 2, end).reshape(entries, 2)
    places = np.frombuffer(body, "<u8", entries, end + hashes.nbytes)
    return Stored(
        head["page_size"],
        head["page_count"],
        head["base"],
        numbers,
        hashes.astype(np.uint64, copy=False),
        places.astype(np.uint64, copy=False),
    )
