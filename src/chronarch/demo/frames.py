"""Frames and films of the shop's past, drawn as the stand-ins' cameras draw what is on a bed."""

from __future__ import annotations

import asyncio
import contextlib
import threading
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from pydantic_core import to_jsonable_python
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.gcode.analysis import Analysis, analyse
from chronarch.core.gcode.layers import layer_moves
from chronarch.core.gcode.reader import as_bytes
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import Outcome
from chronarch.core.orders.states import Verdict
from chronarch.core.watching.film_settings import FilmSettings
from chronarch.core.watching.frame_keeping import FOR_EVER, MONTH, FrameReason
from chronarch.demo.fill import BY
from chronarch.demo.shop import MACHINES, MODELS
from chronarch.records import tables as t
from chronarch.records.database import make_engine, make_sessions
from chronarch.service.watching.content_folder import FrameStore
from chronarch.standins.picture import CameraPicture

WHOLE = 10
"""Of so many of the newest builds, and of those with films, there is a frame of each layer; of all others the first
and the last."""
PARKED = (5.0, 210.0, 40.0)
COLOUR = {m.name: m.colour for m in MACHINES}
MODEL = {m.name: next(model for model in MODELS if model.name == m.model) for m in MACHINES}


@dataclass(frozen=True)
class Drawn:
    """What the camera saw once a layer was laid; layer 0 is before the first."""

    layer: int
    command: int
    share: float
    jpeg: bytes


class Closing(Exception):
    """The shop closes before all is drawn."""


class PastCamera:
    """Draws builds; what is asked for again is not drawn again. Raises Closing once `closing` is set."""

    def __init__(self, blobs: Path, closing: threading.Event) -> None:
        self._blobs, self._closing = blobs, closing
        self._read: dict[tuple[str, str], Analysis] = {}
        self._ends: dict[tuple[str, str, str], tuple[Drawn, Drawn]] = {}

    def _bytes(self, sha256: str) -> bytes:
        return (self._blobs / sha256[:2] / sha256).read_bytes()

    def _analysis(self, sha256: str, model: MachineModel) -> Analysis:
        key = sha256, model.name
        if key not in self._read:
            self._read[key] = analyse(self._bytes(sha256), model)
        return self._read[key]

    def layers(self, sha256: str, machine: str, until: float = 1.0, *, ends_only: bool = False) -> Iterator[Drawn]:
        """A frame of each layer, as far as a build has come: a share of its commands."""
        model = MODEL[machine]
        a, data = self._analysis(sha256, model), as_bytes(self._bytes(sha256))
        picture = CameraPicture(model.volume_mm, COLOUR[machine])
        yield Drawn(0, 0, 0.0, picture.jpeg(PARKED, f"{machine}   z 0.00 mm"))
        ends = [*a.plan.layers[1:], a.plan.commands]
        for layer, end in enumerate(ends, 1):
            if self._closing.is_set():
                raise Closing
            moves = layer_moves(data, a.index, layer, model)
            at = moves.start
            columns = (moves.moves[name].tolist() for name in ("x", "y", "z", "filament", "command"))
            for x, y, z, filament, command in zip(*columns, strict=True):
                if command > until * a.plan.commands:
                    break
                if filament > 0:
                    picture.lay(at, (x, y, z), filament)
                at = x, y, z
            last = end >= until * a.plan.commands
            if last or not ends_only:
                command = min(end, round(until * a.plan.commands))
                share = a.plan.at(command).planned_s / a.plan.total_s
                yield Drawn(
                    layer, command, share, picture.jpeg(PARKED if last else at, f"{machine}   z {at[2]:.2f} mm")
                )
            if last:
                return

    def ends(self, sha256: str, machine: str) -> tuple[Drawn, Drawn]:
        """The first and the last frame of a whole build."""
        key = sha256, MODEL[machine].name, COLOUR[machine]
        if key not in self._ends:
            first, last = self.layers(sha256, machine, ends_only=True)
            self._ends[key] = first, last
        return self._ends[key]


def add_pictures(database: str, blobs: Path, closing: threading.Event) -> None:
    """Add frames of the past's builds, and have films of some made; once, or as many as can be until `closing` is set.
    Takes some seconds."""
    asyncio.run(_add(database, blobs, closing))


async def _add(database: str, blobs: Path, closing: threading.Event) -> None:
    engine = make_engine(database)
    try:
        async with make_sessions(engine)() as db:
            with contextlib.suppress(Closing):
                await _draw_past(db, PastCamera(blobs, closing), FrameStore(blobs / "frames"))
    finally:
        await engine.dispose()


async def _draw_past(db: AsyncSession, camera: PastCamera, store: FrameStore) -> None:
    cameras = {c.machine_id: c for c in (await db.execute(select(t.Camera).where(t.Camera.first))).scalars()}
    names = {m.id: m.name for m in (await db.execute(select(t.Machine))).scalars()}
    over = select(t.Build).where(t.Build.judged_by == BY).order_by(t.Build.ended_at.desc())
    found = (await db.execute(over)).scalars().all()
    drawn_before = select(t.Frame.build_id).where(t.Frame.build_id.in_([build.id for build in found]))
    there = set((await db.execute(drawn_before)).scalars())
    filmed = _to_film(found)
    whole = list(dict.fromkeys([*filmed, *found[:WHOLE]]))
    for build in (build for build in whole if build.id not in there):
        drawn = camera.layers(build.sha256, names[build.machine_id], build.acknowledged / max(1, build.commands))
        await _keep(db, store, build, cameras[build.machine_id].id, list(drawn))
    for build in (build for build in filmed if build.id not in there):
        at = cameras[build.machine_id]
        db.add(
            t.Film(
                build_id=build.id, camera_id=at.id, camera=at.name, by_itself=True, asked_at=build.claimed_at,
                settings=to_jsonable_python(FilmSettings()), state="waiting",
            )
        )  # fmt: skip
    await db.commit()
    for build in found:
        if build not in whole and build.id not in there:
            await _keep(
                db, store, build, cameras[build.machine_id].id, camera.ends(build.sha256, names[build.machine_id])
            )
    await db.commit()


def _to_film(builds: Sequence[t.Build]) -> list[t.Build]:
    """Two good builds of one file by two machines, one that failed, and one more."""
    good = [b for b in builds if b.outcome == Outcome.COMPLETED and b.verdict == Verdict.GOOD]
    pairs = ((a, b) for a in good for b in good if a.file_id == b.file_id and a.machine_id != b.machine_id)
    a, b = next(pairs)
    failed = max((b for b in builds if b.outcome != Outcome.COMPLETED), key=lambda b: b.acknowledged)
    return [next(g for g in good if g.file_id not in (a.file_id, failed.file_id)), failed, b, a]


async def _keep(db: AsyncSession, store: FrameStore, build: t.Build, camera: int, drawn: Sequence[Drawn]) -> None:
    assert build.started_at is not None and build.ended_at is not None
    whole = drawn[-1].share or 1.0
    for n, one in enumerate(drawn):
        first, last = n == 0, n == len(drawn) - 1
        at = build.started_at + (build.ended_at - build.started_at) * (one.share / whole)
        why = FrameReason.START if first else FrameReason.END if last else FrameReason.LAYER
        sha256 = await asyncio.to_thread(store.write, one.jpeg)
        until = FOR_EVER if first or last else at + MONTH
        db.add(
            t.Frame(
                camera_id=camera, build_id=build.id, at=at, why=why, layer=one.layer, command=one.command,
                sha256=sha256, size=len(one.jpeg), keep_until=until,
            )
        )  # fmt: skip
