"""Models and machines."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Annotated

from fastapi import APIRouter, Query, Request, Response
from sqlalchemy import select
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.address import parse_address
from chronarch.core.bounds import Named, Word
from chronarch.core.hands import check_model
from chronarch.core.ledger import OPEN_END
from chronarch.core.states import MachineState
from chronarch.records import queries, spools
from chronarch.records import tables as t
from chronarch.service import dispatch
from chronarch.service.access import Maintainer, Operator, Reader, TenderKey, Who
from chronarch.service.again import AgainRoute
from chronarch.service.fleet import Known
from chronarch.service.openapi import body
from chronarch.service.problems import Refused
from chronarch.service.reach import check_reach
from chronarch.service.shop import Shop, TheShop
from chronarch.service.upstream import charge_of
from chronarch.wire import machines as w
from chronarch.wire.common import GivenTime, Label
from chronarch.wire.library import Pace
from chronarch.wire.upstream import Assign
from chronarch.wire.work import Done

router = APIRouter(tags=["machines"], route_class=AgainRoute)
LARGEST_FRAME = 4_000_000


@router.get("/models")
async def models(who: Reader, shop: TheShop) -> list[w.Model]:
    async with shop.sessions() as db:
        rows = (await db.execute(select(t.Model).order_by(t.Model.name))).scalars()
        return [w.Model.model_validate(row.spec) for row in rows]


@router.get("/models/paces")
async def paces(who: Reader, shop: TheShop) -> list[Pace]:
    """What builds on each model really take, learned from the newest that were completed."""
    async with shop.sessions() as db:
        return list((await shop.paces(db)).values())


@router.post("/models", status_code=201)
async def add_model(order: w.Model, who: Maintainer, shop: TheShop) -> w.Model:
    check_model(order.core())
    async with shop.sessions() as db:
        db.add(t.Model(name=order.name, spec=order.model_dump(mode="json")))
        try:
            await db.commit()
        except IntegrityError:
            raise Refused(409, f"There is a model named {order.name!r} already; choose another name.") from None
    shop.read_missing.set()
    return order


@router.put("/models/{name}")
async def change_model(name: Named, order: w.Model, who: Maintainer, shop: TheShop) -> w.Model:
    """Give a model other figures. Its files are read anew by them; builds that run keep the plan they began with."""
    check_model(order.core())
    async with shop.sessions() as db:
        row = (await db.execute(select(t.Model).where(t.Model.name == name).with_for_update())).scalar_one_or_none()
        if row is None:
            raise Refused(404, f"There is no model named {name!r}; `chronarch models list` shows all.")
        if order.name != name:
            raise Refused(422, f"The model's name stays {name!r}; add another model for another name.")
        row.spec = order.model_dump(mode="json")
        await db.commit()
        await shop.fleet.load(db)
        for known in shop.fleet.all():
            connection = shop.fleet.connections.get(known.tender)
            if known.model.name == name and connection is not None:
                await connection.send(Assign(charge=await charge_of(db, known)).model_dump_json())
    shop.stale_models.add(name)
    shop.read_missing.set()
    return order


@router.get("/machines")
async def machines(who: Reader, shop: TheShop) -> list[w.Machine]:
    """All machines as they are now, by name."""
    return [shop.fleet.view(known) for known in shop.fleet.all()]


@router.post("/machines", status_code=201)
async def add_machine(
    order: w.MachineOrder, who: Operator, shop: TheShop, tender: Annotated[Label, Query(min_length=1)] = "tender"
) -> w.MachineDetail:
    """Add a machine in the charge of a tender; the tender is told at once if it is connected."""
    address, camera = parse_address(order.link), order.camera
    if address.host:
        await check_reach(shop.settings, address.host, address.port, "link")
    if camera is not None and camera.host:
        await check_reach(shop.settings, camera.host.strip("[]"), camera.port or 80, "camera")
    async with shop.sessions() as db:
        model = (await db.execute(select(t.Model).where(t.Model.name == order.model))).scalar_one_or_none()
        if model is None:
            raise Refused(422, f"There is no model named {order.model!r}; add the model first.")
        row = (await db.execute(select(t.Tender).where(t.Tender.name == tender))).scalar_one_or_none()
        if row is None:
            row = t.Tender(name=tender)
            db.add(row)
            await db.flush()
        now = shop.clock.now()
        device = address.device_key
        if address.kind == "serial":
            device = f"{tender} {device}"  # the port of a computer: each tender has its own
        holder = (await db.execute(select(t.Machine.name).where(t.Machine.device == device))).scalar_one_or_none()
        if holder is not None:
            raise Refused(409, f"{address.shown} is {holder}'s link already; one device has one link.")
        machine = t.Machine(
            name=order.name,
            model_id=model.id,
            tender_id=row.id,
            link=order.link,
            device=device,
            camera=str(order.camera or ""),
            intake=order.intake,
            tools=[tool.model_dump(exclude={"spool", "grams"}) for tool in order.tools],
            site=order.site,
            place=order.place,
            pools=order.pools,
            tags=order.tags,
            releases_left=int(model.spec.get("releases", 0)),
            state=MachineState.IDLE,
            since=now,
        )
        db.add(machine)
        try:
            await db.flush()
            db.add(t.Ledger(machine_id=machine.id, state=MachineState.IDLE, begin_at=now, end_at=OPEN_END))
            await db.commit()
        except IntegrityError:
            raise Refused(409, f"There is a machine named {order.name!r} already; choose another name.") from None
        await shop.fleet.load(db, order.name)
        known = shop.fleet.find(order.name)
        connection = shop.fleet.connections.get(tender)
        if connection is not None:
            await connection.send(Assign(charge=await charge_of(db, known)).model_dump_json())
    shop.hub.changed("plan")
    shop.work.set()
    return shop.fleet.detail(known)


@router.get("/machines/{name}")
async def machine(name: Named, who: Reader, shop: TheShop) -> w.MachineDetail:
    return shop.fleet.detail(shop.fleet.find(name))


@router.patch("/machines/{name}")
async def change_machine(name: Named, change: w.MachineChange, who: Operator, shop: TheShop) -> w.MachineDetail:
    """Change a machine's intake, what is loaded on its tools, where it stands, its pools and tags."""
    known = shop.fleet.find(name)
    async with shop.sessions() as db:
        row = await db.get_one(t.Machine, known.row.id, with_for_update=True)
        if change.intake is not None:
            row.intake = change.intake
        if change.tools is not None:
            row.tools = [tool.model_dump(exclude={"spool", "grams"}) for tool in change.tools]
            await _set_spools(db, row, change.tools)
        for name_ in ("site", "place", "pools", "tags"):
            if getattr(change, name_) is not None:
                setattr(row, name_, getattr(change, name_))
        await db.commit()
        await shop.fleet.load(db, row.name)
    shop.hub.changed("jobs", "plan", "machine", "machines")
    shop.work.set()
    return shop.fleet.detail(known)


