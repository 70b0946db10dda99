"""Orders, and the stock that they may be served from."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from datetime import datetime
from typing import Annotated

from fastapi import APIRouter, Header, Request, Response
from pydantic import BaseModel, ValidationError
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number, Word
from chronarch.core.copies import Copies
from chronarch.core.forecast import Done, promise
from chronarch.records import orders as records
from chronarch.records import queries
from chronarch.records import tables as t
from chronarch.service.access import Operator, Reader
from chronarch.service.again import AgainRoute
from chronarch.service.jobs import OVER, changed, find_file, find_part, range_wire, view
from chronarch.service.once import Note, fingerprint, once
from chronarch.service.openapi import body
from chronarch.service.problems import Refused, sound
from chronarch.service.routes.builds import have_done
from chronarch.service.routes.jobs import make_job
from chronarch.service.shop import Shop, TheShop
from chronarch.wire import orders as w
from chronarch.wire.work import JobOrder, Requirement

router = APIRouter(tags=["orders"], route_class=AgainRoute)
LARGEST_CSV = 2_000_000


async def _find(db: AsyncSession, number: int) -> t.Order:
    order = await db.get(t.Order, number)
    if order is None:
        raise Refused(404, f"There is no order {number}; `chronarch orders list --all` shows all.")
    return order


def _day(at: datetime, shop: Shop) -> str:
    here, now = at.astimezone(shop.fleet.zone), shop.clock.now().astimezone(shop.fleet.zone)
    if here.date() == now.date():
        return f"today {here:%H:%M}"
    far = abs((here.date() - now.date()).days) > 6
    return f"{here:%a %d %b %H:%M}" if far else f"{here:%a %H:%M}"


def brief(shop: Shop, order: t.Order, jobs: Sequence[t.Job], copies: dict[int, Copies]) -> w.OrderBrief:
    """An order with its counts, when it will be complete, and that in words."""
    state = records.state_of(order, jobs, copies)
    open_jobs = [j for j in jobs if copies[j.id].state(held=j.held, withdrawn=j.withdrawn) not in OVER]
    counted = [copies[j.id] for j in jobs if not j.withdrawn or copies[j.id].good]
    pieces = sum(j.copies for j in jobs if not j.withdrawn)
    good = sum(min(c.good, c.wanted) for c in counted)
    building = sum(c.building for c in counted)
    waiting = sum(copies[j.id].waiting for j in open_jobs)
    done = Done(None)
    planned = shop.planner.last
    if planned and open_jobs and not any(j.held for j in open_jobs):
        built = {j.id for j in open_jobs if copies[j.id].waiting == 0}
        done = planned.forecast().together([j.id for j in open_jobs], order.due_at, built)
    word = promise(done, order.due_at, order.finished_at if state == "finished" else None)
    if state == "cancelled":
        word = "none"
    made = w.OrderBrief(
        id=order.id, customer=order.customer, note=order.note, due=order.due_at, tags=order.tags,
        not_before=max((j.not_before for j in open_jobs if j.not_before), default=None),
        priority=max((j.priority for j in jobs), default=0), state=state, pieces=pieces, good=good,
        building=building, waiting=waiting, expected=range_wire(done.when), chance=done.chance, promise=word,
        created_at=order.created_at, created_by=order.created_by, finished_at=order.finished_at,
        repeats=order.repeats,
    )  # fmt: skip
    made.words = _words(shop, made)
    return made


def _words(shop: Shop, o: w.OrderBrief) -> str:
    counts = f"{o.good} of {o.pieces} good"
    if o.building:
        counts += f", {o.building} building"
    if o.waiting:
        counts += f", {o.waiting} waiting"
    if o.state == "cancelled":
        return f"Cancelled; {counts}."
    if o.state == "finished":
        when = f" {_day(o.finished_at, shop)}" if o.finished_at else ""
        return f"Complete{when}{', late' if o.promise == 'late' else ''}."
    if o.state == "held":
        return f"{counts}; held, nothing starts until it is released."
    if o.expected is None:
        return f"{counts}; cannot be completed as things are: see why its jobs wait."
    when = f"complete {_day(o.expected.likely, shop)}"
    span = f"between {_day(o.expected.early, shop)} and {_day(o.expected.late, shop)}"
    if o.due is None:
        return f"{counts}; {when} ({span})."
    share = f", {round(100 * (o.chance or 0))} of 100 times" if o.promise == "at risk" else ""
    return f"{counts}; {when} ({span}); due {_day(o.due, shop)}: {o.promise}{share}."


async def _full(shop: Shop, db: AsyncSession, order: t.Order) -> w.Order:
    jobs = (await records.jobs_of(db, [order.id]))[order.id]
    copies = await queries.copies_of(db, jobs)
    head = brief(shop, order, jobs, copies)
    return w.Order(**head.model_dump(), lines=await view(shop, db, jobs))


@router.get("/orders")
async def orders(who: Reader, shop: TheShop, ended: bool = False) -> list[w.OrderBrief]:
    """Orders in work, what is due first; finished and cancelled ones too with `ended`."""
    async with shop.sessions() as db:
        rows = (await db.execute(select(t.Order).order_by(t.Order.id))).scalars().all()
        jobs = await records.jobs_of(db, [o.id for o in rows])
        copies = await queries.copies_of(db, [j for many in jobs.values() for j in many])
    listed = [brief(shop, o, jobs[o.id], copies) for o in rows]
    if not ended:
        listed = [o for o in listed if o.state not in ("finished", "cancelled")]
    return sorted(listed, key=lambda o: (o.due is None, o.due or o.created_at, o.id))


@router.get("/orders/{number:record}")
async def order(number: Number, who: Reader, shop: TheShop) -> w.Order:
    async with shop.sessions() as db:
        return await _full(shop, db, await _find(db, number))


@router.post("/orders", status_code=201, response_model=w.Order)
async def make_order(
    order: w.OrderOrder, who: Operator, shop: TheShop, idempotency_key: Annotated[Word | None, Header()] = None
) -> Response:
    """Make an order; each of its lines becomes a job at the end of the line."""

    async def work(note: Note) -> tuple[int, BaseModel]:
        (made,) = await _make(shop, [order], who.signature)
        return 201, made

    return await once(shop, who.identity, idempotency_key, fingerprint("orders", order.model_dump_json()), work)


async def _make(shop: Shop, wanted: Sequence[w.OrderOrder], by: str, repeats: int | None = None) -> list[w.Order]:
    """All of the orders, or none."""
    async with shop.sessions() as db:
        rows = []
        for o in wanted:
            row = t.Order(
                customer=o.customer.strip(), note=o.note, due_at=o.due, tags=o.tags, repeats=repeats,
                created_at=shop.clock.now(), created_by=by,
            )  # fmt: skip
            db.add(row)
            await db.flush()
            for line in o.lines:
                await _add_line(shop, db, row, line, o, by)
            rows.append(row)
        await db.commit()
        await shop.planner.renew(shop, db)
        made = [await _full(shop, db, row) for row in rows]
    await changed(shop)
    return made


async def _add_line(shop: Shop, db: AsyncSession, row: t.Order, line: w.LineOrder, o: w.OrderOrder, by: str) -> None:
    job = await make_job(
        shop,
        db,
        JobOrder(
            file=line.file, part=line.part, copies=line.quantity, requirement=line.requirement, held=o.held,
            priority=o.priority, due=o.due, not_before=o.not_before, note=line.note, tags=o.tags,
        ),
        by,
    )  # fmt: skip
    job.order_id = row.id
    if line.from_stock:
        taken = await records.take_stock(db, records.stock_key(job), line.from_stock)
        if taken < line.from_stock:
            raise Refused(409, f"Only {taken} of the {line.from_stock} pieces are in stock; take fewer from it.")
        job.from_stock = taken
    await records.settle(db, job, Copies(job.copies, 0, 0), shop.clock.now())


@router.post("/orders/from-csv", status_code=201, openapi_extra=body("text/csv"))
async def orders_from_csv(request: Request, who: Operator, shop: TheShop) -> list[w.Order]:
    """Make orders from CSV (RFC 4180) with a head of columns: customer, and part or file; order, due, quantity,
    material, colour, nozzle_mm, pool, note where wanted. Rows of one `order` (else of one customer and due time) are
    lines of one order. All of it is made, or nothing."""
    data = await request.body()
    if len(data) > LARGEST_CSV:
        raise Refused(413, f"The CSV has {len(data)} bytes; {LARGEST_CSV} may be sent at once.")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise Refused(422, f"The CSV is not UTF-8 (byte {error.start}); save it as UTF-8.") from None
    return await _make(shop, _rows_to_orders(text), who.signature)


def _rows_to_orders(text: str) -> list[w.OrderOrder]:
    table = csv.DictReader(io.StringIO(text, newline=""), strict=True)
    known = set(w.OrderRow.model_fields)
    unknown = [c for c in table.fieldnames or [] if c not in known]
    if unknown or "customer" not in (table.fieldnames or []):
        raise Refused(422, f"The CSV's first row names its columns: customer and part or file, beside "
                           f"{', '.join(sorted(known - {'customer', 'part', 'file'}))}."
                           + (f" {unknown[0]!r} is none of them." if unknown else ""))  # fmt: skip
    found: dict[tuple[str, str, str], list[w.OrderRow]] = {}
    number = 1
    try:
        for number, fields in enumerate(table, 2):
            if None in fields or None in fields.values():
                raise Refused(422, f"Row {number} of the CSV has not as many fields as its first row.")
            if not any(fields.values()):
                continue
            row = w.OrderRow.model_validate({k: v for k, v in fields.items() if v != ""})
            found.setdefault((row.order, row.customer, row.due), []).append(row)
        return [_order_of(rows) for rows in found.values()] or _nothing()
    except csv.Error as error:
        raise Refused(422, f"The CSV cannot be read near row {number}: {error}.") from None
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"]))
        raise Refused(422, f"Row {number} of the CSV: {where}: {first['msg'].removeprefix('Value error, ')}") from None


def _nothing() -> list[w.OrderOrder]:
    raise Refused(422, "The CSV has no row below its head; write a line for each part that is wanted.")


def _order_of(rows: Sequence[w.OrderRow]) -> w.OrderOrder:
    lines = [
        w.LineOrder(
            part=r.part or None, file=r.file or None, quantity=r.quantity, note=r.note,
            requirement=Requirement(material=r.material, colour=r.colour, nozzle_mm=r.nozzle_mm, pool=r.pool),
        )
        for r in rows
    ]  # fmt: skip
    return w.OrderOrder.model_validate({"customer": rows[0].customer, "due": rows[0].due or None, "lines": lines})


@router.patch("/orders/{number:record}")
async def change_order(number: Number, change: w.OrderChange, who: Operator, shop: TheShop) -> w.Order:
    """Change an order, or add lines to it. Its due time, priority and hold go to its lines that are not done."""
    given = change.model_fields_set
    async with shop.sessions() as db:
        row = await _find(db, number)
        if row.cancelled:
            raise Refused(409, f"Order {number} is cancelled; repeat it instead.")
        jobs = (await records.jobs_of(db, [number]))[number]
        copies = await queries.copies_of(db, jobs)
        live = [j for j in jobs if copies[j.id].state(held=j.held, withdrawn=j.withdrawn) not in OVER]
        for name in ("customer", "note", "tags"):
            if getattr(change, name) is not None:
                setattr(row, name, getattr(change, name))
        if "due" in given:
            row.due_at = change.due
        for job in live:
            if "due" in given:
                job.due_at = change.due
            if "not_before" in given:
                job.not_before = change.not_before
            if change.priority is not None:
                job.priority = change.priority
            if change.held is not None:
                job.held = change.held
        if change.add:
            row.finished_at = None
            if len(jobs) + len(change.add) > w.MOST_LINES:
                raise Refused(422, f"An order may have {w.MOST_LINES} lines; make another one for the rest.")
            head = sound(
                w.OrderOrder,
                customer=row.customer, due=row.due_at, lines=change.add, held=bool(live) and all(j.held for j in live),
                priority=max((j.priority for j in jobs), default=0),
                not_before=max((j.not_before for j in live if j.not_before), default=None),
            )  # fmt: skip
            for line in change.add:
                await _add_line(shop, db, row, line, head, who.signature)
        await db.commit()
        await shop.planner.renew(shop, db)
        made = await _full(shop, db, row)
    await changed(shop)
    return made


@router.post("/orders/{number:record}/cancel")
async def cancel_order(number: Number, order: w.Cancel, who: Operator, shop: TheShop) -> w.Order:
    """Make nothing more for an order; what is good goes to stock. While copies of it are being built the wish must say
    what becomes of them, else it is refused (409)."""
    async with shop.sessions() as db:
        row = await _find(db, number)
        if row.cancelled:
            raise Refused(409, f"Order {number} is cancelled already.")
        jobs = (await records.jobs_of(db, [number]))[number]
        running = await records.running_builds(db, [j.id for j in jobs])
        if running and order.running is None:
            many = "1 build of it runs" if len(running) == 1 else f"{len(running)} builds of it run"
            raise Refused(409, f"{many}; say whether to let them finish or to stop them.")
        await records.cancel(db, row)
        await db.commit()
    if order.running == "stop":
        for build in running:
            await have_done(
                shop, build.id, "stop", reason=f"order {number} was cancelled by {who.signature}", by=who.signature
            )
    await changed(shop, "builds")
    async with shop.sessions() as db:
        return await _full(shop, db, await _find(db, number))


@router.post("/orders/{number:record}/repeat", status_code=201)
async def repeat_order(number: Number, change: w.OrderChange, who: Operator, shop: TheShop) -> w.Order:
    """The same once more, as it was; due time, note and priority may be given anew."""
    async with shop.sessions() as db:
        row = await _find(db, number)
        jobs = (await records.jobs_of(db, [number]))[number]
        lines = [
            w.LineOrder(
                part=j.part_id, file=j.file_id, quantity=j.copies, note=j.note,
                requirement=queries.requirement_of(j)[0],
            )
            for j in jobs
        ]  # fmt: skip
        again = sound(
            w.OrderOrder,
            customer=change.customer or row.customer, note=row.note if change.note is None else change.note,
            due=change.due, not_before=change.not_before, tags=row.tags if change.tags is None else change.tags,
            priority=max((j.priority for j in jobs), default=0) if change.priority is None else change.priority,
            held=bool(change.held), lines=lines,
        )  # fmt: skip
    (made,) = await _make(shop, [again], who.signature, repeats=number)
    return made


@router.get("/stock")
async def stock(who: Reader, shop: TheShop) -> list[w.StockRow]:
    """Good pieces on the shelf that nobody has ordered."""
    async with shop.sessions() as db:
        rows = (await db.execute(select(t.Stock).where(t.Stock.pieces > 0).order_by(t.Stock.what))).scalars().all()
        parts = {p.id: p.name for p in (await db.execute(select(t.Part))).scalars()}
        names = {f: n for f, n in await db.execute(select(t.File.id, t.File.name))}
    found = []
    for row in rows:
        kind, number = row.what.split(":")
        name = (parts if kind == "part" else names).get(int(number), row.what)
        where = {"part": name} if kind == "part" else {"file": name}
        found.append(w.StockRow(**where, material=row.material, colour=row.colour, pieces=row.pieces))
    return found


@router.put("/stock")
async def count_stock(count: w.StockCount, who: Operator, shop: TheShop) -> list[w.StockRow]:
    """Say how many pieces of something are on the shelf."""
    async with shop.sessions() as db:
        if count.part is not None:
            what = f"part:{(await find_part(db, count.part)).id}"
        else:
            what = f"file:{(await find_file(db, count.file or '')).id}"
        key = (what, count.material, count.colour)
        row = await db.get(t.Stock, key, with_for_update=True)
        await records.add_stock(db, key, count.pieces - (row.pieces if row else 0))
        await db.commit()
    shop.hub.changed("orders")
    return await stock(who, shop)
