"""Values as they are, in files of their own."""

from __future__ import annotations

from pathlib import Path

from jondel.core.model.values import InvalidText, Value


def raw_bytes(value: Value) -> bytes:
    """A blob's bytes; text in UTF-8, numbers as they are written, nothing for NULL."""
    match value:
        case bytes():
            return value
        case InvalidText(raw):
            return raw
        case None:
            return b""
        case _:
            return str(value).encode("utf-8", "surrogateescape")


def write_value(path: str, value: Value) -> None:
    """Write a value to a file that must not be there yet.

    Raises:
        OSError: it is there, or cannot be written.
    """
    with Path(path).expanduser().open("xb") as file:
        file.write(raw_bytes(value))


def read_blob(path: str) -> bytes:
    """A file's content.

    Raises:
        OSError: it cannot be read.
    """
    return Path(path).expanduser().read_bytes()
