"""Parts: the things a shop makes, and the files that make each."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request, Response
from sqlalchemy import select, update
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Named
from chronarch.core.kinship import Kin, families
from chronarch.core.names import as_number, check_name
from chronarch.records import library
from chronarch.records import tables as t
from chronarch.records.library import Kept
from chronarch.service.access import Operator, Reader
from chronarch.service.again import AgainRoute
from chronarch.service.intake import drop_unused
from chronarch.service.openapi import body
from chronarch.service.problems import Refused
from chronarch.service.shop import Shop, TheShop
from chronarch.wire import library as w
from chronarch.wire.work import Done

router = APIRouter(tags=["parts"], prefix="/parts", route_class=AgainRoute)
LARGEST_MODEL = 300_000_000


async def find_part(db: AsyncSession, which: str) -> t.Part:
    """By number or name. Raises Refused (404)."""
    number = as_number(which)
    found = await db.get(t.Part, number) if number is not None else None
    if found is None:
        found = (await db.execute(select(t.Part).where(t.Part.name == which))).scalar_one_or_none()
    if found is None:
        raise Refused(404, f"There is no part {which!r}; `chronarch parts list` shows all.")
    return found


async def _wire(shop: Shop, db: AsyncSession, row: t.Part) -> w.Part:
    return (await library.parts_wire(db, [row], await shop.paces(db)))[0]


@router.get("")
async def parts(who: Reader, shop: TheShop) -> list[w.Part]:
    """All parts by name, with their files."""
    async with shop.sessions() as db:
        rows = (await db.execute(select(t.Part).order_by(t.Part.name))).scalars().all()
        return await library.parts_wire(db, rows, await shop.paces(db))


@router.get("/suggestions")
async def suggestions(who: Reader, shop: TheShop) -> list[w.PartSuggestion]:
    """Files that seem to make the same part; a person confirms by making the part."""
    async with shop.sessions() as db:
        found = await library.kept(db, t.File.binned_at.is_(None))
        models = [model.name for model in await library.models_of(db)]
    return [
        w.PartSuggestion(name=f.name, files=list(f.files), why=f.why, part=f.part)
        for f in families([_kin(k) for k in found], models)
    ]


def _kin(kept: Kept) -> Kin:
    figures = kept.reading().figures
    extents, objects = figures["extents_mm"], figures["objects"]
    height = extents[1][2] if extents else 0.0
    footprint = None
    if objects:
        xs, ys = zip(*objects[0]["outline"], strict=True)
        footprint = (max(xs) - min(xs), max(ys) - min(ys))
    return Kin(kept.file.id, kept.file.name, height, footprint, kept.file.part_id)


async def _gather(db: AsyncSession, part: int, files: list[int], *, only: bool) -> None:
    """Have files make a part; with `only`, no others."""
    there = (
        (await db.execute(select(t.File.id).where(t.File.id.in_(files), t.File.binned_at.is_(None)))).scalars().all()
    )
    missing = sorted(set(files) - set(there))
    if missing:
        raise Refused(422, f"There is no file {missing[0]}; `chronarch files list` shows all.")
    if only:
        await db.execute(update(t.File).where(t.File.part_id == part).values(part_id=None))
    await db.execute(update(t.File).where(t.File.id.in_(files)).values(part_id=part))


@router.post("", status_code=201)
async def add_part(order: w.PartOrder, who: Operator, shop: TheShop) -> w.Part:
    async with shop.sessions() as db:
        row = t.Part(name=order.name, notes=order.notes.strip(), added_at=shop.clock.now(), added_by=who.signature)
        db.add(row)
        try:
            await db.flush()
        except IntegrityError:
            raise Refused(409, f"There is a part named {order.name!r} already; choose another name.") from None
        await _gather(db, row.id, order.files, only=False)
        await db.commit()
        wire = await _wire(shop, db, row)
        wire.alike = await library.alike(db, t.Part.name, row.name)
    shop.hub.changed("parts", "files", "jobs")
    return wire


@router.get("/{which}")
async def part(which: Named, who: Reader, shop: TheShop) -> w.Part:
    async with shop.sessions() as db:
        return await _wire(shop, db, await find_part(db, which))


@router.patch("/{which}")
async def change_part(which: Named, change: w.PartChange, who: Operator, shop: TheShop) -> w.Part:
    """Rename a part, note, or say which files make it (all of them)."""
    async with shop.sessions() as db:
        row = await find_part(db, which)
        if change.name is not None:
            row.name = change.name
            try:
                await db.flush()
            except IntegrityError:
                raise Refused(409, f"There is a part named {change.name!r} already; choose another name.") from None
        if change.notes is not None:
            row.notes = change.notes.strip()
        if change.files is not None:
            await _gather(db, row.id, change.files, only=True)
        await db.commit()
        wire = await _wire(shop, db, row)
    shop.hub.changed("parts", "files", "jobs")
    shop.work.set()
    return wire


@router.delete("/{which}")
async def remove_part(which: Named, who: Operator, shop: TheShop) -> Done:
    """Take a part apart; its files stay in the library. Refused once a job asked for it."""
    async with shop.sessions() as db:
        row = await find_part(db, which)
        if (await db.execute(select(t.Job.id).where(t.Job.part_id == row.id).limit(1))).first():
            raise Refused(409, f"Jobs have asked for {row.name}, so it stays in the records; rename it if it misleads.")
        await db.execute(update(t.File).where(t.File.part_id == row.id).values(part_id=None))
        name = row.name
        content = (row.shape or {}).get("sha256")
        await db.delete(row)
        await db.commit()
        if content:
            await drop_unused(shop, db, [content])
    shop.hub.changed("parts", "files")
    return Done(text=f"{name} is no part any more; its files stay.")


@router.get("/{which}/history")
async def history(which: Named, who: Reader, shop: TheShop) -> w.History:
    """What became of the builds of all its files."""
    async with shop.sessions() as db:
        return await library.history(db, part=(await find_part(db, which)).id)


@router.put("/{which}/model", openapi_extra=body("model/stl", "model/3mf"))
async def put_model(which: Named, name: Named, request: Request, who: Operator, shop: TheShop) -> w.Part:
    """Give a part its model for reference: an STL or 3MF file is the body."""
    name = check_name(name)
    async with shop.sessions() as db:
        number = (await find_part(db, which)).id
    received = await shop.blobs.receive(request.stream(), LARGEST_MODEL)  # no connection is held meanwhile
    try:
        found = await shop.readers.solid(received.path)
        async with shop.sessions() as db:
            row = await find_part(db, str(number))
            before = (row.shape or {}).get("sha256")
            shop.blobs.keep(received.path, received.sha256)
            if await db.get(t.Blob, received.sha256) is None:
                db.add(t.Blob(sha256=received.sha256, size=received.size))
            row.shape = {**found, "name": name, "sha256": received.sha256}
            await db.commit()
            if before and before != received.sha256:
                await drop_unused(shop, db, [before])
            wire = await _wire(shop, db, row)
    finally:
        received.path.unlink(missing_ok=True)
    shop.hub.changed("parts")
    return wire


async def _shape(shop: Shop, which: str) -> dict[str, Any]:
    async with shop.sessions() as db:
        row = await find_part(db, which)
    if not row.shape:
        raise Refused(404, f"{row.name} has no model; give it an STL or 3MF file.")
    return row.shape


@router.get("/{which}/model", response_class=Response, responses={200: {"content": {"application/octet-stream": {}}}})
async def model(which: Named, who: Reader, shop: TheShop) -> Response:
    """The model's file as it was given."""
    shape = await _shape(shop, which)
    kind = "model/stl" if shape["kind"] == "stl" else "model/3mf"
    data = shop.blobs.path(shape["sha256"]).read_bytes()
    return Response(
        data, media_type=kind, headers={"Content-Disposition": f'attachment; filename="part.{shape["kind"]}"'}
    )


@router.get(
    "/{which}/triangles", response_class=Response, responses={200: {"content": {"application/octet-stream": {}}}}
)
async def triangles(which: Named, who: Reader, shop: TheShop) -> Response:
    """The model's triangles: nine little-endian 32-bit floats each, mm, standing on z 0."""
    shape = await _shape(shop, which)
    data = await shop.readers.triangles(shop.blobs.path(shape["sha256"]))
    return Response(data, media_type="application/octet-stream")
