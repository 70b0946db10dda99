"""The shop's name and clock, and the live stream."""

from __future__ import annotations

from collections.abc import AsyncIterator

from fastapi import APIRouter
from fastapi.responses import StreamingResponse

from chronarch.service.changes import LiveEvent
from chronarch.service.context import Context, ServiceContext
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.live_events import stream
from chronarch.service.http.open_connections import TheOpenConnections
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.permissions import Who
from chronarch.service.system.health import TheHealth
from chronarch.wire.system import Health, ShopInfo

router = APIRouter(route_class=RetryingRoute)
routers = (router,)


def _shop(context: ServiceContext) -> ShopInfo:
    return ShopInfo(name=context.config.shop, now=context.clock.now(), rate=context.clock.rate)


@router.get("/shop", tags=["people"])
async def the_shop(context: Context) -> ShopInfo:
    """The shop's name and its time."""
    return _shop(context)


@router.get("/health", tags=["people"])
async def look(health: TheHealth) -> Health:
    """How the service itself is: its database, disk, clocks, tenders and workers."""
    return await health.look()


@router.get(
    "/live", tags=["live"], response_class=StreamingResponse, responses={200: {"content": {"text/event-stream": {}}}}
)
async def live_stream(
    who: Who, context: Context, fleet: TheFleet, connections: TheOpenConnections
) -> StreamingResponse:
    """All that changes, as server-sent events: `shop` (the clock) and every `machine` first, then `machine` whenever
    one changes, and `changed` naming the kind of record that has."""
    first = [LiveEvent("shop", _shop(context).model_dump_json())]
    first += [LiveEvent("machine", fleet.view(known).model_dump_json()) for known in fleet.all()]

    async def pieces() -> AsyncIterator[bytes]:
        queue = context.changes.listen()
        with connections.held(who, lambda: context.changes.cut_off(queue)):
            async for piece in stream(context.changes, queue, first):
                yield piece

    return StreamingResponse(pieces(), media_type="text/event-stream", headers={"Cache-Control": "no-store"})
