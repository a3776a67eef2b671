"""What a person set about the store: where it is and how large it may become."""

from __future__ import annotations

import re
from pathlib import Path
from typing import NamedTuple, NotRequired, TypedDict

from jondel.core.errors import StoreUnavailable
from jondel.core.files.home import private_folder, usable_home
from jondel.core.files.replacement import replace_text

_DEFAULT_BUDGET_BYTES = 10_000_000_000
_DEFAULT_LARGEST_TABLE_BYTES = 4_000_000_000
_UNITS = {"": 1, "B": 1, "KB": 10**3, "MB": 10**6, "GB": 10**9, "TB": 10**12}


class StoreSettings(NamedTuple):
    """``folder`` holds the store; ``budget_bytes`` is what its pages may take together. A server's
    table of more than ``largest_table_bytes`` is left out of snapshots."""

    folder: Path
    budget_bytes: int
    largest_table_bytes: int = _DEFAULT_LARGEST_TABLE_BYTES


class _Store(TypedDict):
    folder: NotRequired[str]
    budget: NotRequired[str | int]
    largest_table: NotRequired[str | int]


def store_settings(home: Path | None = None) -> StoreSettings:
    """Read the settings; without a file of them, what is usual.

    Raises:
        StoreUnavailable: the file cannot be understood.
    """
    home = home or usable_home()
    path = _file(home)
    table: _Store = {}
    if path.exists():
        from jondel.core.files.toml_files import read_toml, section  # only where something was set

        tables = read_toml(path, StoreUnavailable)
        table = section(path, tables, "store", _Store, StoreUnavailable) or {}
    folder = Path(table.get("folder", home / "store"))
    return StoreSettings(
        folder,
        parse_size(str(table.get("budget", _DEFAULT_BUDGET_BYTES))),
        parse_size(str(table.get("largest_table", _DEFAULT_LARGEST_TABLE_BYTES))),
    )


def change_store_settings(home: Path | None = None, **values: str) -> None:
    """Write settings (``folder``, ``budget``, ``largest_table``), leaving everything else in the
    file as it is."""
    import tomlkit

    home = private_folder(home or usable_home())
    path = _file(home)
    document = tomlkit.parse(path.read_text("utf-8")) if path.exists() else tomlkit.document()
    table = document.setdefault("store", tomlkit.table())
    table.update(values)
    replace_text(path, tomlkit.dumps(document), durable=True)


def parse_size(text: str) -> int:
    """Read a size such as ``500 MB`` or ``2.5GB`` in bytes.

    Raises:
        StoreUnavailable: it is none.
    """
    match = re.fullmatch(r"\s*([0-9]+(?:\.[0-9]+)?)\s*([A-Za-z]*)\s*", text)
    if match is None or match[2].upper() not in _UNITS:
        raise StoreUnavailable(f"{text!r} is not a size; give one like 500MB or 10GB")
    return int(float(match[1]) * _UNITS[match[2].upper()])


def _file(home: Path) -> Path:
    return home / "settings.toml"
