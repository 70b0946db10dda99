"""What people say of suspicions, and of what the watch did not see."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.watching.suspicion import SENTENCES, FailureMode
from chronarch.core.watching.watch_rules import Follow
from chronarch.records import tables as t
from chronarch.records.watching import suspicions as records
from chronarch.service.problems import ApiProblem


async def answer_suspicion(db: AsyncSession, number: int, *, right: bool, by: str, at: datetime) -> None:
    """Say whether it was so; committed here. The watch learns from it, and the build's frames are kept as labelled
    ones. Raises ApiProblem (404)."""
    row = await db.get(t.Suspicion, number, with_for_update=True)
    if row is None:
        raise ApiProblem(404, f"There is no suspicion {number}; `chronarch watch suspicions` shows the newest.")
    row.right, row.answered_by, row.answered_at = right, by, at
    if not right:
        row.over_at = row.over_at or at
    if row.build_id is not None:
        await records.keep_frames(db, row.build_id, row.camera_id)
    await db.commit()


async def say_missed(
    db: AsyncSession, build: int, mode: FailureMode, *, frame: int | None, object: str = "", by: str, at: datetime
) -> int:
    """Say that a build failed and the watch did not see it; committed here. `frame` is the number of a kept frame that
    shows it; None is the newest. Returns the number it has among the suspicions. Raises ApiProblem (404)."""
    row = await db.get(t.Build, build)
    if row is None:
        raise ApiProblem(404, f"There is no build {build}.")
    kept = select(t.Frame).where(t.Frame.build_id == build).order_by(t.Frame.at.desc()).limit(1)
    shown = (await db.execute(kept if frame is None else kept.where(t.Frame.id == frame))).scalar_one_or_none()
    if shown is None:
        raise ApiProblem(404, f"Build {build} has no kept frame{'' if frame is None else f' {frame}'}.")
    said = t.Suspicion(
        build_id=build, machine_id=row.machine_id, camera_id=shown.camera_id, frame_id=shown.id, mode=mode,
        object=object, sentence=SENTENCES[mode].format(name=object or "The part"), probability=0.0,
        at=shown.at, over_at=at, followed=Follow.NOTHING, right=True, answered_by=by, answered_at=at, missed=True,
    )  # fmt: skip
    db.add(said)
    await records.keep_frames(db, build, shown.camera_id)
    await db.commit()
    return said.id
