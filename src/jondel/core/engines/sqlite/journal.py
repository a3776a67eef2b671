"""Reads a SQLite rollback journal: the pages as they were before the transaction under way.

Played back in memory just as SQLite plays one back that a crash left, nothing on disk touched.
Format: https://www.sqlite.org/fileformat2.html#the_rollback_journal
"""

from __future__ import annotations

import os
import struct
from collections.abc import Iterator
from dataclasses import dataclass, field

from jondel.core.engines.sqlite.wal import Reader

_MAGIC = bytes.fromhex("d9d505f920a163d7")
_HEADER_BYTES = 28
_UNKNOWN_RECORDS = 0xFFFFFFFF
"""Stands for as many records as the file has room for: written where nothing is ever synced."""
_SMALLEST = 512
_LARGEST_PAGE = _LARGEST_SECTOR = 65536
_LOCK_BYTE = 1 << 30
_BYTES_AT_ONCE = 1 << 20
_TRAILER_BYTES = 16
_LONGEST_NAME = 4096


@dataclass
class Journal:
    """The journal of one transaction.

    ``identity`` is of this transaction alone: each begins with a random number. ``effective``
    says that the file itself may hold pages of the transaction, so that those in the journal count
    instead: ``offsets`` maps page numbers (from 1) to where each lies, ``pages`` is how many the
    database had. Without it, nothing was written to the file yet.
    """

    identity: bytes
    effective: bool = False
    page_size: int = 0
    pages: int = 0
    offsets: dict[int, int] = field(default_factory=dict)


def identity_in(header: bytes) -> bytes:
    """What of a journal's first bytes tells its transaction; empty where it has none."""
    identity = header[12:_HEADER_BYTES]
    return identity if len(identity) == _HEADER_BYTES - 12 and any(identity) else b""


def read_journal(reader: Reader) -> Journal | None:
    """Read a journal; None where it is of no transaction, or of one that was committed.

    What it says of a journal that changes meanwhile counts only if its identity is the same
    afterwards.
    """
    size = reader.size()
    header = reader.read(0, _HEADER_BYTES)
    identity = identity_in(header)
    if not identity:
        return None
    journal = Journal(identity)
    if header[:8] != _MAGIC or size < _SMALLEST:
        return journal
    if _committed_elsewhere(reader, size):
        return None
    _, _, pages, sector, page_size = struct.unpack_from(">5I", header, 8)
    if not (_power_of_two(page_size, _SMALLEST, _LARGEST_PAGE)):
        return journal
    if not _power_of_two(sector, 32, _LARGEST_SECTOR):
        return journal
    journal.effective, journal.page_size, journal.pages = True, page_size, pages
    lock_page = _LOCK_BYTE // page_size + 1
    at = 0
    while at + sector <= size:
        header = reader.read(at, _HEADER_BYTES)
        if header[:8] != _MAGIC or len(header) < _HEADER_BYTES:
            break
        records, nonce = struct.unpack_from(">2I", header, 8)
        at += sector
        record_bytes = page_size + 8
        if records == _UNKNOWN_RECORDS:
            records = (size - sector) // record_bytes
        read = 0
        for offset, number in _records(reader, at, records, page_size, nonce, lock_page):
            read += 1
            if number <= pages:
                journal.offsets[number] = offset
        if read < records:
            break
        at += records * record_bytes
        at = -(-at // sector) * sector
    return journal


def _records(
    reader: Reader, start: int, records: int, page_size: int, nonce: int, lock_page: int
) -> Iterator[tuple[int, int]]:
    """Where each record's page lies and its number, up to the first that is not whole."""
    record_bytes = page_size + 8
    at_once = max(1, _BYTES_AT_ONCE // record_bytes)
    for first in range(0, records, at_once):
        wanted = min(at_once, records - first)
        offset = start + first * record_bytes
        data = reader.read(offset, wanted * record_bytes)
        for place in range(0, wanted * record_bytes, record_bytes):
            record = data[place : place + record_bytes]
            if len(record) < record_bytes:
                return
            number, checksum = (int.from_bytes(b, "big") for b in (record[:4], record[-4:]))
            if number in (0, lock_page):
                return
            # Every 200th byte of the page from its end; what stands there first is left out.
            summed = nonce + sum(record[4 + page_size - 200 : 4 : -200])
            if summed & 0xFFFFFFFF != checksum:
                return
            yield offset + place + 4, number


def _committed_elsewhere(reader: Reader, size: int) -> bool:
    """Whether it belongs to a transaction over several files, which was committed.

    Such a journal ends with the name of a file that goes at the commit.
    """
    trailer = reader.read(size - _TRAILER_BYTES, _TRAILER_BYTES)
    if len(trailer) < _TRAILER_BYTES or trailer[8:] != _MAGIC:
        return False
    length, checksum = struct.unpack_from(">2I", trailer)
    if not 0 < length <= min(_LONGEST_NAME, size - _TRAILER_BYTES):
        return False
    name = reader.read(size - _TRAILER_BYTES - length, length)
    signed = sum(byte - 256 if byte > 127 else byte for byte in name)
    if checksum not in (sum(name) & 0xFFFFFFFF, signed & 0xFFFFFFFF):
        return False
    return bool(name) and not os.path.exists(name)


def _power_of_two(number: int, least: int, most: int) -> bool:
    return least <= number <= most and not number & (number - 1)
