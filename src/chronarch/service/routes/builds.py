"""Builds, their verdicts, and notices."""

from __future__ import annotations

import logging
from typing import Annotated, Any

from fastapi import APIRouter, Query, Request, Response
from fastapi.responses import FileResponse
from sqlalchemy import select, update
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Counted, Number, Word
from chronarch.core.states import BuildState, MachineState, Verdict
from chronarch.records import orders, queries
from chronarch.records import tables as t
from chronarch.service.access import Operator, Reader, Who
from chronarch.service.again import AgainRoute
from chronarch.service.fleet import Known
from chronarch.service.openapi import body
from chronarch.service.problems import Refused
from chronarch.service.shop import Shop, TheShop
from chronarch.wire import work as w
from chronarch.wire.upstream import Deed

router = APIRouter(tags=["builds"], route_class=AgainRoute)
log = logging.getLogger("chronarch.builds")
LARGEST_PHOTO = 12_000_000


async def _find(db: AsyncSession, number: int) -> Any:
    row = (await db.execute(queries.select_builds().where(t.Build.id == number))).first()
    if row is None:
        raise Refused(404, f"There is no build {number}; `chronarch builds list` shows the newest.")
    return row


@router.get("/builds")
async def builds(
    who: Reader,
    shop: TheShop,
    machine: Word | None = None,
    job: Number | None = None,
    uncleared: bool = False,
    limit: Annotated[int, Query(ge=1, le=1000)] = 50,
) -> list[w.Build]:
    """Builds, newest first; `uncleared`: only those whose bed nobody has cleared yet, running ones included."""
    query = queries.select_builds().limit(limit)
    if machine:
        query = query.where(t.Build.machine_id == shop.fleet.find(machine).row.id)
    if job is not None:
        query = query.where(t.Build.job_id == job)
    if uncleared:
        query = query.where(t.Build.cleared_at.is_(None))
    async with shop.sessions() as db:
        return [queries.build_wire(row) for row in await db.execute(query)]


@router.get("/builds/{number:record}")
async def build(number: Number, who: Reader, shop: TheShop) -> w.Build:
    async with shop.sessions() as db:
        return queries.build_wire(await _find(db, number))


async def running(shop: Shop, number: int, what: str) -> tuple[t.Build, Known]:
    """A build that has not ended, and its machine. Raises Refused (404, 409)."""
    async with shop.sessions() as db:
        row = await _find(db, number)
    if row[0].state == BuildState.ENDED:
        raise Refused(409, f"Build {number} has ended; there is nothing to {what}.")
    return row[0], shop.fleet.find(row[1])


async def have_done(shop: Shop, number: int, deed: Deed, **more: Any) -> w.Build:
    """Have the build's machine do something, and answer with the build as it is then."""
    _, known = await running(shop, number, deed.replace("_", " "))
    await shop.fleet.command(known, deed, build=number, **more)
    async with shop.sessions() as db:
        return queries.build_wire(await _find(db, number))


@router.post("/builds/{number:record}/pause")
async def pause(number: Number, because: w.Because, who: Operator, shop: TheShop) -> w.Build:
    """Stop feeding at the next line, lift and park. Answers once the machine stands."""
    return await have_done(
        shop, number, "pause", reason=because.reason or f"asked for by {who.signature}", by=who.signature
    )


@router.post("/builds/{number:record}/resume")
async def resume(number: Number, who: Operator, shop: TheShop) -> w.Build:
    """Undo a pause; the build goes on with the very next line."""
    return await have_done(shop, number, "resume", by=who.signature)


@router.post("/builds/{number:record}/stop")
async def stop(number: Number, because: w.Because, who: Operator, shop: TheShop) -> w.Build:
    """End a build for good: heaters off, park, bed presented."""
    return await have_done(
        shop, number, "stop", reason=because.reason or f"asked for by {who.signature}", by=who.signature
    )


@router.post("/builds/{number:record}/verdict")
async def verdict(number: Number, order: w.Clearing, who: Operator, shop: TheShop) -> w.Build:
    """The bed is cleared, and this came of the build: what is good is counted, the rest is back in the queue."""
    return await judge(shop, number, order, who)


