"""The library: files, folders, revisions, the bin."""

from __future__ import annotations

import re
from collections.abc import Awaitable, Callable
from typing import Annotated

from fastapi import APIRouter, Query
from fastapi.responses import FileResponse
from sqlalchemy import delete, func, select, update
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Figure, Named, Number, Word
from chronarch.core.gcode.preflight import Severity, machine_findings
from chronarch.core.names import check_folder
from chronarch.records import library
from chronarch.records import tables as t
from chronarch.records.library import Kept
from chronarch.records.orders import last_in_line
from chronarch.service.access import Operator, Reader, TenderKey
from chronarch.service.again import AgainRoute
from chronarch.service.intake import drop_unused, make_folders
from chronarch.service.problems import Refused
from chronarch.service.shop import Shop, TheShop
from chronarch.wire import library as w
from chronarch.wire.common import Hash
from chronarch.wire.work import Done

router = APIRouter(tags=["files"], route_class=AgainRoute)


async def find_file(db: AsyncSession, which: str, *, binned: bool = True, revision: int | None = None) -> Kept:
    """Raises Refused (404)."""
    kept = await library.find(db, which, binned=binned, revision=revision)
    if kept is None:
        what = f"no revision {revision} of {which!r}" if revision is not None else f"no file {which!r}"
        raise Refused(404, f"There is {what}; `chronarch files list` shows all.")
    return kept


@router.get("/files")
async def files(
    who: Reader,
    shop: TheShop,
    search: Word = "",
    folder: Word | None = None,
    tag: Word = "",
    material: Word = "",
    nozzle_mm: Figure | None = None,
    model: Word = "",
    least_s: Figure | None = None,
    most_s: Figure | None = None,
    least_size: Figure | None = None,
    most_size: Figure | None = None,
    binned: bool = False,
) -> list[w.File]:
    """Files, newest first; those in the bin with `binned`. `search` looks in names, notes, tags, folders and parts;
    `folder` includes what is below it; `model` keeps what a model can make, with its times."""
    state = t.File.binned_at.is_not(None) if binned else t.File.binned_at.is_(None)
    async with shop.sessions() as db:
        found = await library.kept(db, state, ~t.File.emptied)
        aside = await library.overruled(db, [k.revision.sha256 for k in found]) if model else {}
        paces = await shop.paces(db)

    def wanted(k: Kept) -> bool:
        reading = k.reading(model)
        figures, said = reading.figures, reading.figures["declared"]
        text = " ".join([k.file.name, k.file.notes, k.file.folder, k.part or "", *k.file.tags]).lower()
        set_aside = aside.get((k.revision.sha256, model), {})
        rules = (
            all(word in text for word in search.lower().split()),
            folder is None or k.file.folder == folder or k.file.folder.startswith(f"{folder}/") or folder == "",
            not tag or tag.lower() in (x.lower() for x in k.file.tags),
            not material or said["material"].lower() == material.lower(),
            nozzle_mm is None or (said["nozzle_mm"] is not None and abs(said["nozzle_mm"] - nozzle_mm) < 0.01),
            not model
            or not any(f["severity"] == Severity.REFUSE and f["rule"] not in set_aside for f in figures["findings"]),
            least_s is None or reading.planned_s >= least_s,
            most_s is None or reading.planned_s <= most_s,
            least_size is None or k.size >= least_size,
            most_size is None or k.size <= most_size,
        )
        return all(rules)

    return [library.file_wire(k, paces, model) for k in found if wanted(k)]


@router.get("/files/{which}")
async def file(which: Named, who: Reader, shop: TheShop, model: Word = "", revision: Number | None = None) -> w.File:
    """One file, by number or name, as a model reads it (the first without one)."""
    async with shop.sessions() as db:
        kept = await find_file(db, which, revision=revision)
        wire = library.file_wire(kept, await shop.paces(db), model)
        aside = (await library.overruled(db, [kept.revision.sha256])).get(
            (kept.revision.sha256, wire.reading.model), {}
        )
    for finding in wire.reading.findings:
        finding.overruled = aside.get(finding.rule, "")
    return wire


