"""Files of statements in the project: listed, read, and written without overwriting others."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

from jondel.core.engines.finder import files_in
from jondel.core.errors import StatementRefused, TargetNotFound, TargetUnavailable
from jondel.core.files.replacement import replace_text

_MOST_FILES = 500
_MOST_BYTES = 8 << 20

Stamp = tuple[int, int, int]
"""What a file was when it was read or written last: it differs once somebody else has written."""


class ScriptFile(NamedTuple):
    """A file of statements that was read."""

    path: Path
    text: str
    stamp: Stamp | None


def scripts_in(folder: Path) -> list[Path]:
    """The files of statements in a project, those changed last first."""
    return files_in(folder, (".sql",))[:_MOST_FILES]


def read_script(path: Path) -> ScriptFile:
    """Read a file of statements.

    Raises:
        TargetNotFound: it is not there or cannot be read, or is no text.
    """
    try:
        stamp = _stamp(path)
        if stamp is not None and stamp[1] > _MOST_BYTES:
            raise TargetNotFound(f"{path}: it has more than 8 MB; run it with jondel query -f")
        return ScriptFile(path, path.read_text("utf-8-sig"), stamp)
    except OSError as error:
        raise TargetNotFound(f"{path}: cannot be read ({error.strerror})") from error
    except UnicodeDecodeError as error:
        raise TargetNotFound(f"{path}: is not text in UTF-8") from error


def changed_outside(file: ScriptFile) -> bool:
    """Whether somebody else has written a file, or taken it away, since it was read."""
    return file.stamp is not None and _stamp(file.path) != file.stamp


def write_script(file: ScriptFile, text: str) -> ScriptFile:
    """Write a file of statements; of a new one there is no stamp yet.

    Raises:
        StatementRefused: it was changed outside, or something is there already.
        TargetUnavailable: it cannot be written.
    """
    now = _stamp(file.path)
    if file.stamp is None and now is not None:
        raise StatementRefused(f"{file.path}: is there already; open it, or give another name")
    if file.stamp is not None and now != file.stamp:
        raise StatementRefused(
            f"{file.path}: was changed outside meanwhile; nothing was written: open it again, or "
            "save under another name"
        )
    try:
        replace_text(file.path, text, mode=0o666)
    except OSError as error:
        raise TargetUnavailable(f"{file.path}: cannot be written ({error.strerror})") from error
    return ScriptFile(file.path, text, _stamp(file.path))


def _stamp(path: Path) -> Stamp | None:
    try:
        info = path.stat()
    except OSError:
        return None
    return info.st_mtime_ns, info.st_size, info.st_ino
