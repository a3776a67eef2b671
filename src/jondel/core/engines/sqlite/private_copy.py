"""A copy of one state of a database, where nobody writes it."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Sequence
from typing import IO

from jondel.core.engines.pages import Origin
from jondel.core.engines.sqlite.committed_state import HEADER_SIZE


class PrivateCopy:
    """Takes in a capture (see ``PageSink``) and gives its pages, from a file without a name."""

    known: Origin | None = None
    in_wal_mode = False

    def __init__(self) -> None:
        self._file: IO[bytes] = tempfile.TemporaryFile(prefix="jondel-")  # noqa: SIM115
        self.page_size = 4096
        self.page_count = 0

    @property
    def file_bytes(self) -> int:
        return self.page_size * self.page_count

    @property
    def header(self) -> bytes:
        return self.read(0)[:HEADER_SIZE] if self.page_count else b""

    def begin(self, page_size: int, page_count: int, *, partial: bool) -> None:
        self.page_size, self.page_count = page_size, page_count
        self._file.truncate(0)

    def put(self, indexes: Sequence[int], data: bytes | bytearray) -> None:
        size, descriptor = self.page_size, self._file.fileno()
        if isinstance(indexes, range):
            os.pwrite(descriptor, data, indexes.start * size)
            return
        for number, index in enumerate(indexes):
            os.pwrite(descriptor, data[number * size : (number + 1) * size], index * size)

    def resize(self, page_count: int) -> None:
        self.page_count = page_count

    def end(self, origin: Origin) -> None:
        header = bytes.fromhex(origin["header"])
        self.in_wal_mode = "log" in origin or header[18:20] == b"\x02\x02"

    def read(self, index: int) -> bytes:
        """One page, from 0."""
        return os.pread(self._file.fileno(), self.page_size, index * self.page_size)

    def held(self) -> bool:
        """Nobody writes it."""
        return True

    def close(self) -> None:
        self._file.close()