@router.patch("/files/{which}")
async def change_file(which: Named, change: w.FileChange, who: Operator, shop: TheShop) -> w.File:
    """Rename a file, file it elsewhere, note, tag or give it to a part."""
    async with shop.sessions() as db:
        kept = await find_file(db, which, binned=False)
        row = kept.file
        if change.name is not None:
            row.name = change.name
            try:
                await db.flush()
            except IntegrityError:
                raise Refused(409, f"There is a file named {change.name!r} already; choose another name.") from None
        if change.folder is not None:
            row.folder = change.folder
            await make_folders(db, change.folder)
        if change.notes is not None:
            row.notes = change.notes.strip()
        if change.tags is not None:
            row.tags = sorted(set(change.tags), key=str.lower)
        if change.pieces is not None:
            row.pieces = change.pieces
        if change.part is not None:
            if change.part and await db.get(t.Part, change.part) is None:
                raise Refused(422, f"There is no part {change.part}; `chronarch parts list` shows all.")
            row.part_id = change.part or None
        await db.commit()
        wire = library.file_wire(await find_file(db, str(kept.file.id)), await shop.paces(db))
    shop.hub.changed("files", "parts", "jobs")
    shop.work.set()
    return wire


@router.get("/files/{which}/content", response_class=FileResponse)
async def content(which: Named, who: Reader, shop: TheShop, revision: Number | None = None) -> FileResponse:
    """The file's bytes, or those of an earlier revision."""
    async with shop.sessions() as db:
        kept = await find_file(db, which, revision=revision)
    name = kept.file.name
    if revision is not None:
        stem, dot, ending = name.rpartition(".")
        name = f"{stem or name}-r{revision}{dot}{ending if stem else ''}"
    return FileResponse(shop.blobs.path(kept.revision.sha256), media_type="text/x.gcode", filename=name)


@router.get("/files/{which}/revisions")
async def revisions(which: Named, who: Reader, shop: TheShop) -> list[w.Revision]:
    """All contents a file has had, newest first."""
    async with shop.sessions() as db:
        return await library.revisions(db, (await find_file(db, which)).file.id)


@router.post("/files/{which}/revisions/{number:record}/restore", status_code=201)
async def restore_revision(which: Named, number: Number, who: Operator, shop: TheShop) -> w.File:
    """Make an earlier content the newest revision again."""
    async with shop.sessions() as db:
        kept = await find_file(db, which, binned=False, revision=number)
        file = await db.get_one(t.File, kept.file.id, with_for_update=True)
        if file.newest == number:
            raise Refused(409, f"Revision {number} is the newest already.")
        text = f"revision {number} again"
        await library.next_revision(db, file, kept.revision.sha256, text, shop.clock.now(), who.signature)
        await db.commit()
        wire = library.file_wire(await find_file(db, str(file.id)), await shop.paces(db))
    shop.hub.changed("files", "jobs")
    shop.work.set()
    return wire


@router.get("/files/{which}/history")
async def history(which: Named, who: Reader, shop: TheShop) -> w.History:
    """What became of its builds, by machine and model, and planned against real time."""
    async with shop.sessions() as db:
        return await library.history(db, file=(await find_file(db, which)).file.id)


@router.get("/files/{which}/preflight")
async def preflight(which: Named, who: Reader, shop: TheShop, machine: Named) -> list[w.Finding]:
    """What stands against a file on one machine as it is now, its model's findings included."""
    known = shop.fleet.find(machine)
    async with shop.sessions() as db:
        kept = await find_file(db, which)
        aside = (await library.overruled(db, [kept.revision.sha256])).get((kept.revision.sha256, known.model.name), {})
        names = {model.name.lower(): model.name for model in await library.models_of(db)}
    reading = kept.readings.get(known.model.name)
    if reading is None:
        shop.read_missing.set()
        raise Refused(409, f"The file is being read for {known.model.name}; ask again in a moment.")
    said = reading.figures["declared"]
    here = machine_findings(
        reading.figures["tools"],
        said["nozzle_mm"],
        said["material"],
        shop.fleet.standing(known).capability.tools,
        names.get(said["model"].lower(), ""),
        known.model.name,
    )
    found = [w.Finding.model_validate(f) for f in reading.figures["findings"]]
    found += [w.Finding(rule=f.rule, severity=f.severity, line=f.line, text=f.text) for f in here]
    for finding in found:
        finding.overruled = aside.get(finding.rule, "")
    return found


