"""Stock."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records import tables as t
from chronarch.records.orders.stock import add_stock
from chronarch.records.paging import words
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.paging import ManyPaged, Page
from chronarch.service.http.views import TheViews
from chronarch.service.orders.jobs import find_file, find_part
from chronarch.service.permissions import Caller
from chronarch.wire.orders.stock import StockCount, StockRow

router = APIRouter(tags=["orders"], route_class=RetryingRoute)


PLACE = (words(t.Stock.what), words(t.Stock.material), words(t.Stock.colour))


async def _stock(db: AsyncSession, page: Page) -> list[StockRow]:
    query = page.of(select(t.Stock).where(t.Stock.pieces > 0), *PLACE)
    rows = page.cut((await db.execute(query)).scalars().all(), lambda row: (row.what, row.material, row.colour))
    numbers: dict[str, set[int]] = {"part": set(), "file": set()}
    for row in rows:
        kind, number = row.what.split(":")
        numbers[kind].add(int(number))
    names = {
        f"{kind}:{number}": name
        for kind, table in (("part", t.Part), ("file", t.File))
        for number, name in await db.execute(select(table.id, table.name).where(table.id.in_(numbers[kind])))
    }
    return [
        StockRow.model_validate(
            {
                row.what.split(":")[0]: names.get(row.what, row.what),
                "material": row.material, "colour": row.colour, "pieces": row.pieces,
            }
        )
        for row in rows
    ]  # fmt: skip


@router.get("/stock", response_model=list[StockRow])
async def stock(request: Request, page: ManyPaged, context: Context, views: TheViews) -> Response:
    """Good pieces on the shelf that nobody has ordered."""
    state = context.changes.version("stock", "parts", "files")
    return await views.read(request, list[StockRow], lambda db: _stock(db, page), state, page)


@router.put("/stock")
async def count_stock(count: StockCount, page: ManyPaged, who: Caller, context: Context) -> list[StockRow]:
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
        return await _stock(db, page)
