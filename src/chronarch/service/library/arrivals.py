"""What came of files on their way."""

from __future__ import annotations

from pydantic import BaseModel
from sqlalchemy import exists, select

from chronarch.records import tables as t
from chronarch.records.library import files as library
from chronarch.service.context import ServiceContext
from chronarch.service.library.intake import UploadIntake
from chronarch.service.machines.learned_paces import LearnedPaces
from chronarch.service.problems import ApiProblem
from chronarch.wire import library as w
from chronarch.wire.common import fill


async def answer_of(
    context: ServiceContext, paces: LearnedPaces, intake: UploadIntake, row: t.Arrival
) -> tuple[int, BaseModel]:
    """What came of an arrival: status and body. Raises ApiProblem (422) when it was refused."""
    if row.state == "refused":
        raise ApiProblem(422, row.problem)
    if row.state == "reading" or row.file_id is None:
        return 202, arrival_wire(intake, row)
    async with context.sessions() as db:
        kept = await library.find(db, row.file_id, binned=True)
        if kept is None:
            raise ApiProblem(404, f"{row.name} was added and has been thrown away since.")
        file = library.file_wire(kept, await paces.all(db))
        begun = bool(await db.scalar(select(exists().where(t.Build.job_id == row.job_id)))) if row.job_id else False
        alike = await library.alike(db, t.File.name, file.name, t.File.folder == file.folder) if row.new else []
    return (201 if row.new else 200), w.Dropped(file=file, job=row.job_id, new=row.new, begun=begun, alike=alike)


def arrival_wire(intake: UploadIntake, row: t.Arrival) -> w.Arrival:
    return fill(w.Arrival, row, progress=intake.progress(row), file=row.file_id, job=row.job_id)
