"""Films as people see them, and which films are wanted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Any

from pydantic_core import to_jsonable_python
from sqlalchemy import select
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.control.film_taking import FilmTaking
from chronarch.core.watching.film_settings import FilmScope, FilmSettings
from chronarch.records import tables as t
from chronarch.records.watching import films as records
from chronarch.service.context import ServiceContext, part
from chronarch.service.problems import ApiProblem
from chronarch.service.watching.cameras import Cameras
from chronarch.service.watching.film_maker import FilmMaker
from chronarch.wire.common import fill
from chronarch.wire.watching import films as w


@dataclass
class Films:
    context: ServiceContext
    cameras: Cameras
    maker: FilmMaker

    async def begin(self, number: int) -> FilmTaking | None:
        """A build is handed to its tender: note that a film of it is wanted, if one is. Returns what the tender is to
        do for it."""
        async with self.context.sessions() as db:
            film = (
                await db.execute(select(t.Film).where(t.Film.build_id == number, t.Film.by_itself))
            ).scalar_one_or_none()
            if film is not None:
                return w.film_settings.validate_python(film.settings).taking()
            build = await db.get_one(t.Build, number)
            camera = self.first_of(build.machine_id)
            settings = await settled(db, await records.subjects_of(db, build))
            if camera is None or not settings.make:
                return None
            db.add(self._film(number, camera, settings))
            try:
                await db.commit()
            except IntegrityError:  # another connection was quicker
                await db.rollback()
        return settings.taking()

    async def ask(self, db: AsyncSession, build: t.Build, asked: w.NewFilm, by: str) -> t.Film:
        """A person wants a further film of a build. Raises ApiProblem (409, 404)."""
        camera = self.cameras.find(asked.camera).row if asked.camera else self.first_of(build.machine_id)
        if camera is None:
            raise ApiProblem(409, "No camera looks at this machine; say of which camera the film is to be.")
        settings = asked.settings or await settled(db, await records.subjects_of(db, build))
        if len(await records.frames_for(db, build.id, camera.id)) < 2:
            raise ApiProblem(
                409, f"No frames of build {build.id} by {camera.name} are kept, so there is no film of it."
            )
        film = self._film(build.id, camera, settings, by)
        db.add(film)
        await db.flush()
        return film

    def _film(self, build: int, camera: t.Camera, settings: FilmSettings, by: str = "") -> t.Film:
        return t.Film(
            build_id=build, camera_id=camera.id, camera=camera.name, by_itself=not by, asked_by=by,
            asked_at=self.context.clock.now(), settings=to_jsonable_python(settings), state="taking",
        )  # fmt: skip

    def first_of(self, machine: int) -> t.Camera | None:
        return next((k.row for k in self.cameras.all() if k.row.machine_id == machine and k.row.first), None)

    def view(self, row: Sequence[Any], kind: type[w.Film] = w.Film) -> w.Film:
        """A film as the wire shows it, from a row of `select_films`."""
        film, build, file, machine, part_, order = row
        return fill(
            kind, film, number=film.id, build=build.id, machine=machine, file=file, file_id=build.file_id,
            part=part_.name if part_ else "", part_id=part_.id if part_ else None, job=build.job_id,
            order=order.id if order else None, customer=order.customer if order else "", outcome=build.outcome,
            verdict=build.verdict, began_at=build.started_at, ended_at=build.ended_at,
            progress=1.0 if film.state == "done" else self.maker.progress(film.id),
        )  # fmt: skip


TheFilms = Annotated[Films, part(Films)]


async def settled(db: AsyncSession, subjects: dict[FilmScope, int]) -> FilmSettings:
    """How films of what belongs to all of these are made."""
    rule = await records.rule_for(db, subjects)
    return w.film_settings.validate_python(rule.settings) if rule else FilmSettings()
