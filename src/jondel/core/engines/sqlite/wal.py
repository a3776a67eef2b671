"""Reads the write-ahead log of a SQLite database: which frames are committed, and their pages.

Format: https://www.sqlite.org/fileformat2.html#the_write_ahead_log. A frame counts when its salts
are those of the log's header, its checksum continues the chain from the header, and a commit frame
follows it (or is it). What a writer is just appending fails one of these and is not seen.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Protocol

import numpy as np
import numpy.typing as npt

HEADER_BYTES = 32
FRAME_HEADER_BYTES = 24
_MAGIC_LITTLE_ENDIAN, _MAGIC_BIG_ENDIAN = 0x377F0682, 0x377F0683
_FORMAT = 3007000
_BYTES_AT_ONCE = 2 << 20
_WORD_MASK = 0xFFFFFFFF


class Reader(Protocol):
    """What a log is read through."""

    def size(self) -> int: ...

    def read(self, offset: int, amount: int) -> bytes:
        """Up to ``amount`` bytes; fewer at the end of the file."""


@dataclass(frozen=True)
class LogMark:
    """A place in a log between two transactions.

    ``salts`` tell one generation of the log from the next, which reuses the file; ``frames``
    counts the frames before the mark and ``sums`` is the checksum so far. ``pages`` is the
    database's size in pages at the mark, 0 where no transaction is in the log.
    """

    salts: tuple[int, int]
    frames: int
    sums: tuple[int, int]
    pages: int


@dataclass
class Log:
    """The committed frames found after a mark, or from the beginning.

    ``offsets`` maps page numbers (from 1) to where the newest committed content of the page
    begins in the file.
    """

    page_size: int
    start: LogMark
    end: LogMark
    offsets: dict[int, int] = field(default_factory=dict)


def read_log(reader: Reader, after: LogMark | None = None) -> Log | None:
    """Read the committed frames after a mark, or all where the mark is of another generation.

    ``Log.start`` tells which it was. None where the file holds no log.
    """
    while True:
        header = reader.read(0, HEADER_BYTES)
        beginning = _beginning(header)
        if beginning is None:
            return None
        page_size = struct.unpack_from(">I", header, 8)[0]
        start = beginning
        if after is not None and _holds(reader, page_size, after, beginning):
            start = after
        log = _frames_after(reader, page_size, header[3] & 1 == 1, start)
        # A log begun anew while it was being read could have given a part of its old self.
        if reader.read(0, HEADER_BYTES) == header:
            return log


def _beginning(header: bytes) -> LogMark | None:
    if len(header) < HEADER_BYTES:
        return None
    magic, version, page_size, _, salt, other_salt, *stated = struct.unpack(">8I", header)
    if magic not in (_MAGIC_LITTLE_ENDIAN, _MAGIC_BIG_ENDIAN) or version != _FORMAT:
        return None
    if page_size < 512 or page_size > 65536 or page_size & (page_size - 1):
        return None
    words = np.frombuffer(header, ">u4" if magic & 1 else "<u4", 6).astype(np.uint32)
    sums = _advanced((0, 0), 3, *_weighted(words.reshape(1, -1))[0])
    if list(sums) != stated:
        return None
    return LogMark((salt, other_salt), 0, sums, 0)


def _holds(reader: Reader, page_size: int, mark: LogMark, beginning: LogMark) -> bool:
    """Tell whether the mark is a place in this very log."""
    if mark.salts != beginning.salts:
        return False
    last = HEADER_BYTES + (mark.frames - 1) * (FRAME_HEADER_BYTES + page_size)
    head = reader.read(last, FRAME_HEADER_BYTES)
    return len(head) == FRAME_HEADER_BYTES and struct.unpack_from(">2I", head, 16) == mark.sums


def _frames_after(reader: Reader, page_size: int, big_endian: bool, start: LogMark) -> Log:
    log = Log(page_size, start, start)
    frame_bytes = FRAME_HEADER_BYTES + page_size
    at_once = max(1, _BYTES_AT_ONCE // frame_bytes)
    pairs = (8 + page_size) // 8
    number, sums = start.frames, start.sums
    waiting: dict[int, int] = {}
    while True:
        offset = HEADER_BYTES + number * frame_bytes
        data = reader.read(offset, at_once * frame_bytes)
        count = len(data) // frame_bytes
        if not count:
            return log
        raw = np.frombuffer(data, np.uint8, count * frame_bytes).reshape(count, frame_bytes)
        heads = raw[:, :FRAME_HEADER_BYTES].copy().view(">u4").astype(np.int64)
        for index, (page, pages, salt, other_salt, first, second) in enumerate(heads.tolist()):
            if (salt, other_salt) != start.salts or not page:
                return log
            # Numbers of a few frames are cheap to find together, those of many are wasted where
            # the log ends early; so they are found for a block of frames at a time.
            if index % _SUMMED_TOGETHER == 0:
                part = raw[index : index + _SUMMED_TOGETHER]
                summed = _weighted(_words(part, big_endian)).tolist()
            sums = _advanced(sums, pairs, *summed[index % _SUMMED_TOGETHER])
            if sums != (first, second):
                return log
            number += 1
            waiting[page] = offset + index * frame_bytes + FRAME_HEADER_BYTES
            if pages:
                log.offsets.update(waiting)
                waiting.clear()
                log.end = LogMark(start.salts, number, sums, pages)


_SUMMED_TOGETHER = 64


def _words(frames: npt.NDArray[np.uint8], big_endian: bool) -> npt.NDArray[np.uint32]:
    """What the checksum of each frame covers: its header's first two words and its page."""
    covered = np.concatenate((frames[:, :8], frames[:, FRAME_HEADER_BYTES:]), axis=1)
    return covered.view(">u4" if big_endian else "<u4").astype(np.uint32)


