"""Files with their revisions and readings."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from sqlalchemy import ColumnElement, Select, and_, func, select, tuple_
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import InstrumentedAttribute, load_only
from sqlalchemy.orm.interfaces import ORMOption

from chronarch.core.ledger.learning import ModelPace
from chronarch.core.library.names import as_number
from chronarch.records.library import tables as t
from chronarch.records.machines.tables import Model
from chronarch.wire.common import fill
from chronarch.wire.gcode import FileReading
from chronarch.wire.library import File, Revision


@dataclass
class FileWithReadings:
    """A file of the library with one of its revisions, and what that says for each model."""

    file: t.File
    revision: t.Revision
    size: int
    part: str | None = None
    readings: dict[str, t.ContentReading] = field(default_factory=dict)

    def reading(self, model: str = "") -> t.ContentReading:
        """For a model, or for the first one there is."""
        return (self.readings.get(model) if model else None) or next(iter(self.readings.values()))


async def models_of(db: AsyncSession) -> list[Model]:
    return list((await db.execute(select(Model).order_by(Model.id))).scalars())


def select_files(*where: ColumnElement[bool], revision: int | None = None) -> Select[Any]:
    """Files that meet conditions, each with its newest revision or the one with a number, its size and its part's name;
    newest first."""
    number: Any = t.File.newest if revision is None else revision
    query: Any = (
        select(t.File, t.Revision, t.Blob.size, t.Part.name)
        .join(t.Revision, and_(t.Revision.file_id == t.File.id, t.Revision.number == number))
        .join(t.Blob, t.Blob.sha256 == t.Revision.sha256)
        .outerjoin(t.Part, t.Part.id == t.File.part_id)
        .where(*where)
        .order_by(t.Revision.id.desc())
    )
    found: Select[Any] = query
    return found


async def kept(db: AsyncSession, *where: ColumnElement[bool], revision: int | None = None) -> list[FileWithReadings]:
    """Files that meet conditions, each with its newest revision or the one with a number; newest first."""
    rows = await db.execute(select_files(*where, revision=revision))
    found = [FileWithReadings(file, revised, size, part) for file, revised, size, part in rows]
    await _add_readings(db, found, {k.revision.sha256 for k in found})
    return found


async def kept_briefly(db: AsyncSession, query: Select[Any], model: str = "") -> list[FileWithReadings]:
    """The files of a query that `select_files` gave. Of each only what it says for one model has all figures, the
    others have the time alone."""
    found = [FileWithReadings(file, revised, size, part) for file, revised, size, part in await db.execute(query)]
    contents = {k.revision.sha256 for k in found}
    await _add_readings(db, found, contents, load_only(t.ContentReading.planned_s))
    shown = {(k.revision.sha256, k.reading(model).model) for k in found}
    full = select(t.ContentReading).where(tuple_(t.ContentReading.sha256, t.ContentReading.model).in_(shown))
    if shown:
        await db.execute(full.execution_options(populate_existing=True))
    return found


async def _add_readings(
    db: AsyncSession, found: Sequence[FileWithReadings], contents: Collection[str], *options: ORMOption
) -> None:
    """Add what the contents say, in the order in which the models were added."""
    if not found:
        return
    order = {model.name: n for n, model in enumerate(await models_of(db))}
    query = select(t.ContentReading).where(t.ContentReading.sha256.in_(contents)).options(*options)
    by_content: dict[str, list[t.ContentReading]] = {}
    for row in (await db.execute(query)).scalars():
        by_content.setdefault(row.sha256, []).append(row)
    for k in found:
        rows_ = sorted(by_content.get(k.revision.sha256, []), key=lambda r: order.get(r.model, 1000))
        k.readings = {r.model: r for r in rows_}


async def find(
    db: AsyncSession, which: int | str, *, binned: bool = False, revision: int | None = None
) -> FileWithReadings | None:
    """A file by number or name; one in the bin only by number and when asked."""
    number = which if isinstance(which, int) else as_number(which)
    if number is not None:
        found = await kept(db, t.File.id == number, revision=revision)
        if found and not found[0].file.emptied and (binned or found[0].file.binned_at is None):
            return found[0]
    found = await kept(db, t.File.live_name == str(which), revision=revision)
    return found[0] if found else None


def file_wire(k: FileWithReadings, paces: dict[str, ModelPace], model: str = "") -> File:
    reading = k.reading(model)
    times = {name: r.planned_s for name, r in k.readings.items() if name}
    return fill(
        File, k.file, part=k.part, revision=k.revision.number, sha256=k.revision.sha256, size=k.size,
        added_at=k.revision.added_at, added_by=k.revision.added_by,
        reading=FileReading.model_validate(reading.figures), times=times,
        expected={name: s * paces[name].pace for name, s in times.items() if name in paces},
    )  # fmt: skip


async def revisions(db: AsyncSession, file: int) -> list[Revision]:
    """Newest first."""
    rows = await db.execute(
        select(t.Revision, t.Blob.size)
        .join(t.Blob, t.Blob.sha256 == t.Revision.sha256)
        .where(t.Revision.file_id == file)
        .order_by(t.Revision.number.desc())
    )
    return [fill(Revision, r, size=size) for r, size in rows]


async def next_revision(db: AsyncSession, file: t.File, sha256: str, how: str, at: datetime, by: str) -> t.Revision:
    """Give a file new content. The row must be locked by the caller."""
    file.newest = 1 + (
        (await db.execute(select(func.max(t.Revision.number)).where(t.Revision.file_id == file.id))).scalar() or 0
    )
    row = t.Revision(file_id=file.id, number=file.newest, sha256=sha256, how=how[:300], added_at=at, added_by=by)
    db.add(row)
    return row


async def overruled(db: AsyncSession, contents: Iterable[str]) -> dict[tuple[str, str], dict[str, str]]:
    """By (content, model): the rules a person has set aside, with who and why."""
    rows = await db.execute(select(t.Overruling).where(t.Overruling.sha256.in_(set(contents))))
    found: dict[tuple[str, str], dict[str, str]] = {}
    for row in rows.scalars():
        found.setdefault((row.sha256, row.model), {})[row.rule] = f"{row.by}: {row.reason}"
    return found


async def alike(
    db: AsyncSession, names: InstrumentedAttribute[str], name: str, *where: ColumnElement[bool]
) -> list[str]:
    """Other names that differ from `name` in upper and lower case only."""
    query = select(names).where(func.lower(names) == name.lower(), names != name, *where).order_by(names).limit(10)
    return list((await db.execute(query)).scalars())
