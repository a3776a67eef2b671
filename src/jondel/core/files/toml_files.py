"""Reads TOML files that people write, and says what is wrong with them and where."""

from __future__ import annotations

from pathlib import Path
from typing import Any, TypeVar

from jondel.core.errors import JondelError

T = TypeVar("T")


def read_toml(path: Path, error_type: type[JondelError]) -> dict[str, Any]:
    """The tables of a file; none where there is no file.

    Raises:
        JondelError: of ``error_type``; it cannot be read, or is not TOML.
    """
    try:
        content = path.read_text("utf-8")
    except FileNotFoundError:
        return {}
    except (OSError, UnicodeDecodeError) as error:
        raise error_type(f"{path}: cannot be read ({error}); fix the file") from error
    import tomllib  # slow to load, and most databases have no such file

    try:
        return tomllib.loads(content)
    except tomllib.TOMLDecodeError as error:
        raise error_type(f"{path}: not valid TOML ({error}); fix the file") from error


def section(
    path: Path, tables: dict[str, Any], name: str, kind: type[T], error_type: type[JondelError]
) -> T | None:
    """One entry of a file as what it should be; None where it is not there.

    Raises:
        JondelError: of ``error_type``; it is something else. The message says which value is.
    """
    if name not in tables:
        return None
    import msgspec  # slow to load, and most databases have no such file

    try:
        return msgspec.convert(tables[name], kind)
    except msgspec.ValidationError as error:
        reason, _, place = str(error).partition(" - at `$")
        where = f"{name}{place.rstrip('`')}"
        raise error_type(
            f"{path}: {where}: {reason[:1].lower()}{reason[1:]}; fix the file"
        ) from error
