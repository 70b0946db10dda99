"""Makes films of builds that have ended, one after another, and keeps all films within their share of the disk."""

from __future__ import annotations

import asyncio
import logging
import multiprocessing
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Annotated, Any

from pydantic_core import to_jsonable_python
from sqlalchemy import select, update
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.errors import CoreError
from chronarch.core.machines.states import BuildState, Outcome
from chronarch.core.notices.kinds import NoticeKind
from chronarch.core.watching.film_plan import FilmFrame, FilmPlan, FilmShot, Moment, plan_film
from chronarch.core.watching.film_settings import FilmSettings
from chronarch.core.watching.frame_keeping import FrameReason
from chronarch.records import tables as t
from chronarch.records.notices.opening import open_notice
from chronarch.records.watching import films as records
from chronarch.service.changes import Watch
from chronarch.service.context import ServiceContext, part
from chronarch.service.machines.fleet import Fleet
from chronarch.service.process_pool import ProcessPool
from chronarch.service.watching.content_folder import FilmStore, FrameStore
from chronarch.service.watching.film_encoding import EncodedFilm, FilmOrder, FilmPicture
from chronarch.service.watching.settings import load_watching
from chronarch.wire.watching.films import FilmState, film_settings

LOOK_EVERY_S, PATIENCE_S = 5.0, 20.0
"""How long after the end of a build its last frames may take to come, real seconds."""
FULL_S = 10.0
"""How long to wait before a disk that took nothing more is tried again."""
ALLOWED_S, SLOWEST_PICTURE_S = 60.0, 2.0
ENCODING = "chronarch.service.watching.film_encoding"
DISK_FULL = "The disk of the service is nearly full: it is made when there is room."
SHARE_FULL = "Films that are kept take all of the films' share of the disk: it is made when there is room."
log = logging.getLogger("chronarch.films")


@dataclass
class _UnderWay:
    film: int
    shots: int
    task: asyncio.Task[None]


