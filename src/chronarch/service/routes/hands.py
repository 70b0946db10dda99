"""What hands ask of machines and running builds, and what they look at while they do."""

from __future__ import annotations

import gzip
import hashlib
from collections.abc import Iterator
from datetime import timedelta
from typing import Annotated

from fastapi import APIRouter, Body, Query, Request
from fastapi.responses import FileResponse, StreamingResponse
from sqlalchemy import select, update
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core import hands as h
from chronarch.core.bounds import Counted, Named, Number
from chronarch.core.gcode.plan import Plan
from chronarch.core.level_map import LevelMap
from chronarch.core.states import WORKING, MachineState
from chronarch.core.wording import adjustment
from chronarch.records import queries
from chronarch.records import tables as t
from chronarch.service.access import Operator, Reader, TenderKey, Who
from chronarch.service.again import AgainRoute
from chronarch.service.fleet import Known
from chronarch.service.intake import add_content
from chronarch.service.openapi import body
from chronarch.service.problems import Late, Refused
from chronarch.service.routes.builds import have_done, running
from chronarch.service.routes.contents import reading_of
from chronarch.service.routes.machines import own_machine
from chronarch.service.shop import Shop, TheShop
from chronarch.wire import hands as w
from chronarch.wire.people import Scope
from chronarch.wire.upstream import LogWish, SkipOrder, WirePlan
from chronarch.wire.work import Because, Build, Done

router = APIRouter(tags=["hands"], route_class=AgainRoute)
HANDS_WITHIN_S = 310.0
LARGEST_LOG = 200_000_000
TRIES = 3


@router.post("/machines/{name}/do")
async def do(name: Named, action: Annotated[w.Action, Body()], who: Operator, shop: TheShop) -> w.Did:
    """Do something at a machine; answers once the machine has done it. While a build runs only what is meant for one is
    possible. A line, and a guarded sequence, need the right to maintain."""
    known = shop.fleet.find(name)
    _may(action, known, who)
    h.check(action, known.model.core(), standing(shop, known))
    reply = await shop.fleet.command(known, "act", HANDS_WITHIN_S, action=action, by=who.signature)
    return w.Did(text=f"{known.row.name}: {adjustment(action)}.", said=reply.said)


def _may(action: h.Action, known: Known, who: Who) -> None:
    """Raises Refused (403) when this takes more than the right to operate."""
    deep = isinstance(action, h.Line)
    if isinstance(action, h.Run):
        deep = h.find_sequence(known.model.core(), action.sequence).guarded
    if deep and not who.may(Scope.MAINTAIN):
        what = "Sending lines" if isinstance(action, h.Line) else "This sequence"
        raise Refused(403, f"{what} needs the right to maintain; {who.name} may {who.scope}.")


def standing(shop: Shop, known: Known) -> h.Standing:
    """A machine as an action finds it, by what was last heard of it."""
    sample = known.sample
    if sample is None or not shop.fleet.reachable(known):
        raise Refused(503, f"The tender {known.tender} of {known.row.name} is not connected; try again when it is.")
    state = MachineState(known.row.state)
    moment = (
        h.Moment.PAUSED if state is MachineState.PAUSED else h.Moment.BUILDING if state in WORKING else h.Moment.FREE
    )
    nozzle = sample.reading.nozzle.measured_c if sample.reading else None
    laden = known.brief is not None or known.row.state in (MachineState.COOLING, MachineState.UNCLEARED)
    return h.Standing(moment, nozzle, sample.hands.position_mm, laden)


@router.get("/machines/{name}/log")
async def log(
    name: Named,
    who: Reader,
    shop: TheShop,
    after: Counted = 0,
    limit: Annotated[int, Query(ge=1, le=5000)] = 500,
    search: Annotated[str, Query(max_length=100)] = "",
) -> list[w.LogLine]:
    """The newest lines between tender and machine, both directions, oldest first; those after a number, to follow."""
    known = shop.fleet.find(name)
    reply = await shop.fleet.command(known, "log", log=LogWish(after=after, limit=limit, search=search))
    return reply.log


@router.get("/machines/{name}/level-maps")
async def level_maps(
    name: Named, who: Reader, shop: TheShop, limit: Annotated[int, Query(ge=1, le=100)] = 20
) -> list[w.BedLevel]:
    """How level the bed was, newest first."""
    known = shop.fleet.find(name)
    query = select(t.LevelMap).where(t.LevelMap.machine_id == known.row.id).order_by(t.LevelMap.at.desc()).limit(limit)
    async with shop.sessions() as db:
        rows = (await db.execute(query)).scalars().all()
    found = []
    for row in rows:
        measured = LevelMap(tuple(tuple(r) for r in row.rows))
        found.append(
            w.BedLevel(
                at=row.at, rows=row.rows, range_mm=measured.range_mm, mean_mm=measured.mean_mm,
                deviation_mm=measured.deviation_mm,
            )
        )  # fmt: skip
    return found


# Running builds ----------------------------------------------------------------------------------------------------


