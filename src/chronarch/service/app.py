"""The service put together: `make_app` gives the ASGI application."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import warnings
from collections.abc import AsyncIterator, Callable, Coroutine
from functools import partial
from pathlib import Path
from typing import Any

from fastapi import APIRouter, FastAPI, HTTPException, Request
from fastapi.responses import FileResponse, StreamingResponse
from fastapi.routing import APIRoute
from fastapi.staticfiles import StaticFiles
from pydantic.warnings import UnsupportedFieldAttributeWarning
from sqlalchemy.exc import SQLAlchemyError
from starlette.responses import Response

from chronarch import __version__
from chronarch.core.clock import parse_clock
from chronarch.records.database import make_engine, make_sessions
from chronarch.service import openapi, problems, upstream
from chronarch.service.access import Doorkeeper, Reader
from chronarch.service.background import keep_going
from chronarch.service.blobs import Blobs
from chronarch.service.dispatch import dispatch_forever
from chronarch.service.fleet import Fleet
from chronarch.service.hardening import Hardened
from chronarch.service.heat import HeatLog
from chronarch.service.hot_folder import watch_forever
from chronarch.service.live import Hub, LiveEvent
from chronarch.service.once import forget_unfinished
from chronarch.service.reading import Readers
from chronarch.service.releasing import Releasing
from chronarch.service.routes import (
    builds,
    contents,
    drop,
    edits,
    files,
    hands,
    jobs,
    machines,
    orders,
    parts,
    people,
    plan,
    report,
    rounds,
    setup,
)
from chronarch.service.settings import Settings
from chronarch.service.shop import Shop, TheShop
from chronarch.wire import people as wire

warnings.filterwarnings("ignore", category=UnsupportedFieldAttributeWarning)  # FastAPI's own use of aliases for bodies
PARTS = (
    people, machines, hands, drop, files, edits, contents, parts, jobs, orders, plan, rounds, builds, report, setup,
)  # fmt: skip
PAGES = Path(__file__).parent / "pages"
log = logging.getLogger("chronarch.service")
live = APIRouter(tags=["live"])


@live.get("/live", response_class=StreamingResponse, responses={200: {"content": {"text/event-stream": {}}}})
async def live_stream(who: Reader, shop: TheShop) -> StreamingResponse:
    """All that changes, as server-sent events: `shop` (the clock) and every `machine` first, then `machine` whenever
    one changes, and `changed` naming the kind of record that has."""
    now = wire.Shop(name=shop.settings.shop, now=shop.clock.now(), rate=shop.clock.rate)
    first = [LiveEvent("shop", now.model_dump_json())]
    first += [LiveEvent("machine", shop.fleet.view(known).model_dump_json()) for known in shop.fleet.all()]

    async def pieces() -> AsyncIterator[bytes]:
        queue = shop.hub.listen()
        with shop.doors.held(who, lambda: shop.hub.cut_off(queue)):
            async for piece in shop.hub.stream(queue, first):
                yield piece

    return StreamingResponse(pieces(), media_type="text/event-stream", headers={"Cache-Control": "no-store"})


async def _load_fleet(shop: Shop) -> None:
    """Read the machines; wait for a database that is still starting."""
    while True:
        try:
            async with shop.sessions() as db:
                await shop.fleet.load(db)
            return
        except (SQLAlchemyError, OSError) as error:
            log.warning("waiting for the database: %s", str(error).splitlines()[0])
            await asyncio.sleep(1)


async def _read_missing_forever(shop: Shop) -> None:
    """Read files for models that were added after them."""
    while True:
        await shop.read_missing.wait()
        shop.read_missing.clear()
        try:
            await shop.intake.read_missing()
        except (SQLAlchemyError, OSError) as error:
            log.warning("reading waits for the database: %s", str(error).splitlines()[0])
            await asyncio.sleep(1)
            shop.read_missing.set()


def make_app(settings: Settings) -> FastAPI:
    """The service for these settings."""

    @contextlib.asynccontextmanager
    async def life(app: FastAPI) -> AsyncIterator[None]:
        clock = parse_clock(settings.clock)
        engine = make_engine(settings.database)
        sessions = make_sessions(engine)
        hub = Hub()
        fleet = Fleet(hub)
        heat = HeatLog(fleet, sessions, clock)
        shop = Shop(settings, clock, sessions, Blobs(settings.blobs), Readers(), hub, fleet, Doorkeeper(), heat)
        await _load_fleet(shop)
        app.state.shop = shop
        forever: list[Callable[[], Coroutine[Any, Any, None]]] = [
            partial(dispatch_forever, shop), heat.write_forever, partial(_read_missing_forever, shop),
            Releasing(shop).watch_forever, partial(shop.doors.watch_forever, shop),
        ]  # fmt: skip
        if settings.hot_folder is not None:
            forever.append(partial(watch_forever, shop, settings.hot_folder))
        tasks = [asyncio.create_task(keep_going(work)) for work in forever]
        await forget_unfinished(shop)
        await shop.intake.resume()
        yield
        shop.intake.close()
        hub.close()
        for task in tasks:
            task.cancel()
        shop.readers.close()
        await engine.dispose()

    app = FastAPI(
        title="Chronarch",
        version=__version__,
        summary="Runs a print shop's fleet of networked 3D printers.",
        lifespan=life,
        openapi_url="/api/openapi.json",
        docs_url=None,
        redoc_url=None,
    )
    routers = [part.router for part in PARTS] + [live]
    routes = [r for router in routers for r in router.routes if isinstance(r, APIRoute)]
    problems.install(app, routes)
    openapi.install(app, routes, "/api")
    for router in routers:
        app.include_router(router, prefix="/api")
    app.include_router(upstream.router)
    _serve_pages(app)
    app.add_middleware(Hardened)
    return app


def _serve_pages(app: FastAPI) -> None:
    """The console: its files, and its one page for every address that is not the API's."""
    if (PAGES / "assets").is_dir():
        app.mount("/assets", StaticFiles(directory=PAGES / "assets"), name="assets")

    @app.get("/{path:path}", include_in_schema=False)
    async def page(path: str, request: Request) -> Response:
        index = PAGES / "index.html"
        if path.startswith("api/"):
            raise HTTPException(405)  # or 404: whoever answers it looks whether another method is possible
        if not index.exists():
            raise problems.Refused(404, "The console has not been built; run `make console`. The API is at /api.")
        icon = PAGES / "icon.svg"
        return FileResponse(icon if path == "icon.svg" else index, headers={"Cache-Control": "no-cache"})
