"""Sizes in words."""

from __future__ import annotations


def size_text(size: int) -> str:
    """A size in bytes with a unit, as in ``12.4 kB``."""
    if size < 1000:
        return f"{size} B"
    for unit, bytes_each in (("kB", 1e3), ("MB", 1e6)):
        if size / bytes_each < 999.5:
            return f"{size / bytes_each:.3g} {unit}"
    return f"{size / 1e9:.3g} GB"
