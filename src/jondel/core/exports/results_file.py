"""A file of results: it is there, and complete, once the block has ended well."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from jondel.core.errors import ExportFailed
from jondel.core.exports.results_out import ResultsOut
from jondel.core.files.replacement import replacing
from jondel.core.formats.row_writers import RowForm
from jondel.core.sql.dialect import Dialect


@contextmanager
def results_file(
    path: Path,
    form: RowForm,
    dialect: Dialect,
    *,
    with_table: bool = False,
    told: Callable[[str], None] = lambda words: None,
) -> Iterator[ResultsOut]:
    """What writes results to a file; ``told`` is given what is to be known of them.

    Raises:
        ExportFailed: it cannot be written; what was there is still there.
    """
    try:
        with replacing(path, mode=0o666) as file:
            if form == "xlsx":
                out = ResultsOut(form, dialect, book=file)
                yield out
                for words in out.end():
                    told(words)
                return
            text = io.TextIOWrapper(
                file, "utf-8", errors="surrogateescape", newline="", write_through=False
            )
            out = ResultsOut(form, dialect, text=text, with_table=with_table)
            yield out
            text.flush()
            text.detach()
    except OSError as error:
        raise ExportFailed(f"{path}: cannot be written ({error.strerror or error})") from error