async def _set_spools(db: AsyncSession, row: t.Machine, tools: list[w.Tool]) -> None:
    """What is loaded by number is that spool; where something else is said to be loaded, the spool that was there is on
    the shelf again."""
    for tool in tools:
        if tool.spool is not None:
            spool = await db.get(t.Spool, tool.spool)
            if spool is None:
                raise Refused(422, f"There is no spool {tool.spool}; `chronarch spools list` shows all.")
            await spools.load(db, spool, row, tool.number)
            continue
        on = await spools.loaded_on(db, row.id, tool.number)
        if on is not None and (on.material, on.colour) != (tool.material, tool.colour):
            await spools.unload(db, row, tool.number)


@router.post("/machines/{name}/take-out")
async def take_out(name: Named, order: w.OutOfWork, who: Operator, shop: TheShop) -> Done:
    """Take an idle machine out of work (state `service`)."""
    known = shop.fleet.find(name)
    await shop.fleet.command(known, "take_out", reason=order.reason or f"taken out by {who.signature}")
    return Done(text=f"{known.row.name} is in service.")


@router.post("/machines/{name}/put-back")
async def put_back(name: Named, who: Operator, shop: TheShop) -> Done:
    """Give a machine back to work after service or a fault."""
    known = shop.fleet.find(name)
    await shop.fleet.command(known, "put_back")
    return Done(text=f"{known.row.name} is back.")


@router.post("/machines/{name}/emergency-stop")
async def emergency_stop(name: Named, who: Operator, shop: TheShop) -> Done:
    """Halt a machine before everything else. Its build is lost."""
    known = shop.fleet.find(name)
    await shop.fleet.command(known, "emergency")
    return Done(text=f"{known.row.name} was halted.")


