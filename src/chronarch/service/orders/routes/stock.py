"""Stock."""

from __future__ import annotations

from fastapi import APIRouter
from sqlalchemy import select

from chronarch.records import tables as t
from chronarch.records.orders.stock import add_stock
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.orders.jobs import find_file, find_part
from chronarch.service.permissions import Who
from chronarch.wire.orders.stock import StockCount, StockRow

router = APIRouter(tags=["orders"], route_class=RetryingRoute)


@router.get("/stock")
async def stock(context: Context) -> list[StockRow]:
    """Good pieces on the shelf that nobody has ordered."""
    async with context.sessions() as db:
        rows = (await db.execute(select(t.Stock).where(t.Stock.pieces > 0).order_by(t.Stock.what))).scalars().all()
        parts = {p.id: p.name for p in (await db.execute(select(t.Part))).scalars()}
        names = {f: n for f, n in await db.execute(select(t.File.id, t.File.name))}
    found = []
    for row in rows:
        kind, number = row.what.split(":")
        name = (parts if kind == "part" else names).get(int(number), row.what)
        where = {"part": name} if kind == "part" else {"file": name}
        found.append(StockRow(**where, material=row.material, colour=row.colour, pieces=row.pieces))
    return found


@router.put("/stock")
async def count_stock(count: StockCount, who: Who, context: Context) -> list[StockRow]:
    """Say how many pieces of something are on the shelf."""
    async with context.sessions() as db:
        if count.part is not None:
            what = f"part:{(await find_part(db, count.part)).id}"
        else:
            what = f"file:{(await find_file(db, count.file or '')).id}"
        key = (what, count.material, count.colour)
        row = await db.get(t.Stock, key, with_for_update=True)
        await add_stock(db, key, count.pieces - (row.pieces if row else 0))
        await db.commit()
    return await stock(context)
