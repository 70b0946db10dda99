"""Parts and their files."""

from __future__ import annotations

import json
from collections.abc import Sequence

from sqlalchemy import and_, func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.learning import ModelPace
from chronarch.core.library.part_grouping import GroupableFile
from chronarch.records.library import tables as t
from chronarch.records.library.files import file_wire, kept_briefly, select_files
from chronarch.records.machines.tables import Model
from chronarch.wire.common import fill
from chronarch.wire.library import File, Part, PartShape


async def parts_wire(db: AsyncSession, rows: Sequence[t.Part], paces: dict[str, ModelPace]) -> list[Part]:
    files: dict[int, list[File]] = {}
    if rows:
        made_from = select_files(t.File.part_id.in_([p.id for p in rows]), t.File.binned_at.is_(None))
        for k in await kept_briefly(db, made_from):
            files.setdefault(k.file.part_id or 0, []).append(file_wire(k, paces))
    return [
        fill(
            Part,
            p,
            shape=PartShape.model_validate({k: v for k, v in p.shape.items() if k != "sha256"}) if p.shape else None,
            files=sorted(files.get(p.id, []), key=lambda f: f.name),
        )
        for p in rows
    ]


async def groupable_files(db: AsyncSession) -> list[GroupableFile]:
    """What grouping needs of the files of the library, newest first."""
    first = select(Model.name).order_by(Model.id).limit(1).scalar_subquery()
    figures = t.ContentReading.figures
    query = (
        select(
            t.File.id, t.File.name, t.File.part_id,
            func.json_extract(figures, "$.extents_mm"), func.json_extract(figures, "$.objects[0].outline"),
        )
        .join(t.Revision, and_(t.Revision.file_id == t.File.id, t.Revision.number == t.File.newest))
        .join(t.ContentReading, t.ContentReading.sha256 == t.Revision.sha256)
        .where(t.File.binned_at.is_(None), t.ContentReading.model == func.coalesce(first, ""))
        .order_by(t.Revision.id.desc())
    )  # fmt: skip
    found = []
    for file, name, part, extents, outline in await db.execute(query):
        box, ring = json.loads(extents or "null"), json.loads(outline or "[]")
        height = box[1][2] if box else 0.0
        xs, ys = zip(*ring, strict=True) if ring else ((), ())
        found.append(GroupableFile(file, name, height, (max(xs) - min(xs), max(ys) - min(ys)) if ring else None, part))
    return found
