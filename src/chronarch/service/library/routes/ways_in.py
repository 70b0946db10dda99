"""Files from elsewhere than a request's body: an address, the service's own computer, hot folders, a slicer."""

from __future__ import annotations

import asyncio
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Header, Query, Request, Response
from sqlalchemy import func, select
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number, Word
from chronarch.core.errors import CoreError
from chronarch.core.gcode.decompress import plain_name
from chronarch.core.library.names import check_folder, check_name
from chronarch.records import tables as t
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.patience import Patience
from chronarch.service.library.arrivals import arrival_wire
from chronarch.service.library.drives import TheDrives
from chronarch.service.library.dropping import TheDropping
from chronarch.service.library.fetching import fetched
from chronarch.service.library.hot_folder import HotFolders, TheHotFolders
from chronarch.service.library.pieces import pieces_of
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire import library as w
from chronarch.wire.common import RequestDone, fill

router = APIRouter(tags=["files"], route_class=RetryingRoute)
Answers = {200: {"model": w.Dropped}, 201: {"model": w.Dropped}, 202: {"model": w.Arrival}}
MOST_HOT_FOLDERS = 50
SCRIPT = Path(__file__).parents[1] / "from_slicer.py"
HERE = "http://127.0.0.1:8420"
"""What the script has where the service's address belongs."""


@router.post("/drop-from-address", status_code=201, response_model=w.Dropped, responses=Answers)  # type: ignore[arg-type]
async def drop_from_address(
    asked: w.AddressWish,
    who: Caller,
    context: Context,
    dropping: TheDropping,
    patience: Patience,
    idempotency_key: Annotated[Word | None, Header()] = None,
) -> Response:
    """Have the service fetch a file (http, https) and add it, as if it had been sent here. It may lead elsewhere three
    times, takes 15 min at most, and is fetched only from where a device may be."""
    dropping.check(asked.queued())
    with dropping.turn():
        async with fetched(context.config, asked.address) as (name, chunks):
            received = await dropping.intake.receive(chunks)
    return await dropping.take(received, asked.name or name, asked, who, idempotency_key, patience)


@router.get("/drives")
async def drives(drives: TheDrives) -> list[w.Drive]:
    """The folders of the service's computer from which files may be taken: those of its settings, and drives that are
    plugged in."""
    return await asyncio.to_thread(drives.shown)


@router.get("/drives/entries")
async def drive_entries(path: Annotated[str, Query(min_length=1, max_length=2000)], drives: TheDrives) -> w.DriveFolder:
    """What is in a folder of such a drive."""
    return await asyncio.to_thread(drives.entries, path)


@router.post("/drop-from-drive", status_code=202)
async def drop_from_drive(
    asked: w.DriveWish, who: Caller, drives: TheDrives, dropping: TheDropping
) -> w.TakenFromDrive:
    """Take files and folders of the service's computer. A folder keeps its name and what is below it."""
    wish = asked.queued()
    dropping.check(wish)
    found = await asyncio.to_thread(drives.sliced, asked.paths)
    if asked.now and len(found) > 1:
        raise ApiProblem(422, f"One file can begin now, and {len(found)} were named.")
    queue = wish.model_dump() if wish is not None else None
    arrivals, refused = [], {}
    for path, under in found:
        try:
            name = check_name(plain_name(path.name))
            folder = check_folder("/".join(filter(None, (asked.folder, under))))
            received = await dropping.intake.receive(pieces_of(path))
            try:
                number = await dropping.intake.take(received, name, who.signature, folder=folder, queue=queue)
            finally:
                received.path.unlink(missing_ok=True)
            arrivals.append(arrival_wire(dropping.intake, await dropping.intake.settled(number, 0)))
        except (ApiProblem, CoreError) as error:
            refused[str(path)] = str(error)
        except OSError as error:
            refused[str(path)] = f"It cannot be read: {error.strerror}."
    return w.TakenFromDrive(arrivals=arrivals, refused=refused)


@router.get("/drop-script")
async def drop_script(request: Request) -> Response:
    """A program for slicers that run one after slicing: it sends the file here. It needs Python alone, and a key."""
    text = (await asyncio.to_thread(SCRIPT.read_text)).replace(HERE, str(request.base_url).rstrip("/"))
    named = {"Content-Disposition": 'attachment; filename="from_slicer.py"'}
    return Response(text, media_type="text/x-python", headers=named)


@router.get("/hot-folders")
async def hot_folders(context: Context, folders: TheHotFolders) -> list[w.HotFolderShown]:
    """Folders whose files are taken in by themselves, by path."""
    async with context.sessions() as db:
        rows = (await db.execute(select(t.HotFolder).order_by(t.HotFolder.path))).scalars()
        return [_shown(row, folders) for row in rows]


def _shown(row: t.HotFolder, folders: HotFolders) -> w.HotFolderShown:
    return fill(w.HotFolderShown, row, trouble=folders.troubles.get(row.id, ""))


@router.post("/hot-folders", status_code=201)
async def add_hot_folder(
    asked: w.HotFolderRule, who: Caller, context: Context, drives: TheDrives, dropping: TheDropping,
    folders: TheHotFolders,
) -> w.HotFolderShown:  # fmt: skip
    """Have a folder's files be taken in by themselves."""
    path = await asyncio.to_thread(drives.find, asked.path)
    if not path.is_dir():
        raise ApiProblem(422, f"{asked.path} is a file. Name a folder.")
    _check(asked, dropping)
    async with context.sessions() as db:
        if (await db.execute(select(func.count()).select_from(t.HotFolder))).scalar_one() >= MOST_HOT_FOLDERS:
            raise ApiProblem(409, f"There are {MOST_HOT_FOLDERS} hot folders, and more are not looked into.")
        row = t.HotFolder(
            **{**asked.model_dump(), "path": str(path)}, added_at=context.clock.now(), added_by=who.signature
        )
        db.add(row)
        try:
            await db.commit()
        except IntegrityError:
            raise ApiProblem(409, f"{path} is a hot folder already.") from None
        return _shown(row, folders)


def _check(asked: w.HotFolderRule, dropping: TheDropping) -> None:
    if asked.queue is not None and asked.queue.machine:
        asked.queue.machine = dropping.fleet.find(asked.queue.machine).row.name


@router.put("/hot-folders/{number}")
async def change_hot_folder(
    number: Number, asked: w.HotFolderRule, context: Context, drives: TheDrives, dropping: TheDropping,
    folders: TheHotFolders,
) -> w.HotFolderShown:  # fmt: skip
    """Change what follows for a folder's files, or turn it off and on; also while it is not there."""
    _check(asked, dropping)
    async with context.sessions() as db:
        row = await _row(db, number)
        if asked.path != row.path:
            asked.path = str(await asyncio.to_thread(drives.find, asked.path))
        for name, value in asked.model_dump().items():
            setattr(row, name, value)
        try:
            await db.commit()
        except IntegrityError:
            raise ApiProblem(409, f"{asked.path} is a hot folder already.") from None
        return _shown(row, folders)


@router.delete("/hot-folders/{number}")
async def remove_hot_folder(number: Number, context: Context) -> RequestDone:
    """Look into a folder no more. What is in it stays."""
    async with context.sessions() as db:
        row = await _row(db, number)
        await db.delete(row)
        await db.commit()
    return RequestDone(text=f"{row.path} is looked into no more; what is in it stays.")


async def _row(db: AsyncSession, number: int) -> t.HotFolder:
    row = await db.get(t.HotFolder, number, with_for_update=True)
    if row is None:
        raise ApiProblem(404, f"There is no hot folder {number}; `chronarch files hot list` shows all.")
    return row
