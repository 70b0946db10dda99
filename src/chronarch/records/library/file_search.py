"""Finding files: each thing that can be asked for is a condition that the database checks."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, Select, and_, case, func, or_, select, text
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import aliased

from chronarch.records.library import tables as t
from chronarch.records.library.files import select_files
from chronarch.records.machines.tables import Model
from chronarch.records.word_search import has_words, tagged
from chronarch.wire.library import LibraryFacets

SAME_MM = 0.01
_MADE = """not exists (select 1 from json_table(content_reading.figures, '$.findings[*]'
 columns (rule varchar(40) path '$.rule', severity varchar(10) path '$.severity')) found
 where found.severity = 'refuse' and not exists (select 1 from overruling o
 where o.sha256 = content_reading.sha256 and o.model = :model and o.rule = found.rule))"""


@dataclass(frozen=True)
class FileSearch:
    """What is asked of files; what is left empty can be anything. Times in s, sizes in bytes. `folder` includes what is
    below it; `model` keeps what a model can make, with its times."""

    search: str = ""
    folder: str | None = None
    tag: str = ""
    material: str = ""
    nozzle_mm: float | None = None
    model: str = ""
    least_s: float | None = None
    most_s: float | None = None
    least_size: float | None = None
    most_size: float | None = None
    binned: bool = False

    def query(self) -> Select[Any]:
        """The files that fit."""
        state = t.File.binned_at.is_not(None) if self.binned else t.File.binned_at.is_(None)
        query = select_files(state, ~t.File.emptied, *self._of_file())
        reading = self._of_reading()
        if reading:
            shown = and_(t.ContentReading.sha256 == t.Revision.sha256, t.ContentReading.model == self._shown())
            query = query.join(t.ContentReading, shown).where(*reading)
        return query

    def _of_file(self) -> list[ColumnElement[bool]]:
        found = has_words("file", self.search, t.File.name, t.File.notes, t.File.folder, t.Part.name)
        if self.folder:
            below = t.File.folder.startswith(f"{self.folder}/", autoescape=True)
            found.append(or_(t.File.folder == self.folder, below))
        if self.tag:
            found.append(tagged("file", self.tag))
        if self.least_size is not None:
            found.append(t.Blob.size >= self.least_size)
        if self.most_size is not None:
            found.append(t.Blob.size <= self.most_size)
        return found

    def _of_reading(self) -> list[ColumnElement[bool]]:
        row, found = t.ContentReading, []
        if self.material:
            found.append(func.lower(row.material) == self.material.lower())
        if self.nozzle_mm is not None:
            found.append(func.abs(row.nozzle_mm - self.nozzle_mm) < SAME_MM)
        if self.least_s is not None:
            found.append(row.planned_s >= self.least_s)
        if self.most_s is not None:
            found.append(row.planned_s <= self.most_s)
        if self.model:
            found.append(or_(~row.refuses, text(_MADE).bindparams(model=self.model)))
        return found

    def _shown(self) -> Any:
        """Which model's reading counts: that of the model asked for, or else of the first that there is."""
        one, model = aliased(t.ContentReading), aliased(Model)
        first = case((one.model == self.model, 0), else_=1)
        query = select(one.model).outerjoin(model, model.name == one.model).where(one.sha256 == t.Revision.sha256)
        return query.order_by(first, model.id).limit(1).correlate(t.Revision).scalar_subquery()


async def facets(db: AsyncSession) -> LibraryFacets:
    """What the files of the library can be searched by."""
    there = t.File.binned_at.is_(None)
    newest = and_(t.Revision.file_id == t.File.id, t.Revision.number == t.File.newest)
    said = (
        select(t.ContentReading.material, t.ContentReading.nozzle_mm)
        .join(t.Revision, t.Revision.sha256 == t.ContentReading.sha256)
        .join(t.File, newest)
        .where(there)
        .distinct()
    )
    rows = (await db.execute(said)).all()
    tagged = "select distinct tags.tag from file join json_table(file.tags, '$[*]' columns (tag varchar(60) path '$'))"
    tags = (await db.execute(text(f"{tagged} tags where file.binned_at is null"))).scalars()
    return LibraryFacets(
        files=(await db.execute(select(func.count()).select_from(t.File).where(there))).scalar_one(),
        materials=sorted({material for material, _ in rows if material}),
        nozzles_mm=sorted({nozzle for _, nozzle in rows if nozzle}),
        tags=sorted(tags, key=str.lower),
    )
