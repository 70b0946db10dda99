"""Files, their revisions, preflight."""

from __future__ import annotations

import re

from fastapi import APIRouter
from fastapi.responses import FileResponse
from sqlalchemy.exc import IntegrityError

from chronarch.core.bounds import Figure, Named, Number, Word
from chronarch.core.gcode.preflight import Severity, machine_findings
from chronarch.core.ledger.learning import History, history_of
from chronarch.records import tables as t
from chronarch.records.ledger.history import MOST_BUILDS, OF_FILE, ended_builds
from chronarch.records.library import files as library
from chronarch.records.library.files import FileWithReadings
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.library.content_store import TheContentStore
from chronarch.service.library.finding import find_file
from chronarch.service.library.intake import make_folders
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.machines.learned_paces import TheLearnedPaces
from chronarch.service.permissions import Who
from chronarch.service.problems import ApiProblem
from chronarch.wire import library as w
from chronarch.wire.common import Hash
from chronarch.wire.gcode import Finding

router = APIRouter(tags=["files"], route_class=RetryingRoute)


@router.get("/files")
async def files(
    context: Context,
    paces: TheLearnedPaces,
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
    async with context.sessions() as db:
        found = await library.kept(db, state, ~t.File.emptied)
        aside = await library.overruled(db, [k.revision.sha256 for k in found]) if model else {}
        learned = await paces.all(db)

    def wanted(k: FileWithReadings) -> bool:
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

    return [library.file_wire(k, learned, model) for k in found if wanted(k)]


@router.get("/files/{which}")
async def file(
    which: Named,
    context: Context,
    paces: TheLearnedPaces,
    model: Word = "",
    revision: Number | None = None,
) -> w.File:
    """One file by number or name, as a model reads it (by default the first)."""
    async with context.sessions() as db:
        kept = await find_file(db, which, revision=revision)
        wire = library.file_wire(kept, await paces.all(db), model)
        aside = (await library.overruled(db, [kept.revision.sha256])).get(
            (kept.revision.sha256, wire.reading.model), {}
        )
    for finding in wire.reading.findings:
        finding.overruled = aside.get(finding.rule, "")
    return wire


@router.patch("/files/{which}")
async def change_file(which: Named, change: w.FileChange, context: Context, paces: TheLearnedPaces) -> w.File:
    """Rename a file, move it to another folder, note something, tag it, or say which part it makes."""
    async with context.sessions() as db:
        kept = await find_file(db, which, binned=False)
        row = kept.file
        if change.name is not None:
            row.name = change.name
            try:
                await db.flush()
            except IntegrityError:
                raise ApiProblem(409, f"There is a file named {change.name!r} already; choose another name.") from None
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
                raise ApiProblem(422, f"There is no part {change.part}; `chronarch parts list` shows all.")
            row.part_id = change.part or None
        await db.commit()
        wire = library.file_wire(await find_file(db, str(kept.file.id)), await paces.all(db))
    return wire


@router.get("/files/{which}/content", response_class=FileResponse)
async def content(
    which: Named, context: Context, store: TheContentStore, revision: Number | None = None
) -> FileResponse:
    """The file's bytes, or those of an earlier revision."""
    async with context.sessions() as db:
        kept = await find_file(db, which, revision=revision)
    name = kept.file.name
    if revision is not None:
        stem, dot, ending = name.rpartition(".")
        name = f"{stem or name}-r{revision}{dot}{ending if stem else ''}"
    return FileResponse(store.path(kept.revision.sha256), media_type="text/x.gcode", filename=name)


@router.get("/files/{which}/revisions")
async def revisions(which: Named, context: Context) -> list[w.Revision]:
    """All contents that a file has had, newest first."""
    async with context.sessions() as db:
        return await library.revisions(db, (await find_file(db, which)).file.id)


@router.post("/files/{which}/revisions/{number:record}/restore", status_code=201)
async def restore_revision(which: Named, number: Number, who: Who, context: Context, paces: TheLearnedPaces) -> w.File:
    """Make an earlier content the newest revision again."""
    async with context.sessions() as db:
        kept = await find_file(db, which, binned=False, revision=number)
        file = await db.get_one(t.File, kept.file.id, with_for_update=True)
        if file.newest == number:
            raise ApiProblem(409, f"Revision {number} is the newest already.")
        text = f"revision {number} again"
        await library.next_revision(db, file, kept.revision.sha256, text, context.clock.now(), who.signature)
        await db.commit()
        wire = library.file_wire(await find_file(db, str(file.id)), await paces.all(db))
    return wire


@router.get("/files/{which}/history")
async def history(which: Named, context: Context) -> History:
    """What became of its builds, by machine and model, with planned and real time."""
    async with context.sessions() as db:
        return history_of(await ended_builds(db, OF_FILE, MOST_BUILDS, which=(await find_file(db, which)).file.id))


@router.get("/files/{which}/preflight")
async def preflight(which: Named, context: Context, fleet: TheFleet, machine: Named) -> list[Finding]:
    """What stands against a file on one machine as it is now, including the findings for its model."""
    known = fleet.find(machine)
    async with context.sessions() as db:
        kept = await find_file(db, which)
        aside = (await library.overruled(db, [kept.revision.sha256])).get((kept.revision.sha256, known.model.name), {})
        names = {model.name.lower(): model.name for model in await library.models_of(db)}
    reading = kept.readings.get(known.model.name)
    if reading is None:
        context.changes.wake("readings")
        raise ApiProblem(409, f"The file is being read for {known.model.name}; ask again in a moment.")
    said = reading.figures["declared"]
    here = machine_findings(
        reading.figures["tools"],
        said["nozzle_mm"],
        said["material"],
        fleet.standing(known).capability.tools,
        names.get(said["model"].lower(), ""),
        known.model.name,
    )
    found = [Finding.model_validate(f) for f in reading.figures["findings"]]
    found += [Finding(rule=f.rule, severity=f.severity, line=f.line, text=f.text) for f in here]
    for finding in found:
        finding.overruled = aside.get(finding.rule, "")
    return found


@router.post("/files/{which}/overrule", status_code=201)
async def overrule(which: Named, order: w.Overruling, who: Who, context: Context, paces: TheLearnedPaces) -> w.File:
    """Let this content run on a model although a rule refuses it. Who did so and why is recorded, and holds only for
    the content of this revision."""
    async with context.sessions() as db:
        kept = await find_file(db, which, binned=False)
        if order.model not in kept.readings:
            raise ApiProblem(
                422, f"There is no model {order.model!r} that has read this file; `chronarch models list`."
            )
        row = t.Overruling(
            sha256=kept.revision.sha256, model=order.model, rule=order.rule, reason=order.reason.strip(),
            at=context.clock.now(), by=who.signature,
        )  # fmt: skip
        await db.merge(row)
        await db.commit()
    return await file(which, context, paces, order.model)


@router.get("/blobs/{sha256}", response_class=FileResponse)
async def blob(sha256: Hash, store: TheContentStore) -> FileResponse:
    """A file's bytes by their hash, for tenders."""
    path = store.path(sha256)
    if not re.fullmatch(r"[0-9a-f]{64}", sha256) or not path.exists():
        raise ApiProblem(404, f"There is nothing kept under {sha256[:64]!r}.")
    return FileResponse(path, media_type="application/octet-stream")
