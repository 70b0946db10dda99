"""Keeps frames that tenders send to be kept, and thins them with age and to their share of the disk."""

from __future__ import annotations

import asyncio
import logging
from dataclasses import dataclass, field

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.notices.kinds import NoticeKind
from chronarch.core.watching.frame_keeping import KeptPlace, Thinning
from chronarch.records import tables as t
from chronarch.records.notices.opening import open_notice
from chronarch.records.watching import frames
from chronarch.service.changes import Watch
from chronarch.service.context import ServiceContext
from chronarch.service.watching.cameras import CameraConnection, Cameras
from chronarch.service.watching.content_folder import FrameStore
from chronarch.service.watching.settings import load_watching
from chronarch.wire.watching.camera_messages import FrameHead, FramesKept

AT_ONCE, THIN_EVERY_S, AGAIN_S, MOST_WAITING = 200, 5.0, 5.0, 500
WEIGHED_EVERY = 6
"""Steps of thinning between two looks at what all frames take."""
FULL = "The service cannot write to its disk: camera frames wait at the tenders until there is room. Builds go on."
log = logging.getLogger("chronarch.frames")


@dataclass
class ArrivedFrame:
    """A frame that is to be kept, and whom to tell when it is."""

    connection: CameraConnection
    head: FrameHead
    jpeg: bytes


@dataclass
class FrameKeeper:
    """`keep` is the step of one worker, `thin` of another."""

    context: ServiceContext
    cameras: Cameras
    store: FrameStore
    arrived: Watch = field(default_factory=Watch)
    _arrived: list[ArrivedFrame] = field(default_factory=list)
    _thinning: dict[int, Thinning] = field(default_factory=dict)
    _told_full: bool = False
    _steps: int = 0

    def take(self, connection: CameraConnection, head: FrameHead, jpeg: bytes) -> None:
        """A frame that is to be kept has come. Raises ValueError when too many wait: a tender sends a few and waits."""
        if len(self._arrived) >= MOST_WAITING:
            raise ValueError("too many frames wait to be kept")
        self._arrived.append(ArrivedFrame(connection, head, jpeg))
        self.arrived.event.set()

    async def keep(self) -> None:
        """Keep what has come, and tell the tenders."""
        mine, self._arrived = self._arrived, []
        try:
            await self._write(mine)
        except Exception:
            self._arrived = mine + self._arrived
            raise
        by_tender: dict[str, tuple[CameraConnection, list[str]]] = {}
        for one in mine:
            if one.head.kept is not None:
                by_tender.setdefault(one.connection.tender, (one.connection, []))[1].append(one.head.kept.id)
        for connection, ids in by_tender.values():
            await self.cameras.say(connection, FramesKept(ids=ids))

    async def _write(self, mine: list[ArrivedFrame]) -> None:
        if not mine:
            return
        try:
            if not await asyncio.to_thread(self.store.has_room):
                raise OSError("the disk is nearly full")
            hashes = [await asyncio.to_thread(self.store.write, one.jpeg) for one in mine]
        except OSError:
            await self._tell_full()
            raise  # they stay with the tender until there is room
        self._told_full = False
        async with self.context.sessions() as db:
            builds = {one.head.kept.build for one in mine if one.head.kept and one.head.kept.build}
            there = set((await db.execute(select(t.Build.id).where(t.Build.id.in_(builds)))).scalars())
            known = [(camera.row.id, one.head.at) for one in mine if (camera := self.cameras.get(one.head.camera))]
            kept = await frames.kept_of(db, known)  # a tender that has not heard that we have it sends it again
            for one, sha256 in zip(mine, hashes, strict=True):
                row = await self._row(db, one, sha256, there)
                if row is not None and row.camera_id is not None and (row.camera_id, row.at) not in kept:
                    kept.add((row.camera_id, row.at))
                    db.add(row)
            await db.commit()

    async def _row(self, db: AsyncSession, one: ArrivedFrame, sha256: str, builds: set[int]) -> t.Frame | None:
        """The record of a frame; None for one of a camera that there is no more."""
        known, kept = self.cameras.get(one.head.camera), one.head.kept
        if known is None or kept is None or known.tender != one.connection.tender:
            return None
        camera = known.row.id
        if camera not in self._thinning:
            newest = await frames.newest_of(db, camera)
            self._thinning[camera] = (
                Thinning(newest.build_id, newest.layer, int(newest.at.timestamp() // 60)) if newest else Thinning()
            )
        place = KeptPlace(kept.build if kept.build in builds else None, kept.layer, kept.command)
        return t.Frame(
            camera_id=camera, build_id=place.build, at=one.head.at, why=kept.why, layer=place.layer,
            command=place.command, sha256=sha256, size=len(one.jpeg),
            keep_until=self._thinning[camera].keep_until(one.head.at, place, kept.why),
        )  # fmt: skip

    async def _tell_full(self) -> None:
        if self._told_full:
            return
        async with self.context.sessions() as db:
            await open_notice(db, NoticeKind.STORAGE, self.context.clock.now(), FULL)
            await db.commit()
        self._told_full = True

    async def thin(self) -> None:
        """Remove frames whose time is over, and the next ones after them until the rest is within its share of the
        disk."""
        self._steps += 1
        more = True
        while more:
            more = await self._thin_some(weigh=self._steps % WEIGHED_EVERY == 0)

    async def _thin_some(self, *, weigh: bool) -> bool:
        """Remove some frames. Returns whether there may be more to remove."""
        async with self.context.sessions() as db:
            rows = list(await frames.over(db, self.context.clock.now(), AT_ONCE))
            if weigh and not rows:
                most = (await load_watching(db)).frames_gb * 1e9
                _, size = await frames.total(db)
                for row in (await db.execute(frames.soonest(AT_ONCE))).scalars() if size > most else ():
                    if size <= most:
                        break
                    rows.append(row)
                    size -= row.size
            gone = await frames.remove(db, rows)
            await db.commit()
        await asyncio.to_thread(self.store.drop, gone)
        return bool(rows)