async def judge(shop: Shop, number: int, order: w.Clearing, who: Who) -> w.Build:
    """Write down a verdict and that the bed is clear; tell the machine. Raises Refused (404, 409, 422)."""
    async with shop.sessions() as db:
        build = await db.get(t.Build, number)
        if build is None:
            raise Refused(404, f"There is no build {number}; `chronarch builds list` shows the newest.")
        # The machine first, as its events and its releases lock them: in one order nobody waits for ever.
        machine = await db.get_one(t.Machine, build.machine_id, with_for_update=True)
        await db.refresh(build, with_for_update=True)
        if build.verdict is not None:
            raise Refused(409, f"Build {number} has its verdict already: {build.verdict}, by {build.judged_by}.")
        lifted = build.cleared_at is not None
        if build.state != BuildState.ENDED or (machine.state == MachineState.COOLING and not lifted):
            doing = (
                "has not ended yet" if build.state != BuildState.ENDED else "has ended, but its bed is still too hot"
            )
            raise Refused(409, f"Build {number} {doing}; {machine.name} is {machine.state}. Clear it afterwards.")
        job = await db.get_one(t.Job, build.job_id)
        before = (await queries.copies_of(db, [job]))[job.id]
        build.verdict, build.good_pieces = _count(build, order)
        build.scrap_reason, build.judged_by = order.reason, who.signature
        build.cleared_at = build.cleared_at or shop.clock.now()
        if not lifted:
            if machine.release_stuck:
                shop.fleet.find(machine.name).clear_frame = None  # it is to show its clear bed anew
            machine.release_stuck = ""
            machine.releases_left = known_releases(shop, machine.name)
        await orders.settle(db, job, before, shop.clock.now())
        await db.commit()
        name = machine.name
    known = shop.fleet.find(name)
    if not lifted:
        try:
            await shop.fleet.command(known, "clear", build=number)
        except Refused as error:
            log.warning("%s hears later that its bed is clear: %s", name, error)
    async with shop.sessions() as db:
        await shop.fleet.load(db, name)
        wire = queries.build_wire(await _find(db, number))
    shop.hub.changed("jobs", "builds", "orders", "plan")
    shop.work.set()
    return wire


def known_releases(shop: Shop, machine: str) -> int:
    """How many parts in a row a machine may let go of, counted anew because somebody was there."""
    return shop.fleet.find(machine).model.releases


def _count(build: t.Build, order: w.Clearing) -> tuple[str, int]:
    """The verdict and how many pieces are good: some good ones make a good build, none a scrapped one."""
    good = order.good
    if good is None:
        good = build.pieces if order.verdict is Verdict.GOOD else 0
    if good > build.pieces:
        raise Refused(422, f"Build {build.id} yields {build.pieces}; {good} of them cannot be good.")
    if order.verdict is Verdict.SCRAP and good:
        raise Refused(422, f"A build with {good} good pieces is good; say how many are, and what was wrong.")
    if good < build.pieces and not order.reason:
        raise Refused(422, "Pieces that are not good need a reason: say what was wrong with them.")
    return (Verdict.GOOD if good else Verdict.SCRAP), good


@router.put("/builds/{number:record}/photo", openapi_extra=body("image/jpeg", "image/png"))
async def put_photo(number: Number, request: Request, who: Operator, shop: TheShop) -> w.Build:
    """A picture of what went wrong, JPEG or PNG."""
    received = await shop.blobs.receive(request.stream(), LARGEST_PHOTO)
    with received.path.open("rb") as source:
        head = source.read(8)
    if not head.startswith((b"\xff\xd8\xff", b"\x89PNG\r\n\x1a\n")):
        received.path.unlink()
        raise Refused(422, "This is neither a JPEG nor a PNG picture; take a photo.")
    async with shop.sessions() as db:
        build = await db.get(t.Build, number)
        if build is None:
            received.path.unlink()
            raise Refused(404, f"There is no build {number}; `chronarch builds list` shows the newest.")
        shop.blobs.keep(received.path, received.sha256)
        if await db.get(t.Blob, received.sha256) is None:
            db.add(t.Blob(sha256=received.sha256, size=received.size))
            await db.flush()
        build.photo = received.sha256
        await db.commit()
        return queries.build_wire(await _find(db, number))


@router.get("/builds/{number:record}/photo", response_class=Response, responses={200: {"content": {"image/jpeg": {}}}})
async def photo(number: Number, who: Reader, shop: TheShop) -> FileResponse:
    """The picture that somebody took of what went wrong."""
    async with shop.sessions() as db:
        build = await db.get(t.Build, number)
    if build is None or build.photo is None:
        raise Refused(404, f"There is no picture of build {number}.")
    path = shop.blobs.path(build.photo)
    kind = "image/png" if path.open("rb").read(1) == b"\x89" else "image/jpeg"
    return FileResponse(path, media_type=kind)


@router.get("/notices", tags=["notices"])
async def notices(
    who: Reader, shop: TheShop, seen: bool = False, limit: Annotated[int, Query(ge=1, le=1000)] = 100
) -> list[w.Notice]:
    """Notices, newest first; those already seen too with `seen`."""
    query = select(t.Notice).order_by(t.Notice.id.desc()).limit(limit)
    if not seen:
        query = query.where(~t.Notice.seen)
    names = {known.row.id: known.row.name for known in shop.fleet.all()}
    async with shop.sessions() as db:
        rows = (await db.execute(query)).scalars().all()
    return [
        w.Notice(
            id=n.id,
            at=n.at,
            machine=names.get(n.machine_id or 0),
            build=n.build_id,
            severity=n.severity,
            text=n.text,
            seen=n.seen,
        )
        for n in rows
    ]


@router.post("/notices/seen", tags=["notices"])
async def all_seen(who: Operator, shop: TheShop, up_to: Counted) -> w.Done:
    """Mark every notice up to this number as seen."""
    async with shop.sessions() as db:
        await db.execute(update(t.Notice).where(t.Notice.id <= up_to).values(seen=True))
        await db.commit()
    shop.hub.changed("notices")
    return w.Done(text="marked as seen")
