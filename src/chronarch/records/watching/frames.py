"""Kept frames: what was kept last, which may go, and what they take."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import Integer, Select, cast, delete, exists, func, or_, select, text, tuple_, update
from sqlalchemy.ext.asyncio import AsyncSession
from sqlalchemy.orm import aliased

from chronarch.core.watching.frame_keeping import FOR_EVER
from chronarch.records.library.tables import ContentReading
from chronarch.records.machines.tables import Machine, Model
from chronarch.records.orders.tables import Build
from chronarch.records.watching.tables import Frame


async def newest_of(db: AsyncSession, camera: int) -> Frame | None:
    query = select(Frame).where(Frame.camera_id == camera).order_by(Frame.at.desc()).limit(1)
    return (await db.execute(query)).scalar_one_or_none()


async def kept_of(db: AsyncSession, frames: Iterable[tuple[int, datetime]]) -> set[tuple[int, datetime]]:
    """Which of these frames, by camera and time, are there already."""
    query = select(Frame.camera_id, Frame.at).where(tuple_(Frame.camera_id, Frame.at).in_(list(frames)))
    return {(camera, at) for camera, at in await db.execute(query) if camera is not None}


async def total(db: AsyncSession) -> tuple[int, int]:
    """How many frames there are, and their bytes."""
    count, size = (await db.execute(select(func.count(), func.sum(Frame.size)))).one()
    return int(count), int(size or 0)


async def over(db: AsyncSession, now: datetime, most: int) -> Sequence[Frame]:
    """Frames whose time is over, `most` at most. The last of a build stays for ever, whatever became of its end."""
    later = aliased(Frame)
    has_later = exists().where(
        later.build_id == Frame.build_id, later.camera_id == Frame.camera_id, later.at > Frame.at
    )
    lapsed = select(Frame).where(Frame.keep_until < now).order_by(Frame.keep_until).limit(most)
    rows = (await db.execute(lapsed)).scalars().all()
    ids = [row.id for row in rows]
    may_go = select(Frame.id).where(Frame.id.in_(ids), or_(Frame.build_id.is_(None), has_later))
    going = set((await db.execute(may_go)).scalars())
    last = [number for number in ids if number not in going]
    if last:
        await db.execute(update(Frame).where(Frame.id.in_(last)).values(keep_until=FOR_EVER))
    return [row for row in rows if row.id in going]


def soonest(most: int) -> Select[Any]:
    """Those that would be thinned next; the first and last of builds, oldest first, come after all others."""
    return select(Frame).order_by(Frame.keep_until, Frame.at).limit(most)


FORTNIGHT = timedelta(days=14)


@dataclass(frozen=True)
class MadeLately:
    """What builds of some time came to."""

    builds: int
    seconds: float
    layers: float


async def made_since(db: AsyncSession, begin: datetime) -> MadeLately:
    """The builds that ended since `begin`, with the time they took and the layers of their files."""
    layers = cast(func.json_value(ContentReading.figures, "$.layers"), Integer)
    took_s = func.timestampdiff(text("second"), Build.started_at, Build.ended_at)
    query = (
        select(func.count(), func.sum(took_s), func.sum(layers))
        .join(Machine, Machine.id == Build.machine_id)
        .join(Model, Model.id == Machine.model_id)
        .join(
            ContentReading,
            (ContentReading.sha256 == Build.sha256) & (ContentReading.model == Model.name),
            isouter=True,
        )
        .where(Build.ended_at >= begin)
    )
    builds, seconds, laid = (await db.execute(query)).one()
    return MadeLately(int(builds), float(seconds or 0), float(laid or 0))


async def remove(db: AsyncSession, rows: Iterable[Frame]) -> list[str]:
    """Remove frames. Returns the hashes that no other frame has, whose bytes can go once this is committed."""
    rows = list(rows)
    hashes = {row.sha256 for row in rows}
    await db.execute(delete(Frame).where(Frame.id.in_([row.id for row in rows])))
    if not hashes:
        return []
    still = set((await db.execute(select(Frame.sha256).where(Frame.sha256.in_(hashes)))).scalars())
    return sorted(hashes - still)