def _weighted(words: npt.NDArray[np.uint32]) -> npt.NDArray[np.uint32]:
    """What rows of words add to the two sums, whatever these were before.

    Each step of the checksum (``s0 += x0 + s1; s1 += x1 + s0``) is linear modulo 2**32, so that
    a word's share is the word times a number which depends on its place alone.
    """
    weights = _weights(words.shape[1] // 2)
    with np.errstate(over="ignore"):
        return np.stack(
            [(words * weights[0]).sum(1, np.uint32), (words * weights[1]).sum(1, np.uint32)], 1
        )


@lru_cache(4)
def _weights(pairs: int) -> npt.NDArray[np.uint32]:
    """The factors of the words of so many pairs in the first and in the second sum."""
    first = np.empty(2 * pairs, np.uint32)
    second = np.empty(2 * pairs, np.uint32)
    # An x0 adds (1, 1) and an x1 adds (0, 1); each later step takes (a, b) to (a + b, a + 2b).
    zero, one = (1, 1), (0, 1)
    for place in range(pairs - 1, -1, -1):
        first[2 * place], second[2 * place] = zero
        first[2 * place + 1], second[2 * place + 1] = one
        zero, one = _stepped(zero), _stepped(one)
    return np.stack([first, second])


def _stepped(sums: tuple[int, int]) -> tuple[int, int]:
    first = (sums[0] + sums[1]) & _WORD_MASK
    return first, (first + sums[1]) & _WORD_MASK


@lru_cache(8)
def _fibonacci(pairs: int) -> tuple[int, int, int, int]:
    """What so many steps make of (1, 0) and of (0, 1)."""
    one, other = (1, 0), (0, 1)
    for _ in range(pairs):
        one, other = _stepped(one), _stepped(other)
    return (*one, *other)


def _advanced(sums: tuple[int, int], pairs: int, first: int, second: int) -> tuple[int, int]:
    a, b, c, d = _fibonacci(pairs)
    return (
        (int(first) + a * sums[0] + c * sums[1]) & _WORD_MASK,
        (int(second) + b * sums[0] + d * sums[1]) & _WORD_MASK,
    )
