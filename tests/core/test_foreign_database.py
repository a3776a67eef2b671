"""A database that a framework nobody here wrote has made and goes on writing."""

from __future__ import annotations

import subprocess
import sys
import textwrap
from collections.abc import Callable
from pathlib import Path

from jondel.core.engines.protocol import Database
from jondel.core.model.addresses import TableId
from jondel.core.trail.trail import Trail

_MODELS = """
import sys
from datetime import date, datetime
from decimal import Decimal
from sqlalchemy import ForeignKey, Numeric, String, UniqueConstraint, create_engine, select
from sqlalchemy.orm import DeclarativeBase, Mapped, Session, mapped_column, relationship

class Base(DeclarativeBase):
    pass

class Pontoon(Base):
    __tablename__ = "pontoon"
    name: Mapped[str] = mapped_column(String(8), primary_key=True)
    berths: Mapped[list["Berth"]] = relationship(back_populates="pontoon")

class Berth(Base):
    __tablename__ = "berth"
    __table_args__ = (UniqueConstraint("pontoon_name", "number"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    pontoon_name: Mapped[str] = mapped_column(ForeignKey("pontoon.name"))
    number: Mapped[int]
    free: Mapped[bool] = mapped_column(default=True)
    rate: Mapped[Decimal] = mapped_column(Numeric(8, 2))
    surveyed: Mapped[date | None]
    changed_at: Mapped[datetime] = mapped_column(default=datetime(2026, 6, 14, 12))
    pontoon: Mapped[Pontoon] = relationship(back_populates="berths")

engine = create_engine("sqlite:///" + sys.argv[1])
"""
_SET_UP = """
Base.metadata.create_all(engine)
with Session(engine) as session:
    north = Pontoon(name="A")
    north.berths = [Berth(number=n, rate=Decimal("18.50")) for n in range(1, 301)]
    session.add(north)
    session.commit()
"""
_ACT = """
with Session(engine) as session:
    berth = session.scalars(select(Berth).where(Berth.number == 120)).one()
    berth.free = False
    berth.rate = Decimal("22.75")
    berth.surveyed = date(2026, 6, 14)
    session.add(Pontoon(name="B", berths=[Berth(number=1, rate=Decimal("9"))]))
    session.delete(session.get(Berth, 7))
    session.commit()
"""


def _run(path: Path, program: str) -> None:
    source = textwrap.dedent(_MODELS) + program
    subprocess.run([sys.executable, "-c", source, str(path)], check=True)


def test_what_sqlalchemy_wrote_is_found_cell_by_cell(
    tmp_path: Path,
    opened: Callable[[Path], Database],
    trail_of: Callable[[Database], Trail],
) -> None:
    path = tmp_path / "framework.db"
    _run(path, _SET_UP)
    database = opened(path)
    tables = {table.name: table for table in database.schema().tables if not table.internal}
    assert list(tables) == ["berth", "pontoon"]
    assert tables["berth"].links_from("pontoon_name")[0].target_table == TableId("pontoon")
    assert database.rows.measure(tables["berth"]).rows == 300
    trail = trail_of(database)
    before = trail.take(database)
    _run(path, _ACT)
    changes = trail.changes(before, trail.take(database))
    berths, pontoons = changes.table(TableId("berth")), changes.table(TableId("pontoon"))
    assert berths is not None
    assert pontoons is not None
    assert [(record.kind, record.key) for record in berths.records] == [
        ("removed", (7,)),
        ("changed", (120,)),
        ("added", (301,)),
    ]
    cells = {cell.column: (cell.before, cell.after) for cell in berths.records[1].cells}
    assert cells == {"free": (1, 0), "rate": (18.5, 22.75), "surveyed": (None, "2026-06-14")}
    assert [(record.kind, record.key) for record in pontoons.records] == [("added", ("B",))]