@router.post("/machines/{name}/start-next")
async def start_next(name: Named, who: Operator, shop: TheShop) -> Done:
    """Start the next waiting copy that fits this idle machine, whatever its intake."""
    known = shop.fleet.find(name)
    async with shop.sessions() as db:
        what = await dispatch.start_next(shop, db, known)
    if not what:
        raise Refused(409, f"Nothing was started: {known.row.name} is not idle, or no waiting job fits it.")
    return Done(text=f"{known.row.name} builds {what}.")


@router.get("/machines/{name}/frame", response_class=Response, responses={200: {"content": {"image/jpeg": {}}}})
async def frame(name: Named, who: Reader, shop: TheShop) -> Response:
    """The newest camera frame, a JPEG."""
    known = shop.fleet.find(name)
    if not known.frame:
        raise Refused(404, f"There is no frame of {known.row.name} yet.")
    taken = known.frame_at.isoformat() if known.frame_at else ""
    return Response(known.frame, media_type="image/jpeg", headers={"Cache-Control": "no-store", "X-Taken-At": taken})


def own_machine(shop: Shop, who: Who, name: str) -> Known:
    """A machine in the charge of the tender whose key it is. Raises Refused (403, 404)."""
    known = shop.fleet.find(name)
    if known.tender != who.tender:
        raise Refused(403, f"{known.row.name} is not in the charge of this key's tender.")
    return known


@router.put("/machines/{name}/frame", openapi_extra=body("image/jpeg"))
async def put_frame(name: Named, request: Request, who: TenderKey, shop: TheShop) -> Done:
    """A tender's newest frame of one of its machines."""
    known = own_machine(shop, who, name)
    body = bytearray()
    async for chunk in request.stream():
        body += chunk
        if len(body) > LARGEST_FRAME:
            raise Refused(413, f"A frame may have {LARGEST_FRAME // 1_000_000} MB; lower the camera's resolution.")
    if not body.startswith(b"\xff\xd8\xff"):
        raise Refused(415, "A frame must be a JPEG.")
    known.frame, known.frame_at = bytes(body), shop.clock.now()
    return Done(text="kept")


@router.get("/machines/{name}/heat")
async def heat(name: Named, who: Reader, shop: TheShop, begin: GivenTime | None = None) -> list[w.Reading]:
    """Readings since `begin` (an hour ago without it), oldest first, 2000 at most, evenly thinned."""
    known = shop.fleet.find(name)
    begin = begin or shop.clock.now() - timedelta(hours=1)
    async with shop.sessions() as db:
        rows = (
            (
                await db.execute(
                    select(t.Reading)
                    .where(t.Reading.machine_id == known.row.id, t.Reading.at >= begin)
                    .order_by(t.Reading.at)
                )
            )
            .scalars()
            .all()
        )
    step = max(1, len(rows) // 2000)
    return [
        w.Reading(
            at=r.at,
            nozzle=w.Heater(measured_c=r.nozzle_c, asked_c=r.nozzle_asked_c),
            bed=w.Heater(measured_c=r.bed_c, asked_c=r.bed_asked_c),
            chamber=w.Heater(measured_c=r.chamber_c, asked_c=r.chamber_asked_c),
        )
        for r in rows[::step]
    ]


@router.get("/ledger")
async def ledger(
    who: Reader,
    shop: TheShop,
    begin: GivenTime | None = None,
    end: GivenTime | None = None,
    machine: Word | None = None,
) -> list[w.LedgerEntry]:
    """What the ledger recorded between two times (the last eight hours without them), a machine's or all."""
    begin, end = span(shop, begin, end, timedelta(hours=8))
    names = {known.row.id: known.row.name for known in shop.fleet.all()}
    only = shop.fleet.find(machine).row.id if machine else None
    async with shop.sessions() as db:
        rows = await queries.ledger_between(db, begin, end)
    return [
        queries.entry_wire(names[row.machine_id], row)
        for row in rows
        if row.machine_id in names and only in (None, row.machine_id)
    ]


def span(shop: Shop, begin: datetime | None, end: datetime | None, usual: timedelta) -> tuple[datetime, datetime]:
    """A span of shop time that is asked for. Raises Refused (422) when it ends before it begins."""
    end = end or shop.clock.now()
    begin = begin or end - usual
    if begin >= end:
        raise Refused(422, f"The span ends ({end:%Y-%m-%d %H:%M}) before it begins ({begin:%Y-%m-%d %H:%M}).")
    return begin, end
