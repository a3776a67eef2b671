"""Reads the write-ahead log of a SQLite database: which frames are committed, and their pages.

Format: https://www.sqlite.org/fileformat2.html#the_write_ahead_log. A frame counts when its salts
are those of the log's header, its checksum continues the chain from the header, and a commit frame
follows it (or is it). What a writer is just appending fails one of these and is not seen.
"""

from __future__ import annotations

import struct
import sys
from dataclasses import dataclass, field
from typing import NamedTuple, Protocol

HEADER_BYTES = 32
FRAME_HEADER_BYTES = 24
_MAGIC_LITTLE_ENDIAN, _MAGIC_BIG_ENDIAN = 0x377F0682, 0x377F0683
_FORMAT = 3007000
_BYTES_AT_ONCE = 2 << 20
_FIRST_FRAMES = 4
_WORD_MASK = 0xFFFFFFFF


class Reader(Protocol):
    """What a log is read through."""

    def size(self) -> int: ...

    def read(self, offset: int, amount: int) -> bytes:
        """Up to ``amount`` bytes; fewer at the end of the file."""


class LogMark(NamedTuple):
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
    sums = _summed((0, 0), header[:24], magic & 1 == 1)
    if list(sums) != stated:
        return None
    return LogMark((salt, other_salt), 0, sums, 0)


def holds(reader: Reader, page_size: int, mark: LogMark) -> bool:
    """Tell whether the file's log is still the one that the mark is a place in."""
    beginning = _beginning(reader.read(0, HEADER_BYTES))
    return beginning is not None and _holds(reader, page_size, mark, beginning)


def frames_before_restart(reader: Reader, mark: LogMark) -> dict[int, int] | None:
    """What was committed after a mark in a log that has just begun anew.

    A log begins anew at its start; what lies behind its new frames is of the old one still. None
    where that cannot be told: it was cut short, has begun anew more than once, or the new frames
    have come too far.
    """
    header = reader.read(0, HEADER_BYTES)
    beginning = _beginning(header)
    if beginning is None or beginning.salts[0] != (mark.salts[0] + 1) & _WORD_MASK:
        return None
    page_size = struct.unpack_from(">I", header, 8)[0]
    frames = _frames_after(reader, page_size, header[3] & 1 == 1, mark)
    anew = read_log(reader)
    still = anew is not None and anew.end.salts == beginning.salts
    last = HEADER_BYTES + frames.end.frames * (FRAME_HEADER_BYTES + page_size)
    if anew is None or not still or anew.end.frames >= mark.frames or reader.size() < last:
        return None
    return frames.offsets


def _holds(reader: Reader, page_size: int, mark: LogMark, beginning: LogMark) -> bool:
    """Tell whether the mark is a place in this very log."""
    if mark.salts != beginning.salts:
        return False
    if not mark.frames:
        return True
    last = HEADER_BYTES + (mark.frames - 1) * (FRAME_HEADER_BYTES + page_size)
    head = reader.read(last, FRAME_HEADER_BYTES)
    return len(head) == FRAME_HEADER_BYTES and struct.unpack_from(">2I", head, 16) == mark.sums


def _frames_after(reader: Reader, page_size: int, big_endian: bool, start: LogMark) -> Log:
    log = Log(page_size, start, start)
    frame_bytes = FRAME_HEADER_BYTES + page_size
    is_short = reader.size() - HEADER_BYTES - start.frames * frame_bytes <= _SHORT_BYTES
    if is_short and "numpy" not in sys.modules:
        return _few_frames_after(reader, log, big_endian)
    import numpy as np  # slow to load, and a short log is read without

    from jondel.core.engines.sqlite.wal_sums import SUMMED_TOGETHER, advanced, weighted, words_of

    # The log may end after a few frames, however long its file is.
    at_once = _FIRST_FRAMES
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
            if index % SUMMED_TOGETHER == 0:
                part = raw[index : index + SUMMED_TOGETHER]
                summed = weighted(words_of(part, big_endian)).tolist()
            sums = advanced(sums, pairs, *summed[index % SUMMED_TOGETHER])
            if sums != (first, second):
                return log
            number += 1
            waiting[page] = offset + index * frame_bytes + FRAME_HEADER_BYTES
            if pages:
                log.offsets.update(waiting)
                waiting.clear()
                log.end = LogMark(start.salts, number, sums, pages)
        at_once = max(1, _BYTES_AT_ONCE // frame_bytes)


_SHORT_BYTES = 128 << 10
"""So much is summed word by word before numpy would be loaded."""


def _few_frames_after(reader: Reader, log: Log, big_endian: bool) -> Log:
    """The same as ``_frames_after``, word by word."""
    frame_bytes = FRAME_HEADER_BYTES + log.page_size
    number, sums = log.start.frames, log.start.sums
    waiting: dict[int, int] = {}
    while True:
        offset = HEADER_BYTES + number * frame_bytes
        head = reader.read(offset, FRAME_HEADER_BYTES)
        if len(head) < FRAME_HEADER_BYTES:
            return log
        page, pages, salt, other_salt, first, second = struct.unpack(">6I", head)
        if (salt, other_salt) != log.start.salts or not page:
            return log
        content = reader.read(offset + FRAME_HEADER_BYTES, log.page_size)
        if len(content) < log.page_size:
            return log
        sums = _summed(_summed(sums, head[:8], big_endian), content, big_endian)
        if sums != (first, second):
            return log
        number += 1
        waiting[page] = offset + FRAME_HEADER_BYTES
        if pages:
            log.offsets.update(waiting)
            waiting.clear()
            log.end = LogMark(log.start.salts, number, sums, pages)


def _summed(sums: tuple[int, int], data: bytes, big_endian: bool) -> tuple[int, int]:
    """The checksum of an even number of words, going on from earlier sums."""
    first, second = sums
    words = iter(struct.unpack(f"{'>' if big_endian else '<'}{len(data) // 4}I", data))
    for one, other in zip(words, words, strict=True):
        first = (first + one + second) & _WORD_MASK
        second = (second + other + first) & _WORD_MASK
    return first, second