@router.post("/files/{which}/overrule", status_code=201)
async def overrule(which: Named, order: w.Overruling, who: Operator, shop: TheShop) -> w.File:
    """Let this content run on a model although a rule refuses it. Who did so and why is recorded, and holds for this
    revision's content alone."""
    async with shop.sessions() as db:
        kept = await find_file(db, which, binned=False)
        if order.model not in kept.readings:
            raise Refused(422, f"There is no model {order.model!r} that has read this file; `chronarch models list`.")
        row = t.Overruling(
            sha256=kept.revision.sha256, model=order.model, rule=order.rule, reason=order.reason.strip(),
            at=shop.clock.now(), by=who.signature,
        )  # fmt: skip
        await db.merge(row)
        await db.commit()
    shop.hub.changed("files", "jobs")
    shop.work.set()
    return await file(which, who, shop, order.model)


# folders, many at once, the bin --------------------------------------------------------------------------------------


@router.get("/folders")
async def folders(who: Reader, shop: TheShop) -> list[w.Folder]:
    """All folders by path, with how many files lie in each itself."""
    async with shop.sessions() as db:
        counts = await db.execute(
            select(t.File.folder, func.count()).where(t.File.binned_at.is_(None)).group_by(t.File.folder)
        )
        by_path = {path: n for path, n in counts}
        paths = (await db.execute(select(t.Folder.path).order_by(t.Folder.path))).scalars().all()
    return [w.Folder(path=path, files=by_path.get(path, 0)) for path in paths]


@router.post("/folders", status_code=201)
async def add_folder(order: w.Folder, who: Operator, shop: TheShop) -> w.Folder:
    if not order.path:
        raise Refused(422, "The folder needs a name.")
    async with shop.sessions() as db:
        await make_folders(db, order.path)
        await db.commit()
    shop.hub.changed("files")
    return w.Folder(path=order.path)


@router.post("/folders/move")
async def move_folder(order: w.FolderMove, who: Operator, shop: TheShop) -> Done:
    """Rename a folder or put it elsewhere, with all it holds."""
    if not order.path or not order.to:
        raise Refused(422, "Say which folder and its new path.")
    if order.to == order.path or order.to.startswith(f"{order.path}/"):
        raise Refused(422, "A folder cannot be put into itself.")
    async with shop.sessions() as db:
        paths = (await db.execute(select(t.Folder.path))).scalars().all()
        inside = [p for p in paths if p == order.path or p.startswith(f"{order.path}/")]
        if not inside:
            raise Refused(404, f"There is no folder {order.path!r}.")
        for path in sorted(inside):
            moved = check_folder(order.to + path[len(order.path) :])
            await make_folders(db, moved)
            await db.execute(update(t.File).where(t.File.folder == path).values(folder=moved))
        await db.execute(delete(t.Folder).where(t.Folder.path.in_(inside)))
        await db.commit()
    shop.hub.changed("files")
    return Done(text=f"{order.path} is {order.to} now.")


@router.delete("/folders")
async def remove_folder(path: Word, who: Operator, shop: TheShop) -> Done:
    """Remove an empty folder."""
    async with shop.sessions() as db:
        held = await db.execute(
            select(func.count()).where(
                (t.File.folder == path) | t.File.folder.startswith(f"{path}/", autoescape=True),
                t.File.binned_at.is_(None),
            )
        )
        if n := held.scalar_one():
            raise Refused(409, f"{n} files lie in {path!r}; move or bin them first.")
        gone = await db.execute(
            delete(t.Folder).where((t.Folder.path == path) | t.Folder.path.startswith(f"{path}/", autoescape=True))
        )
        if not gone.rowcount:  # type: ignore[attr-defined]
            raise Refused(404, f"There is no folder {path!r}.")
        await db.commit()
    shop.hub.changed("files")
    return Done(text=f"{path} is gone.")


Deed = Callable[[Shop, AsyncSession, t.File, w.Batch, str], Awaitable[None]]


async def _move(shop: Shop, db: AsyncSession, row: t.File, order: w.Batch, by: str) -> None:
    row.folder = order.folder
    await make_folders(db, order.folder)


async def _tag(shop: Shop, db: AsyncSession, row: t.File, order: w.Batch, by: str) -> None:
    row.tags = sorted({*row.tags, *order.tags}, key=str.lower)