@router.put("/builds/{number:record}/pauses/{layer:record}")
async def pause_before(number: Number, layer: Counted, who: Operator, shop: TheShop) -> Build:
    """Pause once everything below a layer is laid; 0: once the layer that is being laid is."""
    return await have_done(shop, number, "pause_before", layer=layer, by=who.signature)


@router.delete("/builds/{number:record}/pauses/{layer:record}")
async def no_pause_before(number: Number, layer: Counted, who: Operator, shop: TheShop) -> Build:
    """Take back a pause before a layer."""
    return await have_done(shop, number, "no_pause_before", layer=layer, by=who.signature)


@router.post("/builds/{number:record}/filament-change")
async def filament_change(number: Number, because: Because, who: Operator, shop: TheShop) -> Build:
    """Pause for a change of filament. Then `unload`, `load` and `purge` are done at the machine; then it is resumed."""
    reason = because.reason or f"filament change asked for by {who.signature}"
    return await have_done(shop, number, "change_filament", reason=reason, by=who.signature)


@router.get("/builds/{number:record}/changes")
async def changes(number: Number, who: Reader, shop: TheShop) -> list[w.Change]:
    """What hands changed of a build, oldest first."""
    query = select(t.BuildChange).where(t.BuildChange.build_id == number).order_by(t.BuildChange.id)
    async with shop.sessions() as db:
        return [w.Change(at=row.at, text=row.text, by=row.by) for row in (await db.execute(query)).scalars()]


# Leaving objects out -----------------------------------------------------------------------------------------------


async def _skip_plan(
    shop: Shop, build: t.Build, known: Known, objects: list[str], lead_s: float = 0.0
) -> tuple[w.SkipPlan, SkipOrder, list[dict[str, object]]]:
    """Work out what leaving objects out comes to, from the first layer on that begins at least so long from now."""
    brief = known.sample.build if known.sample else None
    if brief is None or brief.id != build.id or known.sample is None:
        raise Refused(409, f"{known.row.name} has not begun this build yet; try again in a moment.")
    if known.sample.hands.runs_file:
        raise Refused(409, f"{known.row.name} runs the whole file itself; what it runs cannot be changed under way.")
    async with shop.sessions() as db:
        original = await reading_of(db, build.sha256, known.model.name)
        present = await _plan(db, build.fed_sha256 or build.sha256, known)
    gone = {str(skip["object"]) for skip in build.skips}
    names = [o.name for o in original.objects]
    for name in objects:
        if name not in names or name in gone:
            listed = ", ".join(n for n in names if n not in gone) or "none"
            raise Refused(422, f"There is no object {name!r} to leave out; there are: {listed}.")
    remaining = [name for name in names if name not in gone and name not in objects]
    if not remaining:
        raise Refused(409, "Nothing would remain; stop the build instead.")
    earliest_s = present.at(brief.acknowledged).planned_s + lead_s / brief.pace
    layer = present.layer_at(brief.acknowledged) + 1
    while layer <= len(present.layers) and present.at(present.layers[layer - 1]).planned_s < earliest_s:
        layer += 1
    if layer > len(present.layers):
        raise Refused(409, "The last layer has begun; there is no later one to leave anything out of.")
    skips = [*build.skips, *({"object": name, "from_layer": max(2, layer)} for name in objects)]
    sha256, from_command, plan = await _edited(shop, build.sha256, known, skips)
    text = f"left out {', '.join(objects)} from layer {max(2, layer)} on"
    now = shop.clock.now()
    pace = brief.pace
    done_s = plan.at(brief.acknowledged).planned_s
    remaining_s = (plan.total_s - done_s) * pace
    told = w.SkipPlan(
        objects=objects,
        remaining=remaining,
        from_layer=max(2, layer),
        layers=len(plan.layers),
        remaining_s=remaining_s,
        saved_s=max(0.0, (present.total_s - plan.total_s) * pace),
        expected_end=now + timedelta(seconds=remaining_s),
        sha256=sha256,
    )
    return told, SkipOrder(sha256=sha256, plan=WirePlan.of(plan), from_command=from_command, text=text), skips


async def _plan(db: AsyncSession, sha256: str, known: Known) -> Plan:
    """A content's time plan on a machine's model."""
    query = select(t.ContentReading.plan).where(
        t.ContentReading.sha256 == sha256, t.ContentReading.model == known.model.name
    )
    return WirePlan.model_validate((await db.execute(query)).scalar_one()).core()


async def _edited(shop: Shop, sha256: str, known: Known, skips: list[dict[str, object]]) -> tuple[str, int, Plan]:
    """The content without some objects, kept: its hash, from which command on it differs, its plan."""
    out = shop.blobs.new_path()
    try:
        wanted = [(str(s["object"]), int(str(s["from_layer"]))) for s in skips]
        from_command, figures, plan = await shop.readers.leave_out(
            shop.blobs.path(sha256), known.model.core(), wanted, out
        )
        with out.open("rb") as source:
            edited = hashlib.file_digest(source, "sha256").hexdigest()
        size = out.stat().st_size
        if not shop.blobs.path(edited).exists():
            shop.blobs.keep(out, edited)
        async with shop.sessions() as db:
            await add_content(db, edited, size, [(known.model.name, figures, plan)])
            await db.commit()
    finally:
        out.unlink(missing_ok=True)
    return edited, from_command, WirePlan.model_validate(plan).core()


