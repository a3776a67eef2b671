"""Captures a database by way of its mirror."""

from __future__ import annotations

from contextlib import closing
from pathlib import Path

from jondel.core.engines.delta import DeltaSource
from jondel.core.engines.needed import capturer_of
from jondel.core.engines.pages import PageSink
from jondel.core.engines.registry import open_database
from jondel.core.mirror.mirror import Mirror


class MirrorCapturer:
    """See ``Capturer``: what is captured are the pages of the mirror, brought up to date."""

    def __init__(self, folder: Path, source: DeltaSource, largest_table: int | None = None) -> None:
        """``folder`` is the mirror's. What stops the source stops the capture. Tables that take
        more bytes than the largest that is wanted are left out."""
        self._mirror = Mirror(folder, largest_table=largest_table)
        self._source = source

    def capture(self, sink: PageSink) -> None:
        """See ``Capturer.capture``."""
        self._mirror.update(self._source)
        with closing(open_database(self._mirror.path)) as mirror:
            capturer_of(mirror).capture(sink)