async def _untag(shop: Shop, db: AsyncSession, row: t.File, order: w.Batch, by: str) -> None:
    row.tags = [tag for tag in row.tags if tag not in order.tags]


async def _queue(shop: Shop, db: AsyncSession, row: t.File, order: w.Batch, by: str) -> None:
    line = await last_in_line(db)
    now = shop.clock.now()
    db.add(t.Job(file_id=row.id, copies=order.copies, requirement={}, line=line, created_at=now, created_by=by))


async def _bin(shop: Shop, db: AsyncSession, row: t.File, order: w.Batch, by: str) -> None:
    why = (await library.in_use(db, [row.id])).get(row.id)
    if why:
        raise Refused(409, f"{row.name} {why}; it can go to the bin once that is over.")
    row.binned_at, row.binned_by, row.part_id = shop.clock.now(), by, None


async def _restore(shop: Shop, db: AsyncSession, row: t.File, order: w.Batch, by: str) -> None:
    there = await db.execute(select(t.File.id).where(t.File.live_name == row.name))
    if there.first() is not None:
        raise Refused(409, f"There is another file named {row.name!r} now; rename that one first.")
    row.binned_at, row.binned_by = None, ""


_DEEDS: dict[str, Deed] = {
    "move": _move,
    "tag": _tag,
    "untag": _untag,
    "queue": _queue,
    "bin": _bin,
    "restore": _restore,
}


@router.post("/files/batch")
async def batch(order: w.Batch, who: Operator, shop: TheShop) -> w.BatchResult:
    """Do one thing with many files. One that is refused does not keep the others from it."""
    done, refused = [], {}
    for number in dict.fromkeys(order.files):
        async with shop.sessions() as db:
            row = await db.get(t.File, number, with_for_update=True)
            if row is None or row.emptied or (row.binned_at is None) == (order.deed == "restore"):
                refused[number] = f"There is no file {number} {'in the bin' if order.deed == 'restore' else 'here'}."
                continue
            try:
                await _DEEDS[order.deed](shop, db, row, order, who.signature)
                await db.commit()
                done.append(number)
            except Refused as error:
                refused[number] = str(error)
            except IntegrityError:
                refused[number] = "Somebody else just took its name; try again."
    shop.hub.changed("files", "jobs", "parts")
    shop.work.set()
    return w.BatchResult(done=done, refused=refused)


@router.delete("/bin")
async def empty_bin(
    who: Operator, shop: TheShop, files: Annotated[list[Number] | None, Query(max_length=2000)] = None
) -> Done:
    """Throw away what is in the bin, or some of it, for good. What builds were made from stays reachable by content."""
    async with shop.sessions() as db:
        query = select(t.File).where(t.File.binned_at.is_not(None), ~t.File.emptied)
        rows = (await db.execute(query.where(t.File.id.in_(files)) if files else query)).scalars().all()
        contents: list[str] = []
        for row in rows:
            revised = (await db.execute(select(t.Revision).where(t.Revision.file_id == row.id))).scalars().all()
            contents += [r.sha256 for r in revised]
            builds = await db.execute(select(func.count()).where(t.Build.file_id == row.id))
            jobs = await db.execute(select(func.count()).where(t.Job.file_id == row.id))
            if builds.scalar_one() or jobs.scalar_one():
                row.emptied = True
                continue
            await db.execute(delete(t.Revision).where(t.Revision.file_id == row.id))
            await db.execute(update(t.Arrival).where(t.Arrival.file_id == row.id).values(file_id=None))
            await db.delete(row)
        await db.commit()
        await drop_unused(shop, db, contents)
    shop.hub.changed("files")
    return Done(text=f"{len(rows)} files are gone." if len(rows) != 1 else "1 file is gone.")


@router.get("/blobs/{sha256}", response_class=FileResponse)
async def blob(sha256: Hash, who: TenderKey, shop: TheShop) -> FileResponse:
    """A file's bytes by their hash, for tenders."""
    path = shop.blobs.path(sha256)
    if not re.fullmatch(r"[0-9a-f]{64}", sha256) or not path.exists():
        raise Refused(404, f"There is nothing kept under {sha256[:64]!r}.")
    return FileResponse(path, media_type="application/octet-stream")
