"""Actions on many files at once, and the bin."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from typing import Annotated

from fastapi import APIRouter, Query
from sqlalchemy import select
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number
from chronarch.records import tables as t
from chronarch.records.orders.file_use import in_use
from chronarch.records.orders.queue import last_in_line
from chronarch.service.context import Context, ServiceContext
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.library import bin as bin_
from chronarch.service.library.content_store import TheContentStore
from chronarch.service.library.intake import make_folders
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire import library as w
from chronarch.wire.common import RequestDone

router = APIRouter(tags=["files"], route_class=RetryingRoute)

FileAction = Callable[[ServiceContext, AsyncSession, t.File, w.FileBatch, str], Awaitable[None]]


async def _move(context: ServiceContext, db: AsyncSession, row: t.File, asked: w.FileBatch, by: str) -> None:
    row.folder = asked.folder
    await make_folders(db, asked.folder)


async def _tag(context: ServiceContext, db: AsyncSession, row: t.File, asked: w.FileBatch, by: str) -> None:
    row.tags = sorted({*row.tags, *asked.tags}, key=str.lower)


async def _untag(context: ServiceContext, db: AsyncSession, row: t.File, asked: w.FileBatch, by: str) -> None:
    row.tags = [tag for tag in row.tags if tag not in asked.tags]


async def _queue(context: ServiceContext, db: AsyncSession, row: t.File, asked: w.FileBatch, by: str) -> None:
    line = await last_in_line(db)
    now = context.clock.now()
    db.add(t.Job(file_id=row.id, copies=asked.copies, requirement={}, line=line, created_at=now, created_by=by))


async def _bin(context: ServiceContext, db: AsyncSession, row: t.File, asked: w.FileBatch, by: str) -> None:
    why = (await in_use(db, [row.id])).get(row.id)
    if why:
        raise ApiProblem(409, f"{row.name} {why}; it can go to the bin once that is over.")
    row.binned_at, row.binned_by, row.part_id = context.clock.now(), by, None


async def _restore(context: ServiceContext, db: AsyncSession, row: t.File, asked: w.FileBatch, by: str) -> None:
    there = await db.execute(select(t.File.id).where(t.File.live_name == row.name))
    if there.first() is not None:
        raise ApiProblem(409, f"There is another file named {row.name!r} now; rename that one first.")
    row.binned_at, row.binned_by = None, ""


FILE_ACTIONS: dict[str, FileAction] = {
    "move": _move,
    "tag": _tag,
    "untag": _untag,
    "queue": _queue,
    "bin": _bin,
    "restore": _restore,
}


@router.post("/files/batch")
async def batch(asked: w.FileBatch, who: Caller, context: Context) -> w.BatchResult:
    """Do one thing with many files. One that is refused does not keep the others from it."""
    done, refused = [], {}
    for number in dict.fromkeys(asked.files):
        async with context.sessions() as db:
            row = await db.get(t.File, number, with_for_update=True)
            if row is None or row.emptied or (row.binned_at is None) == (asked.deed == "restore"):
                refused[number] = f"There is no file {number} {'in the bin' if asked.deed == 'restore' else 'here'}."
                continue
            try:
                await FILE_ACTIONS[asked.deed](context, db, row, asked, who.signature)
                await db.commit()
                done.append(number)
            except ApiProblem as error:
                refused[number] = str(error)
            except IntegrityError:
                refused[number] = "Somebody else just took its name; try again."
    return w.BatchResult(done=done, refused=refused)


@router.delete("/bin")
async def empty_bin(
    context: Context,
    store: TheContentStore,
    files: Annotated[list[Number] | None, Query(max_length=2000)] = None,
) -> RequestDone:
    """Delete what is in the bin, or some of it, for good. Contents that builds were made from can still be had by their
    hash."""
    gone = await bin_.empty_bin(context, store, files or ())
    return RequestDone(text=f"{gone} files are gone." if gone != 1 else "1 file is gone.")
