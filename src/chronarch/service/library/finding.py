"""Finding files and parts by number or name."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.library.names import as_number
from chronarch.records import tables as t
from chronarch.records.library import files as library
from chronarch.records.library.files import FileWithReadings
from chronarch.service.problems import ApiProblem


async def find_part(db: AsyncSession, which: str) -> t.Part:
    """By number or name. Raises ApiProblem (404)."""
    number = as_number(which)
    found = await db.get(t.Part, number) if number is not None else None
    if found is None:
        found = (await db.execute(select(t.Part).where(t.Part.name == which))).scalar_one_or_none()
    if found is None:
        raise ApiProblem(404, f"There is no part {which!r}; `chronarch parts list` shows all.")
    return found


async def find_file(
    db: AsyncSession, which: str, *, binned: bool = True, revision: int | None = None
) -> FileWithReadings:
    """Raises ApiProblem (404)."""
    kept = await library.find(db, which, binned=binned, revision=revision)
    if kept is None:
        what = f"no revision {revision} of {which!r}" if revision is not None else f"no file {which!r}"
        raise ApiProblem(404, f"There is {what}; `chronarch files list` shows all.")
    return kept
