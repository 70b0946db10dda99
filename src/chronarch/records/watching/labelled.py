"""The shop's own labelled set: builds, and beds before a start, of which people have said what they were."""

from __future__ import annotations

from typing import Any

from sqlalchemy import func, or_, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.watching.suspicion import FailureMode
from chronarch.records.machines.tables import Machine
from chronarch.records.orders.tables import Build
from chronarch.records.watching.tables import BedView, Camera, Frame, Suspicion
from chronarch.wire.watching.watch import FrameLabel

FINE, MOST_FRAMES = "fine", 20_000
"""Of one build."""
ANSWERED = (Suspicion.right.is_not(None), Suspicion.camera_id.is_not(None))


def select_labelled() -> Any:
    """The first answer of each build, and each answer of a bed, with the build's file, camera, how it sees the bed,
    and machine. What was seen before the bed's corners were marked anew is left out, for the camera may stand elsewhere
    now; so are builds that went on with another file, for their commands count otherwise."""
    firsts = select(func.min(Suspicion.id)).where(*ANSWERED).group_by(func.coalesce(Suspicion.build_id, -Suspicion.id))
    can_be_seen = or_(
        Suspicion.build_id.is_not(None),
        Suspicion.frame_id.is_not(None) & Suspicion.head_mm.is_not(None) & BedView.head_mm.is_not(None),
    )
    return (
        select(Suspicion, Build.sha256, Camera.name, BedView, Machine.name)
        .outerjoin(Build, Build.id == Suspicion.build_id)
        .join(Camera, Camera.id == Suspicion.camera_id)
        .join(BedView, BedView.camera_id == Camera.id)
        .join(Machine, Machine.id == Suspicion.machine_id)
        .where(Suspicion.id.in_(firsts), Suspicion.at >= BedView.set_at, Build.fed_sha256.is_(None), can_be_seen)
    )


async def labels_of(db: AsyncSession, first: Suspicion, view: BedView) -> list[FrameLabel]:
    """The frames that an answer labels, by the camera whose view this is."""
    return [_bed_label(first)] if first.build_id is None else await _labels_of_build(db, first.build_id, view)


def _bed_label(said: Suspicion) -> FrameLabel:
    label = FailureMode.NOT_CLEAR if said.right else FINE
    return FrameLabel(frame=said.frame_id or 0, at_s=0.0, command=0, label=label)


async def _labels_of_build(db: AsyncSession, build: int, view: BedView) -> list[FrameLabel]:
    """The frames of a build by one camera: fine until the first failure that was one."""
    failed = select(Suspicion).where(Suspicion.build_id == build, Suspicion.right.is_(True))
    failure = (await db.execute(failed.order_by(Suspicion.at, Suspicion.id).limit(1))).scalar_one_or_none()
    query = (
        select(Frame.id, Frame.at, Frame.command)
        .where(Frame.build_id == build, Frame.camera_id == view.camera_id, Frame.command > 0, Frame.at >= view.set_at)
        .order_by(Frame.at, Frame.id)
        .limit(MOST_FRAMES)
    )
    rows = (await db.execute(query)).all()
    found = []
    for number, at, command in rows:
        label, object_ = (failure.mode, failure.object) if failure is not None and at >= failure.at else (FINE, "")
        at_s = (at - rows[0].at).total_seconds()
        found.append(FrameLabel(frame=number, at_s=at_s, command=command, label=label, object=object_))
    return found
