"""Fills a new database with made-up harbour life, the same every time."""

from __future__ import annotations

import json
import math
import os
import random
import struct
import zlib
from collections.abc import Iterator
from contextlib import closing
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Any, TypeAlias

from jondel.demo.harbour_desk.harbour import Harbour, open_harbour

_Row: TypeAlias = tuple[Any, ...]

TIDE_READINGS = 200_000
_TODAY = date(2026, 6, 14)
_NOON = datetime(2026, 6, 14, 12)  # noqa: DTZ001 (the harbour keeps local time)
_FIRST = (
    *("Ada", "Bram", "Cleo", "Dov", "Edda", "Finn", "Greta", "Hal", "Ines"),
    *("Jory", "Kaj", "Lena", "Milo", "Nell", "Odo", "Pia", "Rolf", "Tess"),
)
_LAST = (
    *("Ashgrove", "Birk", "Coombe", "Darrow", "Eddy", "Fallow", "Garth"),
    *("Holm", "Inger", "Marl", "Quill", "Reed", "Sedge", "Thorn"),
)
_BOATS = (
    *("Sandpiper", "Curlew", "Grey Seal", "Low Tide", "Halyard", "Marram"),
    *("Wigeon", "Brackish", "Second Wind", "Ebb", "Nutmeg"),
)
_PONTOONS = (("A", "north"), ("B", "north"), ("C", "south"), ("D", "south"))


def create(path: Path) -> None:
    """Make the database, whole or not at all.

    Raises:
        FileExistsError: there is something at the path already.
    """
    if path.exists():
        raise FileExistsError(path)
    path.parent.mkdir(parents=True, exist_ok=True)
    unfinished = path.with_name(path.name + f".making-{os.getpid()}")
    unfinished.unlink(missing_ok=True)
    with closing(open_harbour(str(unfinished))) as harbour:
        _make(harbour)
    unfinished.rename(path)


def create_on_server(url: str) -> None:
    """Make the tables in the database at a URL, and fill them; whole or not at all.

    Raises:
        FileExistsError: they are there.
    """
    with closing(open_harbour(url)) as harbour:
        if harbour.run("SELECT 1 FROM information_schema.tables WHERE table_name = 'pontoons'"):
            raise FileExistsError(url)
        _make(harbour)


def _make(harbour: Harbour) -> None:
    with harbour.transaction():
        harbour.make_tables()
        _fill(harbour, random.Random(1907))
    harbour.finish()


def _fill(harbour: Harbour, chance: random.Random) -> None:
    insert = harbour.fill
    insert("pontoons", [(i, name, side) for i, (name, side) in enumerate(_PONTOONS, 1)])
    insert("skippers", _skippers(chance))
    insert("boats", _boats(chance))
    insert("berths", _berths(chance))
    bookings = list(_bookings(chance))
    insert("bookings", bookings)
    for booking in bookings:
        if booking[4] in ("held", "berthed"):
            harbour.run(
                "UPDATE berths SET state = ?, booking_id = ? WHERE id = ?",
                ("taken" if booking[4] == "berthed" else "held", booking[0], booking[1]),
            )
    invoices = list(_invoices(bookings))
    insert("invoices", invoices)
    insert("payments", _payments(chance, invoices))
    insert("fuel_sales", _fuel_sales(chance))
    insert("settings", _settings())
    insert("web_sessions", _web_sessions(chance))
    insert("tide_readings", tide_readings(chance, 1, TIDE_READINGS, _NOON))


def _skippers(chance: random.Random) -> Iterator[_Row]:
    for i in range(1, 141):
        first, last = chance.choice(_FIRST), chance.choice(_LAST)
        email = f"{first}.{last}{i}@example.org".lower() if chance.random() < 0.9 else None
        phone = f"0555 {chance.randrange(10**6):06}" if chance.random() < 0.7 else None
        note = "prefers the south side" if chance.random() < 0.06 else None
        yield i, f"{first} {last}", email, phone, note
    yield 141, "Zoë Sørensen-Łuk", "zoe@example.org", None, "名前の例 ⚓ left a spare key"
    yield 142, "Óscar [bold]Peña[/bold]", None, " 0555 000142", ""


def _boats(chance: random.Random) -> Iterator[_Row]:
    for i in range(1, 211):
        length = chance.randrange(480, 1500, 5)
        draught = chance.randrange(40, 210, 5) if chance.random() < 0.85 else None
        photo = _png(chance, 12) if chance.random() < 0.2 else None
        name = f"{chance.choice(_BOATS)} {chance.choice(('', 'II', 'III', 'of Marl'))}".strip()
        yield i, chance.randint(1, 142), name, f"SM-{1000 + i}", length, draught, photo


