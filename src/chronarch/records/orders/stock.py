"""Stock: good pieces that nobody has ordered."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records.orders.tables import Job, Stock


def what_of(job: Job) -> str:
    """What a job makes, as the key of stock."""
    return f"part:{job.part_id}" if job.part_id is not None else f"file:{job.file_id}"


def stock_key(job: Job) -> tuple[str, str, str]:
    r = job.requirement
    return what_of(job), r.get("material", ""), r.get("colour", "")


async def add_stock(db: AsyncSession, key: tuple[str, str, str], pieces: int) -> None:
    """Put good pieces into stock. A negative number takes them out, never below none."""
    if pieces == 0:
        return
    row = await db.get(Stock, key, with_for_update=True)
    if row is None:
        row = Stock(what=key[0], material=key[1], colour=key[2], pieces=0)
        db.add(row)
    row.pieces = max(0, row.pieces + pieces)
    await db.flush()


async def take_stock(db: AsyncSession, key: tuple[str, str, str], pieces: int) -> int:
    """Take pieces out of stock: as many as there are, at most as many as are wanted. Without a colour, pieces of any
    colour are taken."""
    query = select(Stock).where(Stock.what == key[0], Stock.pieces > 0).with_for_update()
    taken = 0
    for row in (await db.execute(query.order_by(Stock.material, Stock.colour))).scalars():
        if (key[1] and row.material.lower() != key[1].lower()) or (key[2] and row.colour.lower() != key[2].lower()):
            continue
        some = min(row.pieces, pieces - taken)
        row.pieces -= some
        taken += some
    return taken
