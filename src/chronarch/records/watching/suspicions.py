"""Suspicions: finding them, what is open of a build, and what people answered."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import Integer, cast, func, or_, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.states import BuildState
from chronarch.core.watching.frame_keeping import FOR_EVER
from chronarch.core.watching.watch_rules import WatchRule
from chronarch.records.machines.tables import Machine
from chronarch.records.orders.tables import Build
from chronarch.records.watching.tables import BedView, Camera, Frame, Suspicion, WatchSetting

MOST_ANSWERS = 200
"""So many answers of a camera are learned from, the newest."""


def select_suspicions() -> Any:
    """Suspicions with the names of their machine and camera."""
    return (
        select(Suspicion, Machine.name, Camera.name)
        .join(Machine, Machine.id == Suspicion.machine_id)
        .outerjoin(Camera, Camera.id == Suspicion.camera_id)
    )


async def raised_of(db: AsyncSession, build: int) -> Sequence[Suspicion]:
    """What was raised of a build, whether or not it is over."""
    query = select(Suspicion).where(Suspicion.build_id == build, ~Suspicion.missed)
    return (await db.execute(query.order_by(Suspicion.id))).scalars().all()


async def answers_of(db: AsyncSession, camera: int) -> list[tuple[str, float, bool]]:
    """What people answered of a camera's suspicions: the kind, the probability that was said, whether it was so."""
    query = select(Suspicion.mode, Suspicion.probability, Suspicion.right).where(
        Suspicion.camera_id == camera, Suspicion.answered_at.is_not(None), ~Suspicion.missed
    )
    rows = await db.execute(query.order_by(Suspicion.answered_at.desc()).limit(MOST_ANSWERS))
    return [(mode, probability, bool(right)) for mode, probability, right in rows]


async def answered(db: AsyncSession) -> tuple[int, int, int]:
    """How many suspicions were right, how many were false alarms, and how many failures were missed."""
    right, wrong, missed = (
        cast(func.sum(func.if_(condition, 1, 0)), Integer)
        for condition in (
            Suspicion.right & ~Suspicion.missed, ~Suspicion.right & ~Suspicion.missed, Suspicion.missed,
        )
    )  # fmt: skip
    a, b, c = (await db.execute(select(right, wrong, missed))).one()
    return int(a or 0), int(b or 0), int(c or 0)


async def close_ended(db: AsyncSession, now: datetime) -> None:
    """What was suspected of builds that have ended is over."""
    ended = select(Build.id).where(Build.state == BuildState.ENDED)
    still = select(Suspicion).where(Suspicion.over_at.is_(None), Suspicion.build_id.in_(ended))
    for row in (await db.execute(still)).scalars():
        row.over_at = now


async def of_bed(db: AsyncSession, machine: int) -> Suspicion | None:
    """The newest that was raised of a machine's bed since its last build."""
    last = select(func.max(Build.ended_at)).where(Build.machine_id == machine).scalar_subquery()
    query = select(Suspicion).where(Suspicion.machine_id == machine, Suspicion.build_id.is_(None))
    since = query.where(or_(last.is_(None), Suspicion.at > last)).order_by(Suspicion.id.desc()).limit(1)
    return (await db.execute(since)).scalar_one_or_none()


async def open_of_beds(db: AsyncSession) -> Sequence[Suspicion]:
    """What was raised of beds and is not over."""
    query = select(Suspicion).where(Suspicion.build_id.is_(None), Suspicion.over_at.is_(None))
    return (await db.execute(query.order_by(Suspicion.id))).scalars().all()


async def keep_frames(db: AsyncSession, build: int, camera: int | None) -> None:
    """The frames of a build are labelled now: those that are left stay."""
    mine = update(Frame).where(Frame.build_id == build, Frame.camera_id == camera)
    await db.execute(mine.values(keep_until=FOR_EVER))


async def rules(db: AsyncSession, read: Callable[[Any], WatchRule]) -> dict[tuple[str, int], WatchRule]:
    """What was set for the shop, machines and jobs, by scope and number."""
    rows = (await db.execute(select(WatchSetting))).scalars()
    return {(row.scope, row.subject): read(row.rule) for row in rows}


async def view_with_picture(db: AsyncSession, camera: int) -> tuple[BedView, bytes]:
    """How a camera sees a bed, and the clear bed's frame. Raises NoResultFound."""
    view = await db.get_one(BedView, camera)
    return view, (await db.execute(select(BedView.clear).where(BedView.camera_id == camera))).scalar_one()


async def views(db: AsyncSession) -> dict[int, BedView]:
    """How cameras see beds, by camera, without the pictures."""
    rows = (await db.execute(select(BedView).execution_options(populate_existing=True))).scalars()
    return {row.camera_id: row for row in rows}
