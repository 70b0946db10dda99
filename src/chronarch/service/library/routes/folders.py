"""Folders."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response
from sqlalchemy import delete, func, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Word
from chronarch.core.library.names import check_folder
from chronarch.records import tables as t
from chronarch.records.paging import words
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.paging import ManyPaged
from chronarch.service.http.views import TheViews
from chronarch.service.library.intake import make_folders
from chronarch.service.problems import ApiProblem
from chronarch.wire import library as w
from chronarch.wire.common import RequestDone

router = APIRouter(tags=["files"], route_class=RetryingRoute)

# folders, many at once, the bin --------------------------------------------------------------------------------------


@router.get("/folders", response_model=list[w.Folder])
async def folders(request: Request, page: ManyPaged, context: Context, views: TheViews) -> Response:
    """All folders by path, with how many files lie directly in each."""

    async def work(db: AsyncSession) -> list[w.Folder]:
        query = page.of(select(t.Folder.path), words(t.Folder.path))
        paths = page.cut((await db.execute(query)).scalars().all(), lambda path: (path,))
        there = (t.File.binned_at.is_(None), t.File.folder.in_(paths))
        counts = await db.execute(select(t.File.folder, func.count()).where(*there).group_by(t.File.folder))
        by_path = {path: n for path, n in counts}
        return [w.Folder(path=path, files=by_path.get(path, 0)) for path in paths]

    return await views.read(request, list[w.Folder], work, context.changes.version("files"), page)


@router.post("/folders", status_code=201)
async def add_folder(asked: w.Folder, context: Context) -> w.Folder:
    if not asked.path:
        raise ApiProblem(422, "The folder needs a name.")
    async with context.sessions() as db:
        await make_folders(db, asked.path)
        await db.commit()
    return w.Folder(path=asked.path)


@router.post("/folders/move")
async def move_folder(asked: w.FolderMove, context: Context) -> RequestDone:
    """Rename a folder or move it elsewhere, with everything in it."""
    if not asked.path or not asked.to:
        raise ApiProblem(422, "Say which folder and its new path.")
    if asked.to == asked.path or asked.to.startswith(f"{asked.path}/"):
        raise ApiProblem(422, "A folder cannot be put into itself.")
    async with context.sessions() as db:
        paths = (await db.execute(select(t.Folder.path))).scalars().all()
        inside = [p for p in paths if p == asked.path or p.startswith(f"{asked.path}/")]
        if not inside:
            raise ApiProblem(404, f"There is no folder {asked.path!r}.")
        for path in sorted(inside):
            moved = check_folder(asked.to + path[len(asked.path) :])
            await make_folders(db, moved)
            await db.execute(update(t.File).where(t.File.folder == path).values(folder=moved))
        await db.execute(delete(t.Folder).where(t.Folder.path.in_(inside)))
        await db.commit()
    return RequestDone(text=f"{asked.path} is {asked.to} now.")


@router.delete("/folders")
async def remove_folder(path: Word, context: Context) -> RequestDone:
    """Remove an empty folder."""
    async with context.sessions() as db:
        held = await db.execute(
            select(func.count()).where(
                (t.File.folder == path) | t.File.folder.startswith(f"{path}/", autoescape=True),
                t.File.binned_at.is_(None),
            )
        )
        if n := held.scalar_one():
            raise ApiProblem(409, f"{n} files lie in {path!r}; move or bin them first.")
        gone = await db.execute(
            delete(t.Folder).where((t.Folder.path == path) | t.Folder.path.startswith(f"{path}/", autoescape=True))
        )
        if not gone.rowcount:  # type: ignore[attr-defined]
            raise ApiProblem(404, f"There is no folder {path!r}.")
        await db.commit()
    return RequestDone(text=f"{path} is gone.")