@dataclass
class FilmMaker:
    """`look` is the step of a worker: it never waits for a film. One film is made at a time."""

    context: ServiceContext
    fleet: Fleet
    frames: FrameStore
    store: FilmStore
    wanted: Watch = field(init=False)
    _under_way: _UnderWay | None = None
    _pool: ProcessPool | None = None
    _done: Any = field(default_factory=lambda: multiprocessing.get_context("spawn").Value("i", 0))
    _ended_s: dict[int, float] = field(default_factory=dict)
    """When each build was first seen to have ended, real seconds."""
    _told: set[str] = field(default_factory=set)
    """What people have been told since a film was last made."""
    _again_s: float = 0.0
    """When the disk is tried again that took nothing more, real seconds."""
    _begun: bool = False

    def __post_init__(self) -> None:
        self.wanted = self.context.changes.watch("builds", "films")

    def progress(self, film: int) -> float:
        """How much of a film has been made, 0 to 1."""
        here = self._under_way
        return min(1.0, self._done.value / max(1, here.shots)) if here and here.film == film else 0.0

    async def look(self) -> None:
        """See what is to be made, and begin with the next film if none is being made."""
        async with self.context.sessions() as db:
            if not self._begun:  # what an earlier service was making is made anew
                left = t.Film.state == "making", t.Film.id != (self._under_way.film if self._under_way else 0)
                await db.execute(update(t.Film).where(*left).values(state="waiting"))
                await db.commit()
                self.store.sweep()
                self._begun = True
            await self._take_ended(db)
            await self._trim(db)
            if self._under_way is not None:
                return
            film = (
                await db.execute(select(t.Film).where(t.Film.state == "waiting").order_by(t.Film.id).limit(1))
            ).scalar_one_or_none()
            if film is None:
                self._rest()
                return
            if await self._held_up(db, film):
                return
            await self._begin(db, film)

    async def _take_ended(self, db: AsyncSession) -> None:
        """Films of builds that have ended, and whose last frames have come, are to be made now."""
        query = select(t.Film, t.Build).join(t.Build, t.Build.id == t.Film.build_id)
        over = query.where(t.Film.state == "taking", t.Build.state == BuildState.ENDED)
        found = (await db.execute(over)).all()
        for film, build in found:
            since_s = self._ended_s.setdefault(build.id, self.context.clock.monotonic_s())
            late = self.context.clock.monotonic_s() - since_s > PATIENCE_S
            if late or await records.end_is_kept(db, build.id, film.camera_id):
                film.state = "waiting"
                self._ended_s.pop(build.id)
        await db.commit()

    async def _held_up(self, db: AsyncSession, film: t.Film) -> bool:
        """Whether there is no room for a film; people are told once."""
        share = (await load_watching(db)).films_gb * 1e9
        _, kept = await records.taken(db)
        room = await asyncio.to_thread(self.store.has_room)
        full = not room or self.context.clock.monotonic_s() < self._again_s
        problem = DISK_FULL if full else SHARE_FULL if kept >= share else ""
        if film.problem != problem:
            film.problem = problem
            if problem and problem not in self._told:
                text = problem.replace("it is made", "films are made") + " Builds go on."
                await open_notice(db, NoticeKind.STORAGE, self.context.clock.now(), text)
                self._told.add(problem)
            await db.commit()
        return bool(problem)

    async def _begin(self, db: AsyncSession, film: t.Film) -> None:
        build = await db.get_one(t.Build, film.build_id)
        found = await records.frames_for(db, build.id, film.camera_id)
        settings = film_settings.validate_python(film.settings)
        plan = plan_film([frame for frame, _ in found], settings, _moments(build, found), build.ended_at)
        if len(plan.shots) < 2:
            if film.by_itself:
                await records.remove(db, [film])
            else:
                film.state, film.problem = "failed", "fewer than two frames of what it is to show are kept"
            await db.commit()
            return
        film.state = "making"
        await db.commit()
        hashes = {frame.number: sha for frame, sha in found}
        order = self._order(film, plan, hashes, settings)
        self._done.value = 0
        task = asyncio.create_task(self._make(film.id, order, plan))
        self._under_way = _UnderWay(film.id, len(plan.shots), task)
        log.info("film %d of build %d: %d frames, %.1f s", film.id, build.id, len(plan.shots), plan.seconds)

    def _order(self, film: t.Film, plan: FilmPlan, hashes: dict[int, str], settings: FilmSettings) -> FilmOrder:
        layers = max((shot.frame.layer for shot in plan.shots), default=0)

        def picture(shot: FilmShot) -> FilmPicture:
            at = self.fleet.words(shot.frame.at, shot.frame.at)
            stamp = f"{at}   layer {shot.frame.layer} of {layers}" if settings.stamp else ""
            return FilmPicture(str(self.frames.path(hashes[shot.frame.number])), shot.times, stamp, shot.mark)

        out = self.store.fresh(f"film-{film.id}")
        pictures = tuple(picture(shot) for shot in plan.shots)
        return FilmOrder(pictures, str(out), f"{out}.jpg", settings.form, plan.fps, settings.width_px)

    async def _make(self, number: int, order: FilmOrder, plan: FilmPlan) -> None:
        """Have a film made, and write down what came of it."""
        if self._pool is None:
            self._pool = ProcessPool(1, f"{ENCODING}:enter", self._done)
        made: EncodedFilm | None = None
        state: FilmState = "failed"
        problem, values = "", dict[str, Any]()
        try:
            within_s = ALLOWED_S + SLOWEST_PICTURE_S * plan.pictures
            made = await self._pool.run(f"{ENCODING}:encode", order, within_s=within_s)
            assert made is not None
            sha256, poster, size = await asyncio.to_thread(self._adopt, order)
            state, self._told = "done", set()
            values = {
                "sha256": sha256, "poster": poster, "size": size, "seconds": made.pictures / plan.fps,
                "width": made.width, "height": made.height,
            }  # fmt: skip
        except CoreError as error:
            problem = str(error)
        except OSError as error:
            log.warning("film %d could not be written: %s", number, error)
            state, self._again_s = "waiting", self.context.clock.monotonic_s() + FULL_S
        except Exception as error:
            log.exception("film %d could not be made", number)
            problem = f"its frames could not be made into a film ({type(error).__name__}: {error})"[:300]
        finally:
            self._under_way = None
            if made is None:
                self._rest()  # the next one is made by a fresh process
            for path in (order.out, order.poster):
                with suppress(OSError):
                    Path(path).unlink()
        try:
            await self._write_down(number, state, problem, values, plan)
        except (SQLAlchemyError, OSError) as error:
            log.warning("what became of film %d could not be written down; it is made anew: %s", number, error)
            self._begun = False
        self.wanted.event.set()

    async def _write_down(
        self, number: int, state: FilmState, problem: str, values: dict[str, Any], plan: FilmPlan
    ) -> None:
        async with self.context.sessions() as db:
            film = await db.get(t.Film, number, with_for_update=True)
            if film is None:
                return
            film.state, film.problem = state, problem
            for name, value in values.items():
                setattr(film, name, value)
            if state == "done":
                film.marks = to_jsonable_python([asdict(mark) for mark in plan.marks])
                film.layers = [[layer, round(second, 3)] for layer, second in plan.layers]
                film.made_at = self.context.clock.now()
                await records.release_frames(db, film.build_id, film.made_at)
            await db.commit()

    def _adopt(self, order: FilmOrder) -> tuple[str, str, int]:
        out, poster = Path(order.out), Path(order.poster)
        size = out.stat().st_size + poster.stat().st_size
        return self.store.adopt(out), self.store.adopt(poster), size

    async def _trim(self, db: AsyncSession) -> None:
        """Remove the oldest films that need not be kept until the rest is within its share; the newest one stays."""
        share = (await load_watching(db)).films_gb * 1e9
        size, _ = await records.taken(db)
        if size <= share:
            return
        going: list[t.Film] = []
        for film in await records.oldest(db, 200):
            if size <= share:
                break
            going.append(film)
            size -= film.size
        await self.remove(db, going)

    async def remove(self, db: AsyncSession, films: Sequence[t.Film]) -> None:
        """Remove films, and stop making one of them."""
        here = self._under_way
        if here is not None and any(film.id == here.film for film in films):
            here.task.cancel()
            await asyncio.wait([here.task])
        gone = await records.remove(db, films)
        await db.commit()
        await asyncio.to_thread(self.store.drop, gone)

    def _rest(self) -> None:
        """Nothing is to be made: the process goes, with its memory."""
        if self._pool is not None:
            self._pool.close()
            self._pool = None

    def close(self) -> None:
        if self._under_way is not None:
            self._under_way.task.cancel()
        self._rest()


TheFilmMaker = Annotated[FilmMaker, part(FilmMaker)]


def _moments(build: t.Build, frames: Sequence[tuple[FilmFrame, str]]) -> list[Moment]:
    """What is marked in the film of a build: its pauses, and its end if it was not completed."""
    found = [Moment(frame.at, "paused") for frame, _ in frames if frame.why is FrameReason.PAUSE]
    if build.outcome in (Outcome.FAILED, Outcome.STOPPED) and build.ended_at is not None:
        layer = max((frame.layer for frame, _ in frames), default=0)
        why = f": {build.reason}" if build.reason else ""
        found.append(Moment(build.ended_at, f"{build.outcome} in layer {layer}{why}"[:160], bad=True))
    return found
