"""The shop's own labelled builds: those of which people have said what they were."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import Select, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records.orders.tables import Build
from chronarch.records.watching.tables import Frame, Suspicion
from chronarch.wire.watching.watch import FrameLabel

FINE, MOST_FRAMES = "fine", 20_000
"""Of one build."""


def select_labelled() -> Select[Any]:
    """Builds, of one camera each, that people have answered for. Those that went on with another file are left out:
    their commands count otherwise."""
    answered = select(Suspicion.build_id).where(Suspicion.right.is_not(None), Suspicion.camera_id.is_not(None))
    return select(Build).where(Build.id.in_(answered), Build.fed_sha256.is_(None))


async def answers_for(db: AsyncSession, build: int) -> Sequence[Suspicion]:
    """What people answered of a build, in the order in which it was raised."""
    query = select(Suspicion).where(
        Suspicion.build_id == build, Suspicion.right.is_not(None), Suspicion.camera_id.is_not(None)
    )
    return (await db.execute(query.order_by(Suspicion.at, Suspicion.id))).scalars().all()


async def labels_of(db: AsyncSession, build: int, answers: Sequence[Suspicion]) -> list[FrameLabel]:
    """The frames of a build by the camera of its first answer: fine until the first failure that was one."""
    failure = next((one for one in answers if one.right), None)
    query = (
        select(Frame.id, Frame.at, Frame.command)
        .where(Frame.build_id == build, Frame.camera_id == answers[0].camera_id, Frame.command > 0)
        .order_by(Frame.at, Frame.id)
        .limit(MOST_FRAMES)
    )
    rows = (await db.execute(query)).all()
    found = []
    for number, at, command in rows:
        failed = failure is not None and at >= failure.at
        label, object_ = (failure.mode, failure.object) if failure is not None and failed else (FINE, "")
        at_s = (at - rows[0].at).total_seconds()
        found.append(FrameLabel(frame=number, at_s=at_s, command=command, label=label, object=object_))
    return found
