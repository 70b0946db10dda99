"""Parts: the things a shop makes, and the files that make each."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Request, Response
from sqlalchemy import select, update
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Named
from chronarch.core.ledger.learning import History, history_of
from chronarch.core.library.names import check_name
from chronarch.core.library.part_grouping import PartSuggestion, families
from chronarch.records import tables as t
from chronarch.records.ledger.history import MOST_BUILDS, OF_PART, ended_builds
from chronarch.records.library import files as library
from chronarch.records.library.parts import groupable_files, parts_wire
from chronarch.records.paging import words
from chronarch.service.context import Context, ServiceContext
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.openapi import body
from chronarch.service.http.paging import Page, pages
from chronarch.service.http.views import TheViews
from chronarch.service.library.content_store import TheContentStore
from chronarch.service.library.finding import find_part
from chronarch.service.library.intake import drop_unused
from chronarch.service.library.readers import TheContentReaders
from chronarch.service.machines.learned_paces import LearnedPaces, TheLearnedPaces
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire import library as w
from chronarch.wire.common import RequestDone

router = APIRouter(tags=["parts"], prefix="/parts", route_class=RetryingRoute)
LARGEST_MODEL = 300_000_000
GOOD_FOR_S = 60.0
"""The learned paces in a list of parts may be so old."""


async def _wire(paces: LearnedPaces, db: AsyncSession, row: t.Part) -> w.Part:
    return (await parts_wire(db, [row], await paces.all(db)))[0]


@router.get("", response_model=list[w.Part])
async def parts(
    request: Request, page: Annotated[Page, pages(50)], context: Context, paces: TheLearnedPaces, views: TheViews
) -> Response:
    """All parts by name, with their files."""
    query = page.of(select(t.Part), words(t.Part.name))

    async def work(db: AsyncSession) -> list[w.Part]:
        rows = page.cut((await db.execute(query)).scalars().all(), lambda part: (part.name,))
        return await parts_wire(db, rows, await paces.all(db))

    state = context.changes.version("files", "parts", "models")
    return await views.read(request, list[w.Part], work, state, page, good_for_s=GOOD_FOR_S)


@router.get("/suggestions", response_model=list[PartSuggestion])
async def suggestions(request: Request, context: Context, views: TheViews) -> Response:
    """Files that seem to make the same part; a person confirms by making the part."""

    async def work(db: AsyncSession) -> list[PartSuggestion]:
        return families(await groupable_files(db), [model.name for model in await library.models_of(db)])

    state = context.changes.version("files", "parts", "models")
    return await views.read(request, list[PartSuggestion], work, state)


async def _gather(db: AsyncSession, part: int, files: list[int], *, only: bool) -> None:
    """Say that files make a part; with `only`, no other files do."""
    there = (
        (await db.execute(select(t.File.id).where(t.File.id.in_(files), t.File.binned_at.is_(None)))).scalars().all()
    )
    missing = sorted(set(files) - set(there))
    if missing:
        raise ApiProblem(422, f"There is no file {missing[0]}; `chronarch files list` shows all.")
    if only:
        await db.execute(update(t.File).where(t.File.part_id == part).values(part_id=None))
    await db.execute(update(t.File).where(t.File.id.in_(files)).values(part_id=part))


@router.post("", status_code=201)
async def add_part(asked: w.NewPart, who: Caller, context: Context, paces: TheLearnedPaces) -> w.Part:
    async with context.sessions() as db:
        row = t.Part(name=asked.name, notes=asked.notes.strip(), added_at=context.clock.now(), added_by=who.signature)
        db.add(row)
        try:
            await db.flush()
        except IntegrityError:
            raise ApiProblem(409, f"There is a part named {asked.name!r} already; choose another name.") from None
        await _gather(db, row.id, asked.files, only=False)
        await db.commit()
        wire = await _wire(paces, db, row)
        wire.alike = await library.alike(db, t.Part.name, row.name)
    return wire


@router.get("/{which}")
async def part(which: Named, context: Context, paces: TheLearnedPaces) -> w.Part:
    async with context.sessions() as db:
        return await _wire(paces, db, await find_part(db, which))


@router.patch("/{which}")
async def change_part(which: Named, change: w.PartChange, context: Context, paces: TheLearnedPaces) -> w.Part:
    """Rename a part, note something, or say which files make it (the complete list)."""
    async with context.sessions() as db:
        row = await find_part(db, which)
        if change.name is not None:
            row.name = change.name
            try:
                await db.flush()
            except IntegrityError:
                raise ApiProblem(409, f"There is a part named {change.name!r} already; choose another name.") from None
        if change.notes is not None:
            row.notes = change.notes.strip()
        if change.files is not None:
            await _gather(db, row.id, change.files, only=True)
        await db.commit()
        wire = await _wire(paces, db, row)
    return wire


@router.delete("/{which}")
async def remove_part(which: Named, context: Context, store: TheContentStore) -> RequestDone:
    """Remove a part; its files stay in the library. Refused once a job has asked for it."""
    async with context.sessions() as db:
        row = await find_part(db, which)
        if (await db.execute(select(t.Job.id).where(t.Job.part_id == row.id).limit(1))).first():
            raise ApiProblem(
                409, f"Jobs have asked for {row.name}, so it stays in the records; rename it if it misleads."
            )
        await db.execute(update(t.File).where(t.File.part_id == row.id).values(part_id=None))
        name = row.name
        content = (row.shape or {}).get("sha256")
        await db.delete(row)
        await db.commit()
        if content:
            await drop_unused(store, db, [content])
    return RequestDone(text=f"{name} is no part any more; its files stay.")


@router.get("/{which}/history")
async def history(which: Named, context: Context) -> History:
    """What became of the builds of all its files."""
    async with context.sessions() as db:
        return history_of(await ended_builds(db, OF_PART, MOST_BUILDS, which=(await find_part(db, which)).id))


@router.put("/{which}/model", openapi_extra=body("model/stl", "model/3mf"))
async def put_model(
    which: Named,
    name: Named,
    request: Request,
    context: Context,
    store: TheContentStore,
    readers: TheContentReaders,
    paces: TheLearnedPaces,
) -> w.Part:
    """Give a part its reference model: the body is an STL or 3MF file."""
    name = check_name(name)
    async with context.sessions() as db:
        number = (await find_part(db, which)).id
    received = await store.receive(request.stream(), LARGEST_MODEL)  # no connection is held meanwhile
    try:
        found = await readers.solid(received.path)
        async with context.sessions() as db:
            row = await find_part(db, str(number))
            before = (row.shape or {}).get("sha256")
            store.keep(received.path, received.sha256)
            if await db.get(t.Blob, received.sha256) is None:
                db.add(t.Blob(sha256=received.sha256, size=received.size))
            row.shape = {**found, "name": name, "sha256": received.sha256}
            await db.commit()
            if before and before != received.sha256:
                await drop_unused(store, db, [before])
            wire = await _wire(paces, db, row)
    finally:
        received.path.unlink(missing_ok=True)
    return wire


async def _shape(context: ServiceContext, which: str) -> dict[str, Any]:
    async with context.sessions() as db:
        row = await find_part(db, which)
    if not row.shape:
        raise ApiProblem(404, f"{row.name} has no model; give it an STL or 3MF file.")
    return row.shape


@router.get("/{which}/model", response_class=Response, responses={200: {"content": {"application/octet-stream": {}}}})
async def model(which: Named, context: Context, store: TheContentStore) -> Response:
    """The model's file as it was given."""
    shape = await _shape(context, which)
    kind = "model/stl" if shape["kind"] == "stl" else "model/3mf"
    data = store.path(shape["sha256"]).read_bytes()
    return Response(
        data, media_type=kind, headers={"Content-Disposition": f'attachment; filename="part.{shape["kind"]}"'}
    )


@router.get(
    "/{which}/triangles", response_class=Response, responses={200: {"content": {"application/octet-stream": {}}}}
)
async def triangles(which: Named, context: Context, store: TheContentStore, readers: TheContentReaders) -> Response:
    """The model's triangles: nine little-endian 32-bit floats each, mm, standing on z 0."""
    shape = await _shape(context, which)
    data = await readers.triangles(store.path(shape["sha256"]))
    return Response(data, media_type="application/octet-stream")
