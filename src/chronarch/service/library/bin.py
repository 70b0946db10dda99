"""Deleting what lies in the bin."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import delete, func, select, update

from chronarch.records import tables as t
from chronarch.service.context import ServiceContext
from chronarch.service.library.content_store import ContentStore
from chronarch.service.library.intake import drop_unused


async def empty_bin(context: ServiceContext, store: ContentStore, files: Sequence[int]) -> int:
    """Delete these files of the bin for good, all without any named; how many. Contents that builds were made from can
    still be had by their hash."""
    async with context.sessions() as db:
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
        await drop_unused(store, db, contents)
    return len(rows)
