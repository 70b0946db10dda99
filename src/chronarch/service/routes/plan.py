"""The plan, and what it would be if something were otherwise."""

from __future__ import annotations

from fastapi import APIRouter

from chronarch.service.access import Reader
from chronarch.service.again import AgainRoute
from chronarch.service.outlook import plan_wire, what_if
from chronarch.service.shop import TheShop
from chronarch.wire import plan as w

router = APIRouter(tags=["plan"], route_class=AgainRoute)


@router.get("/plan")
async def plan(who: Reader, shop: TheShop) -> w.Plan:
    """What each machine does next, when, and why; the hours when hands are there; why machines stand idle."""
    async with shop.sessions() as db:
        planned = await shop.planner.current(shop, db)
    return await plan_wire(shop, planned)


@router.post("/what-if")
async def ask_what_if(wish: w.WhatIf, who: Reader, shop: TheShop) -> w.WhatIfAnswer:
    """What would happen if: answered from a copy. Nothing of the shop changes."""
    async with shop.sessions() as db:
        return await what_if(shop, db, wish)