def _berths(chance: random.Random) -> Iterator[_Row]:
    for i in range(1, 61):
        length = chance.choice((600, 800, 1000, 1200, 1500))
        yield i, (i - 1) // 15 + 1, (i - 1) % 15 + 1, length, int(i % 3 != 0), "free", None


def _bookings(chance: random.Random) -> Iterator[_Row]:
    current = chance.sample(range(1, 61), 32)
    for i in range(1, 413):
        is_current = i > 412 - len(current)
        berth = current[i - 413 + len(current)] if is_current else chance.randint(1, 60)
        nights = chance.randint(1, 9)
        arrives = _TODAY + timedelta(days=chance.randint(-2, 5) if is_current else i - 400)
        leaves = arrives + timedelta(days=nights)
        status = chance.choice(("held", "berthed")) if is_current else "left"
        if not is_current and chance.random() < 0.08:
            status = "cancelled"
        came = f"{arrives} 15:{chance.randrange(60):02}:00"
        yield (
            i,
            berth,
            chance.randint(1, 142),
            chance.randint(1, 210),
            status,
            str(arrives),
            str(leaves),
            nights * chance.choice((18.5, 22.0, 27.5)),
            came if status in ("berthed", "left") else None,
            f"{leaves} 09:30:00" if status == "left" else None,
            f"{arrives - timedelta(days=3)} 10:00:00" if status == "cancelled" else None,
            "arrives after dark" if chance.random() < 0.05 else None,
        )


def _invoices(bookings: list[_Row]) -> Iterator[_Row]:
    billed = [booking for booking in bookings if booking[4] != "cancelled"]
    for i, booking in enumerate(billed, 1):
        yield (
            i,
            booking[0],
            booking[2],
            booking[7],
            f"{booking[5]} 16:00:00",
            booking[6],
            booking[9],
        )


def _payments(chance: random.Random, invoices: list[_Row]) -> Iterator[_Row]:
    settled = [invoice for invoice in invoices if invoice[6]]
    for i, invoice in enumerate(settled, 1):
        method = chance.choice(("card", "card", "cash", "transfer"))
        reference = None if method == "cash" else f"SH{chance.randrange(10**8):08}"
        yield i, invoice[0], invoice[3], method, reference, invoice[6]


def _fuel_sales(chance: random.Random) -> Iterator[_Row]:
    for i in range(1, 641):
        litres = round(chance.uniform(12, 180), 1)
        when = _NOON - timedelta(hours=7 * (641 - i))
        price = round(litres * 1.74, 2)
        note = "on account" if chance.random() < 0.04 else None
        yield i, chance.randint(1, 210), chance.randint(1, 2), litres, price, str(when), note


def _settings() -> Iterator[_Row]:
    yield "office", json.dumps({"opens": "08:00", "closes": "19:30", "vhf_channel": 12})
    yield "prices", json.dumps({"night": [18.5, 22.0, 27.5], "fuel_litre": 1.74})
    yield "tide_gauges", json.dumps(["breakwater", "sluice"])


def _web_sessions(chance: random.Random) -> Iterator[_Row]:
    for _ in range(24):
        skipper = chance.randint(1, 142)
        data = json.dumps({"skipper": skipper, "csrf": f"{chance.getrandbits(64):016x}"})
        seen = 1_781_438_400 - chance.randrange(86_400)
        yield f"{chance.getrandbits(128):032x}", skipper, data, seen


def tide_readings(
    chance: random.Random, first_id: int, count: int, until: datetime
) -> Iterator[_Row]:
    """Readings every six minutes from two gauges, the last of them at ``until``."""
    for i in range(count):
        when = until - timedelta(minutes=6 * ((count - 1 - i) // 2))
        hours = when.timestamp() / 3600
        height = 260 + 190 * math.sin(hours * math.tau / 12.42) + chance.gauss(0, 3)
        surge = None if chance.random() < 0.01 else round(chance.gauss(4, 9))
        gauge = ("breakwater", "sluice")[i % 2]
        quality = "checked" if i < count - 400 else "raw"
        yield first_id + i, gauge, str(when), round(height), surge, quality


def _png(chance: random.Random, side: int) -> bytes:
    """A tiny real picture: a plain coloured square."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return (
            struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
        )

    colour = bytes(chance.randrange(256) for _ in range(3))
    lines = (b"\0" + colour * side) * side
    header = struct.pack(">IIBBBBB", side, side, 8, 2, 0, 0, 0)
    body = chunk(b"IHDR", header) + chunk(b"IDAT", zlib.compress(lines)) + chunk(b"IEND", b"")
    return b"\x89PNG\r\n\x1a\n" + body
