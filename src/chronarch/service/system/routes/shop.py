"""The shop's name and clock, and the live stream."""

from __future__ import annotations

import json
from collections.abc import AsyncIterator
from contextlib import suppress
from typing import Annotated, Literal

from fastapi import APIRouter, Header
from fastapi.responses import StreamingResponse

from chronarch.core.bounds import Word
from chronarch.service.context import Context, ServiceContext
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.live_events import stream
from chronarch.service.http.open_connections import TheOpenConnections
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.service.system.health import TheHealthCheck
from chronarch.service.system.shop_facts import change_shop, load_shop
from chronarch.wire.common import fill
from chronarch.wire.system.health import Health
from chronarch.wire.system.shop import HandsWish, LiveEvent, ShopChange, ShopInfo

router = APIRouter(route_class=RetryingRoute)


def _shop(context: ServiceContext) -> ShopInfo:
    return fill(
        ShopInfo, context.shop.facts, now=context.clock.now(), rate=context.clock.rate, simulated_hands=_hands(context)
    )


def _hands(context: ServiceContext) -> Literal["", "here", "away"]:
    path = context.config.demo_hands
    if path is None:
        return ""
    with suppress(OSError, ValueError, KeyError):
        return "away" if json.loads(path.read_text())["away"] else "here"
    return "here"


@router.put("/demo/hands", tags=["people"])
async def send_hands(wish: HandsWish, context: Context) -> ShopInfo:
    """In the demo: send its simulated hands away, or have them back."""
    path = context.config.demo_hands
    if path is None:
        raise ApiProblem(404, "There are no simulated hands here: this is no demo.")
    fresh = path.with_suffix(".asked")
    fresh.write_text(wish.model_dump_json())
    fresh.replace(path)
    shop = _shop(context)
    context.changes.publish("shop", shop.model_dump_json())
    return shop


@router.get("/shop", tags=["people"])
async def the_shop(context: Context) -> ShopInfo:
    """The shop's name and its time."""
    return _shop(context)


@router.patch("/shop", tags=["setup"])
async def change_the_shop(change: ShopChange, context: Context) -> ShopInfo:
    """Say what the shop is called, and in which language the console writes dates."""
    async with context.sessions() as db:
        await change_shop(db, context, change)
        await db.commit()
        await load_shop(db, context)
    shop = _shop(context)
    context.changes.publish("shop", shop.model_dump_json())
    return shop


@router.get("/health", tags=["people"])
async def look(health: TheHealthCheck) -> Health:
    """How the service itself is: its database, disk, clocks, tenders and workers."""
    return await health.look()


@router.get(
    "/live", tags=["live"], response_class=StreamingResponse, responses={200: {"content": {"text/event-stream": {}}}}
)
async def live_stream(
    who: Caller,
    context: Context,
    fleet: TheFleet,
    connections: TheOpenConnections,
    last_event_id: Annotated[Word, Header()] = "",
) -> StreamingResponse:
    """All that changes, as server-sent events: first `shop` (the clock) and every `machine`, then `machine` whenever
    one changes, and `changed` with the kind of a record that has and its name. With `Last-Event-ID` the stream
    continues after that change, with everything in between; `everything` has changed if that is too long ago."""
    first = [LiveEvent("shop", _shop(context).model_dump_json())]
    first += [LiveEvent("machine", known.shown) for known in fleet.all()]
    known = last_event_id[:18]
    number = int(known) if known.isascii() and known.isdigit() else None

    async def pieces() -> AsyncIterator[bytes]:
        queue = context.changes.listen()  # before what was missed is read, so that nothing falls between
        with connections.held(who, lambda: context.changes.cut_off(queue)):
            missed = await context.changes.since(context.sessions, number) if number is not None else []
            async for piece in stream(context.changes, queue, [*first, *missed]):
                yield piece

    return StreamingResponse(pieces(), media_type="text/event-stream", headers={"Cache-Control": "no-store"})
