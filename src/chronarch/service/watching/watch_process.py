"""The watch's own process, as the service asks it."""

from __future__ import annotations

from typing import Annotated

from chronarch.core.watching.camera_pose import KnownPoint
from chronarch.service.context import part
from chronarch.service.process_pool import ProcessPool, allowed_s
from chronarch.service.watching.watch_messages import BedGrid, BedOrder, Looked, Place, Spot, WatchOrder

WORK = "chronarch.service.watching.watch_work"
LOOK_WITHIN_S = 60.0


class WatchProcess:
    """One process at low priority. Raises what the work raises, and NotDone when it takes too long or dies."""

    def __init__(self) -> None:
        self._pool = ProcessPool(1, f"{WORK}:enter")

    async def begin(self, key: str, order: WatchOrder) -> None:
        within_s = allowed_s(4 * order.content.stat().st_size)
        await self._pool.run(f"{WORK}:begin", key, order, within_s=within_s)

    async def look(self, key: str, jpeg: bytes, taken: int, at_s: float) -> Looked:
        found: Looked = await self._pool.run(f"{WORK}:look", key, jpeg, taken, at_s, within_s=LOOK_WITHIN_S)
        return found

    async def begin_bed(self, key: str, order: BedOrder) -> None:
        await self._pool.run(f"{WORK}:begin_bed", key, order, within_s=LOOK_WITHIN_S)

    async def look_at_bed(self, key: str, jpeg: bytes, head_mm: Place) -> Looked:
        found: Looked = await self._pool.run(f"{WORK}:look_at_bed", key, jpeg, head_mm, within_s=LOOK_WITHIN_S)
        return found

    async def end(self, key: str) -> None:
        await self._pool.run(f"{WORK}:end", key, within_s=LOOK_WITHIN_S)

    async def grid(
        self, jpeg: bytes, corners: tuple[Spot, ...], bed_mm: Spot, known: KnownPoint | None
    ) -> BedGrid:  # fmt: skip
        found: BedGrid = await self._pool.run(f"{WORK}:grid", jpeg, corners, bed_mm, known, within_s=LOOK_WITHIN_S)
        return found

    async def offer(self, jpeg: bytes, bed_mm: Spot) -> list[Spot] | None:
        found: list[Spot] | None = await self._pool.run(f"{WORK}:offer", jpeg, bed_mm, within_s=LOOK_WITHIN_S)
        return found

    def close(self) -> None:
        self._pool.close()


TheWatchProcess = Annotated[WatchProcess, part(WatchProcess)]
