"""Jobs with the files they may be made from, and what each file asks of a machine."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property

from sqlalchemy import ColumnElement, and_, select, tuple_
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.materials import Materials
from chronarch.core.orders.quantities import JobQuantities
from chronarch.core.orders.requirement import Requirement
from chronarch.core.planning.eligibility import RULES_FOR_SETUP, JobNeed, MachineStatus, first_blocker
from chronarch.records import tables as t
from chronarch.records.library import files as library
from chronarch.records.machines.materials import load_materials
from chronarch.records.orders.jobs import copies_of, jobs_waiting, requirement_of
from chronarch.service.library.content_facts import ContentFacts, ContentFactsCache, FactsByModel


@dataclass(frozen=True)
class Variant:
    """One file that a job may be made from, and what its content says by model. One build yields so many `pieces`."""

    file_id: int
    name: str
    pieces: int
    revision: int
    sha256: str
    facts: FactsByModel = field(compare=False)


@dataclass(frozen=True, eq=False)
class BuildNeeds:
    """What one build of some jobs needs: a requirement, and the files it may be made from. Jobs that need the same
    share one of these. `unreadable` says why the records do not tell what they need."""

    requirement: Requirement
    variants: tuple[Variant, ...]
    models: frozenset[str]
    materials: Materials
    unreadable: str = ""
    _asked: dict[str, list[JobNeed]] = field(default_factory=dict)

    def options(self, at: MachineStatus) -> list[JobNeed]:
        """What each variant asks of a machine."""
        model = at.capability.model.name
        if model not in self._asked:
            self._asked[model] = [self._need(variant, model) for variant in self.variants]
        return self._asked[model]

    def _need(self, variant: Variant, model: str) -> JobNeed:
        """What it asks of machines of a model when it is made from this file. If the records are damaged, it waits with
        that reason and does not stop other work."""
        if self.unreadable:
            return JobNeed(self.requirement, unreadable=self.unreadable)
        facts = variant.facts.get(model)
        if facts is None:
            return JobNeed(self.requirement, refusals=("the file is being read for this model",))
        if facts.damage:
            text = f"what was read of {variant.name} is damaged ({facts.damage}); add it again"
            return JobNeed(self.requirement, unreadable=text)
        return _need_of(self.requirement, facts, self.models, self.materials)

    def choose(self, at: MachineStatus) -> Variant | None:
        """The file that a machine can make; of several, the one that is quickest there."""
        model = at.capability.model.name
        fit = [
            variant
            for variant, need in zip(self.variants, self.options(at), strict=True)
            if model in variant.facts and not first_blocker([need], at, RULES_FOR_SETUP)
        ]
        return min(fit, key=lambda variant: variant.facts[model].planned_s, default=None)

    @cached_property
    def pieces(self) -> int:
        return min((variant.pieces for variant in self.variants), default=1)


def _need_of(requirement: Requirement, facts: ContentFacts, models: frozenset[str], materials: Materials) -> JobNeed:
    material = requirement.material or facts.material
    return JobNeed(
        requirement,
        facts.tools,
        tuple(text for rule, text in facts.refusals if rule not in facts.aside),
        facts.aside,
        facts.nozzle_mm,
        facts.material,
        next((name for name in models if name.lower() == facts.model.lower()), ""),
        {n: materials.grams(material, mm) for n, mm in facts.filament_mm.items()},
    )


@dataclass(frozen=True)
class WaitingJob:
    """A job with what a build of it needs, what it makes by name, and its copies."""

    job: t.Job
    needs: BuildNeeds
    name: str
    copies: JobQuantities


_VARIANT = (t.File.id, t.File.name, t.File.pieces, t.Revision.number, t.Revision.sha256, t.File.part_id)
_OF_NEWEST = and_(t.Revision.file_id == t.File.id, t.Revision.number == t.File.newest)
_OF_ANY = t.Revision.file_id == t.File.id


async def _variants(
    db: AsyncSession, facts: ContentFactsCache, revisions: ColumnElement[bool], *where: ColumnElement[bool]
) -> list[tuple[Variant, int | None]]:
    """Files that meet conditions, newest first, each with the part that it makes."""
    query = select(*_VARIANT).join(t.Revision, revisions).where(*where).order_by(t.Revision.id.desc())
    rows = (await db.execute(query)).all()
    known = await facts.of(db, {sha256 for _, _, _, _, sha256, _ in rows})
    return [(Variant(n, name, pieces, rev, sha256, known[sha256]), part) for n, name, pieces, rev, sha256, part in rows]


async def waiting_of(
    db: AsyncSession, facts: ContentFactsCache, jobs: Sequence[tuple[t.Job, JobQuantities]]
) -> list[WaitingJob]:
    """Jobs with the files that they would be made from now."""
    files = {job.file_id for job, _ in jobs if job.file_id is not None}
    parts = {job.part_id for job, _ in jobs if job.part_id is not None}
    pinned = {(job.file_id, job.pinned) for job, _ in jobs if job.file_id is not None and job.pinned is not None}
    of_file: dict[tuple[int, int | None], Variant] = {}
    of_part: dict[int, list[Variant]] = {}
    names: dict[int, str] = {}
    if files:
        for variant, _ in await _variants(db, facts, _OF_NEWEST, t.File.id.in_(files)):
            of_file[variant.file_id, None] = of_file[variant.file_id, variant.revision] = variant
    if pinned:
        for variant, _ in await _variants(db, facts, _OF_ANY, tuple_(t.File.id, t.Revision.number).in_(pinned)):
            of_file[variant.file_id, variant.revision] = variant
    if parts:
        names = dict((await db.execute(select(t.Part.id, t.Part.name).where(t.Part.id.in_(parts)))).all())
        there = (t.File.part_id.in_(parts), t.File.binned_at.is_(None))
        for variant, part in await _variants(db, facts, _OF_NEWEST, *there):
            of_part.setdefault(part or 0, []).append(variant)
    models = frozenset(model.name for model in await library.models_of(db))
    materials = await load_materials(db)
    shared: dict[tuple[str, tuple[Variant, ...]], BuildNeeds] = {}
    found = []
    for job, copies in jobs:
        if job.file_id is None:
            variants, name = tuple(of_part.get(job.part_id or 0, ())), names.get(job.part_id or 0, "")
        else:
            one = of_file.get((job.file_id, job.pinned))
            newest = of_file.get((job.file_id, None))
            variants, name = (one,) if one else (), newest.name if newest else f"file {job.file_id}"
        key = (repr(job.requirement), variants)
        if key not in shared:
            requirement, unreadable = requirement_of(job)
            shared[key] = BuildNeeds(requirement, variants, models, materials, unreadable)
        found.append(WaitingJob(job, shared[key], name, copies))
    return found


async def jobs_as_they_are(db: AsyncSession, facts: ContentFactsCache, jobs: Sequence[t.Job]) -> list[WaitingJob]:
    """Any jobs with their copies and the files that they would be made from now."""
    copies = await copies_of(db, jobs)
    return await waiting_of(db, facts, [(job, copies[job.id]) for job in jobs])


async def waiting_jobs(db: AsyncSession, facts: ContentFactsCache) -> list[WaitingJob]:
    """Jobs that have copies waiting and are not held, in the order of the queue."""
    return await waiting_of(db, facts, await jobs_waiting(db))