@router.post("/builds/{number:record}/skip/preview")
async def preview_skip(number: Number, order: w.Skip, who: Operator, shop: TheShop) -> w.SkipPlan:
    """What leaving objects out from the next layer on would come to. Nothing is changed."""
    build, known = await running(shop, number, "leave out")
    told, _, _ = await _skip_plan(shop, build, known, order.objects)
    return told


@router.post("/builds/{number:record}/skip")
async def skip(number: Number, order: w.Skip, who: Operator, shop: TheShop) -> w.SkipPlan:
    """Leave objects out of a running build from the next layer on; what else is on the bed is laid as it was."""
    build, known = await running(shop, number, "leave out")
    lead_s = 0.0
    for more in reversed(range(TRIES)):
        began = shop.clock.now()
        told, wish, skips = await _skip_plan(shop, build, known, order.objects, lead_s)
        try:
            await shop.fleet.command(known, "skip", build=number, skip=wish, by=who.signature)
        except Late:
            if not more:
                raise
            lead_s = 2 * (lead_s + (shop.clock.now() - began).total_seconds())
            continue
        await _keep_skips(shop, number, skips, wish.sha256)
        return told
    raise AssertionError("unreachable")


@router.delete("/builds/{number:record}/skip/{name}")
async def undo_skip(number: Number, name: Named, who: Operator, shop: TheShop) -> Build:
    """Lay an object after all: possible until the layer it would be missing from begins."""
    build, known = await running(shop, number, "undo")
    mine = [s for s in build.skips if s["object"] == name]
    if not mine:
        raise Refused(404, f"{name!r} has not been left out of build {number}.")
    skips = [s for s in build.skips if s["object"] != name]
    sha256 = build.sha256
    async with shop.sessions() as db:
        present = await _plan(db, build.fed_sha256 or sha256, known)
        plan = await _plan(db, sha256, known)
    if skips:
        sha256, _, plan = await _edited(shop, build.sha256, known, skips)
    from_command = present.layers[int(mine[0]["from_layer"]) - 1]
    wish = SkipOrder(sha256=sha256, plan=WirePlan.of(plan), from_command=from_command, text=f"{name} is laid after all")
    await shop.fleet.command(known, "skip", build=number, skip=wish, by=who.signature)
    return await _keep_skips(shop, number, skips, sha256 if skips else None)


async def _keep_skips(shop: Shop, number: int, skips: list[dict[str, object]], sha256: str | None) -> Build:
    async with shop.sessions() as db:
        await db.execute(update(t.Build).where(t.Build.id == number).values(skips=skips, fed_sha256=sha256))
        await db.commit()
        wire = await _wire(db, number)
    shop.hub.changed("builds")
    return wire


async def _wire(db: AsyncSession, number: int) -> Build:
    row = (await db.execute(queries.select_builds().where(t.Build.id == number))).one()
    return queries.build_wire(row)


# Logs --------------------------------------------------------------------------------------------------------------


@router.put("/builds/{number:record}/log", openapi_extra=body("application/gzip"))
async def put_log(number: Number, request: Request, who: TenderKey, shop: TheShop) -> Done:
    """A tender hands over the line log of a build that has ended, gzip-packed."""
    async with shop.sessions() as db:
        row = (await db.execute(queries.select_builds().where(t.Build.id == number))).first()
    if row is None:
        raise Refused(404, f"There is no build {number}.")
    own_machine(shop, who, row[1])
    received = await shop.blobs.receive(request.stream(), LARGEST_LOG)  # no connection is held meanwhile
    received.path.replace(shop.blobs.log(number))
    async with shop.sessions() as db:
        (await db.get_one(t.Build, number)).log_bytes = received.size
        await db.commit()
    shop.hub.changed("builds")
    return Done(text="kept")


@router.get(
    "/builds/{number:record}/log", response_class=FileResponse, responses={200: {"content": {"text/plain": {}}}}
)
async def build_log(number: Number, who: Reader, shop: TheShop) -> StreamingResponse:
    """Every line of a build that has ended, both directions, with its time: plain text."""
    path = shop.blobs.log(number)
    if not path.exists():
        raise Refused(404, f"The log of build {number} is not here: it comes from the tender once the build has ended.")

    def lines() -> Iterator[bytes]:
        with gzip.open(path, "rb") as source:
            while piece := source.read(1 << 18):
                yield piece

    headers = {"Content-Disposition": f'attachment; filename="build-{number}.log"'}
    return StreamingResponse(lines(), media_type="text/plain; charset=utf-8", headers=headers)
