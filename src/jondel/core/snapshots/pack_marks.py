"""Remembers how packs were left, to tell whether what they hold can be relied on.

Nobody but Jondel writes packs, and it only appends. So a pack that is as it was left needs no
second look, unless the machine was started anew since: then what had not reached the disk may be
gone, though the file looks the same.
"""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any, TypeAlias

from jondel.core.files.replacement import replace_text

Identity: TypeAlias = list[int]
"""Inode, size in bytes, and times (ns) of a pack."""

_BOOT = Path("/proc/sys/kernel/random/boot_id")


def boot_id() -> str:
    """A text that is another one after each start of the machine; empty where none is known."""
    try:
        return _BOOT.read_text("ascii").strip()
    except OSError:
        return ""


def identities(folder: Path, suffix: str) -> dict[str, Identity]:
    """How the packs in a folder are now, by their numbers as text."""
    packs: dict[str, Identity] = {}
    with suppress(FileNotFoundError), os.scandir(folder) as entries:
        for entry in entries:
            if entry.name.endswith(suffix):
                info = entry.stat()
                times = [info.st_mtime_ns, info.st_ctime_ns]
                packs[entry.name.removesuffix(suffix)] = [info.st_ino, info.st_size, *times]
    return packs


def doubtful(
    left: Mapping[str, Any], now: Mapping[str, Identity], synced: Mapping[str, int]
) -> dict[int, int]:
    """The packs that must be verified, each with the byte from which on.

    ``left`` is what was noted when the packs were left, with ``packs`` and ``boot``; ``synced``
    says how many bytes of each are known to be on the disk.
    """
    packs = left.get("packs")
    if not isinstance(packs, dict):
        return {int(name): 0 for name in now}
    started_anew = left.get("boot") != boot_id()
    doubts: dict[int, int] = {}
    for name, identity in now.items():
        if packs.get(name) != identity:
            doubts[int(name)] = 0
        elif started_anew and synced.get(name, 0) < identity[1]:
            doubts[int(name)] = synced.get(name, 0)
    for name in packs.keys() - now.keys():
        doubts[int(name)] = 0
    return doubts


def read_synced(path: Path) -> dict[str, int]:
    """How many bytes of each pack are known to be on the disk, by its number as text."""
    try:
        sizes = json.loads(path.read_text("ascii"))
    except (OSError, ValueError):
        return {}
    known = isinstance(sizes, dict)
    return {n: size for n, size in sizes.items() if isinstance(size, int)} if known else {}


def write_synced(path: Path, sizes: Mapping[str, int]) -> None:
    """Note that so many bytes of each pack are on the disk."""
    replace_text(path, json.dumps(dict(sizes)))
