"""Raising a suspicion: its picture is kept for ever, it is written down, and people are told."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Sequence

from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.notices.kinds import NoticeKind
from chronarch.core.watching.frame_keeping import FOR_EVER, FrameReason
from chronarch.core.watching.suspicion import Suspicion
from chronarch.core.watching.watch_rules import Follow
from chronarch.records import tables as t
from chronarch.records.notices.opening import open_notice
from chronarch.service.machines.fleet import FleetMachine
from chronarch.service.watching.cameras import KnownCamera, NewestFrame
from chronarch.service.watching.content_folder import FrameStore

log = logging.getLogger("chronarch.watch")


async def keep_picture(store: FrameStore, known: FleetMachine, jpeg: bytes) -> str:
    """Keep what the suspicion is about; its hash. Empty where the disk takes nothing: that must not keep a failing
    build from being paused, nor let a head run into what lies on its bed."""
    try:
        return await asyncio.to_thread(store.write, jpeg)
    except OSError as error:
        log.warning("the picture of a suspicion of %s is not kept: %s", known.row.name, error)
        return ""


async def write_suspicion(
    db: AsyncSession, known: FleetMachine, camera: KnownCamera, newest: NewestFrame, sha256: str, found: Suspicion, *,
    follow: Follow, build: int | None = None, head_mm: Sequence[float] | None = None,
) -> t.Suspicion:  # fmt: skip
    """Write down what was found in a camera's newest frame, whose kept picture has a hash."""
    frame: t.Frame | None = None
    if sha256:
        frame = t.Frame(
            camera_id=camera.row.id, build_id=build, at=newest.head.at, why=FrameReason.SUSPICION,
            command=newest.head.command, sha256=sha256, size=len(newest.jpeg), keep_until=FOR_EVER,
        )  # fmt: skip
        db.add(frame)
        await db.flush()
    row = t.Suspicion(
        build_id=build, machine_id=known.row.id, camera_id=camera.row.id, frame_id=frame.id if frame else None,
        mode=found.mode, object=found.object[:120], sentence=found.sentence[:300], probability=found.probability,
        place=list(found.place) if found.place else None, head_mm=list(head_mm) if head_mm else None,
        at=newest.head.at, followed=follow,
    )  # fmt: skip
    db.add(row)
    await db.flush()
    return row


async def tell_of(db: AsyncSession, row: t.Suspicion, text: str) -> None:
    """Tell people of a suspicion that is written down."""
    await open_notice(
        db, NoticeKind.SUSPICION, row.at, text, subject=row.id, machine_id=row.machine_id, build_id=row.build_id,
        suspicion_id=row.id, frame_id=row.frame_id,
    )  # fmt: skip
