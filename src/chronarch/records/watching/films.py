"""Films: which rule a build falls under, what is still to be made, finding them, and what they take of the disk."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import delete, func, or_, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.watching.film_plan import FilmFrame
from chronarch.core.watching.film_settings import FilmScope
from chronarch.core.watching.frame_keeping import HOUR, FrameReason
from chronarch.records.library.tables import File, Part
from chronarch.records.machines.tables import Machine
from chronarch.records.orders.tables import Build, Job, Order
from chronarch.records.watching.tables import Film, FilmRule, Frame
from chronarch.records.word_search import has_words

MOST_FRAMES = 50_000
"""Of one build and camera; more are not looked at."""


async def rule_for(db: AsyncSession, subjects: dict[FilmScope, int]) -> FilmRule | None:
    """The most particular rule that there is for one of these; None without any."""
    wanted = [(FilmRule.scope == scope) & (FilmRule.subject == number) for scope, number in subjects.items()]
    found = {row.scope: row for row in (await db.execute(select(FilmRule).where(or_(*wanted)))).scalars()}
    return next((found[scope] for scope in FilmScope if scope in found), None)


async def subjects_of(db: AsyncSession, build: Build) -> dict[FilmScope, int]:
    """What a build belongs to that may have a rule."""
    order = (await db.execute(select(Job.order_id).where(Job.id == build.job_id))).scalar_one_or_none()
    found = {FilmScope.JOB: build.job_id, FilmScope.FILE: build.file_id, FilmScope.MACHINE: build.machine_id}
    return {**found, FilmScope.SHOP: 0, **({FilmScope.ORDER: order} if order else {})}


def select_films() -> Any:
    """Films with their build, file name, machine's name, part and order; None for what they do not belong to."""
    return (
        select(Film, Build, File.name, Machine.name, Part, Order)
        .join(Build, Build.id == Film.build_id)
        .join(File, File.id == Build.file_id)
        .join(Machine, Machine.id == Build.machine_id)
        .join(Job, Job.id == Build.job_id)
        .outerjoin(Part, Part.id == func.coalesce(Job.part_id, File.part_id))
        .outerjoin(Order, Order.id == Job.order_id)
    )


@dataclass(frozen=True)
class FilmSearch:
    """What is asked of films; what is left empty can be anything."""

    search: str = ""
    machine: int | None = None
    build: int | None = None
    file: int | None = None
    part: int | None = None
    order: int | None = None
    job: int | None = None
    state: str = ""
    ended: bool = False
    """Whether only films of builds that have ended are wanted."""

    def query(self) -> Any:
        texts = File.name, Machine.name, Part.name, Order.customer, Film.camera, Build.outcome
        query = select_films().where(*has_words("file", self.search, *texts))
        asked = {
            Build.machine_id: self.machine, Build.id: self.build, Build.file_id: self.file, Part.id: self.part,
            Order.id: self.order, Job.id: self.job, Film.state: self.state or None,
        }  # fmt: skip
        if self.ended:
            query = query.where(Film.state != "taking")
        return query.where(*(column == value for column, value in asked.items() if value is not None))


async def frames_for(db: AsyncSession, build: int, camera: int | None) -> list[tuple[FilmFrame, str]]:
    """The kept frames of a build by one camera in the order in which they were taken, each with its hash."""
    query = (
        select(Frame.id, Frame.at, Frame.why, Frame.layer, Frame.sha256)
        .where(Frame.build_id == build, Frame.camera_id == camera)
        .order_by(Frame.at, Frame.id)
        .limit(MOST_FRAMES)
    )
    return [
        (FilmFrame(number, at, FrameReason(why), layer), sha) for number, at, why, layer, sha in await db.execute(query)
    ]


async def end_is_kept(db: AsyncSession, build: int, camera: int | None) -> bool:
    """Whether the frame of the end of a build has come."""
    query = select(Frame.id).where(
        Frame.build_id == build, Frame.camera_id == camera, Frame.why.in_([FrameReason.END, FrameReason.VERDICT])
    )
    return (await db.execute(query.limit(1))).first() is not None


async def release_frames(db: AsyncSession, build: int, now: datetime) -> None:
    """The film is made: frames that were taken for it alone may go."""
    for_film = update(Frame).where(Frame.build_id == build, Frame.why == FrameReason.FILM)
    await db.execute(for_film.where(Frame.keep_until > now + HOUR).values(keep_until=now + HOUR))


async def taken(db: AsyncSession) -> tuple[int, int]:
    """Bytes of all films, and of those that are to be kept."""
    query = select(func.sum(Film.size), func.sum(func.if_(Film.kept, Film.size, 0)))
    every, kept = (await db.execute(query)).one()
    return int(every or 0), int(kept or 0)


async def oldest(db: AsyncSession, most: int) -> Sequence[Film]:
    """Finished films that need not be kept, the oldest first, without the newest finished one. One statement sees both,
    so that one that is finished just now is not taken for an old one."""
    newest = select(Film.id).where(Film.state == "done").order_by(Film.made_at.desc(), Film.id.desc()).limit(1)
    query = select(Film).where(Film.state == "done", ~Film.kept, Film.id != newest.scalar_subquery())
    return (await db.execute(query.order_by(Film.made_at, Film.id).limit(most))).scalars().all()


async def remove(db: AsyncSession, films: Iterable[Film]) -> list[str]:
    """Remove films. Returns the hashes that no other film has, whose bytes can go once this is committed."""
    films = list(films)
    hashes = {sha for film in films for sha in (film.sha256, film.poster) if sha}
    await db.execute(delete(Film).where(Film.id.in_([film.id for film in films])))
    await db.flush()
    still: set[str | None] = set()
    for column in (Film.sha256, Film.poster):
        still |= set((await db.execute(select(column).where(column.in_(hashes)))).scalars()) if hashes else set()
    return sorted(hashes - still)
