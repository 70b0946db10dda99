"""What a restored database says: which files it names, and how many machines and builds it has."""

from __future__ import annotations

from dataclasses import dataclass, field

from sqlalchemy import ColumnElement, func, select
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import InstrumentedAttribute

from chronarch.records.library.tables import Blob
from chronarch.records.machines.tables import Machine
from chronarch.records.orders.tables import Build
from chronarch.records.watching.tables import Film, Frame

Hashes = InstrumentedAttribute[str] | InstrumentedAttribute[str | None] | ColumnElement[str]
NAMED: dict[str, tuple[Hashes, ...]] = {
    "content": (Blob.sha256,),
    "frame": (Frame.sha256,),
    "film": (Film.sha256, Film.poster),
}
"""By kind of file: the columns that name them by their hash."""


@dataclass
class NamedFiles:
    """The hashes of all files that the records name, by kind; and how much else there is."""

    hashes: dict[str, set[str]] = field(default_factory=dict)
    machines: list[tuple[int, str]] = field(default_factory=list)
    """Numbers and names."""
    builds: int = 0


async def named_files(db: AsyncSession) -> NamedFiles:
    """What the records name."""
    found = NamedFiles()
    for kind, columns in NAMED.items():
        mine = found.hashes[kind] = set[str]()
        for column in columns:
            rows = await db.execute(select(column).where(column.is_not(None)).distinct())
            mine.update(sha256 for (sha256,) in rows if sha256 is not None)
    found.machines = [(number, name) for number, name in await db.execute(select(Machine.id, Machine.name))]
    found.builds = (await db.execute(select(func.count()).select_from(Build))).scalar_one()
    return found
