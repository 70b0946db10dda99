"""Parts and their files."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.learning import ModelPace
from chronarch.records.library import tables as t
from chronarch.records.library.files import file_wire, kept
from chronarch.wire.common import fill
from chronarch.wire.library import File, Part, PartShape


async def parts_wire(db: AsyncSession, rows: Sequence[t.Part], paces: dict[str, ModelPace]) -> list[Part]:
    files: dict[int, list[File]] = {}
    if rows:
        for k in await kept(db, t.File.part_id.in_([p.id for p in rows]), t.File.binned_at.is_(None)):
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
