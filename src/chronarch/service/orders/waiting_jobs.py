"""Jobs with the files they may be made from, and what each file asks of a machine."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.gcode.preflight import Severity
from chronarch.core.machines.materials import grams
from chronarch.core.orders.requirement import Requirement
from chronarch.core.planning.eligibility import RULES_FOR_SETUP, JobNeed, MachineStatus, first_blocker
from chronarch.records import tables as t
from chronarch.records.library import files as library
from chronarch.records.library.files import FileWithReadings
from chronarch.records.orders.jobs import requirement_of, select_waiting

Overruled = dict[tuple[str, str], dict[str, str]]


@dataclass
class WaitingJob:
    """A job with the files that it may be made from: the file it names, or each file of its part. `unreadable` says why
    the records do not tell what it needs."""

    job: t.Job
    variants: list[FileWithReadings]
    overruled: Overruled
    models: frozenset[str]
    name: str = ""
    requirement: Requirement = field(default_factory=Requirement)
    unreadable: str = ""

    def options(self, at: MachineStatus) -> list[JobNeed]:
        """What each variant asks of a machine."""
        return [self._need(kept, at.capability.model.name) for kept in self.variants]

    def _need(self, kept: FileWithReadings, model: str) -> JobNeed:
        """What it asks of machines of a model when it is made from this file. If the records are damaged, it waits with
        that reason and does not stop other work."""
        if self.unreadable:
            return JobNeed(self.requirement, unreadable=self.unreadable)
        try:
            return need_of(self.requirement, kept, model, self.overruled, self.models)
        except (ArithmeticError, AttributeError, LookupError, TypeError, ValueError) as error:
            text = f"what was read of {kept.file.name} is damaged ({type(error).__name__}: {error}); add it again"
            return JobNeed(self.requirement, unreadable=text)

    def choose(self, at: MachineStatus) -> FileWithReadings | None:
        """The file that a machine can make; of several, the one that is quickest there."""
        model = at.capability.model.name
        fit = [
            k
            for k, need in zip(self.variants, self.options(at), strict=True)
            if not first_blocker([need], at, RULES_FOR_SETUP)
        ]
        fit = [k for k in fit if model in k.readings]
        return min(fit, key=lambda k: k.readings[model].planned_s, default=None)


def need_of(
    requirement: Requirement, kept: FileWithReadings, model: str, overruled: Overruled, models: frozenset[str]
) -> JobNeed:
    """What a job asks of machines of a model when it is made from this file."""
    reading = kept.readings.get(model)
    if reading is None:
        return JobNeed(requirement, refusals=("the file is being read for this model",))
    figures = reading.figures
    aside = frozenset(overruled.get((kept.revision.sha256, model), {}))
    said = figures["declared"]
    refusals = tuple(
        f["text"].rstrip(".") + (f" (line {f['line']})" if f["line"] else "")
        for f in figures["findings"]
        if f["severity"] == Severity.REFUSE and f["rule"] not in aside
    )
    return JobNeed(
        requirement,
        tuple(figures["tools"]),
        refusals,
        aside,
        said["nozzle_mm"],
        said["material"],
        next((name for name in models if name.lower() == said["model"].lower()), ""),
        {int(n): grams(requirement.material or said["material"], mm) for n, mm in figures["filament_mm"].items()},
    )


async def waiting_of(db: AsyncSession, jobs: Sequence[t.Job]) -> list[WaitingJob]:
    """Jobs with the files that they would be made from now."""
    files = {job.file_id for job in jobs if job.file_id is not None}
    parts = {job.part_id for job in jobs if job.part_id is not None}
    newest: dict[int, FileWithReadings] = {}
    of_part: dict[int, list[FileWithReadings]] = {}
    if files:
        newest = {k.file.id: k for k in await library.kept(db, t.File.id.in_(files))}
    if parts:
        for k in await library.kept(db, t.File.part_id.in_(parts), t.File.binned_at.is_(None)):
            of_part.setdefault(k.file.part_id or 0, []).append(k)
    names = (
        {p.id: p.name for p in (await db.execute(select(t.Part).where(t.Part.id.in_(parts)))).scalars()}
        if parts
        else {}
    )
    found = []
    for job in jobs:
        if job.file_id is None:
            variants, name = of_part.get(job.part_id or 0, []), names.get(job.part_id or 0, "")
        else:
            variants = [newest[job.file_id]] if job.file_id in newest else []
            name = variants[0].file.name if variants else f"file {job.file_id}"
            if variants and job.pinned is not None and job.pinned != variants[0].revision.number:
                variants = await library.kept(db, t.File.id == job.file_id, revision=job.pinned)
        found.append((job, variants, name))
    contents = {k.revision.sha256 for _, variants, _ in found for k in variants}
    aside = await library.overruled(db, contents) if contents else {}
    models = frozenset(model.name for model in await library.models_of(db))
    return [_waiting(job, variants, aside, models, name) for job, variants, name in found]


def _waiting(
    job: t.Job, variants: list[FileWithReadings], aside: Overruled, models: frozenset[str], name: str
) -> WaitingJob:
    needs, unreadable = requirement_of(job)
    return WaitingJob(job, variants, aside, models, name, needs, unreadable)


async def waiting_jobs(db: AsyncSession) -> list[WaitingJob]:
    """Jobs that have copies waiting and are not held, in the order of the queue."""
    rows = (await db.execute(select_waiting().order_by(t.Job.line, t.Job.id))).scalars().all()
    return await waiting_of(db, rows)
