"""Films: finding, playing, keeping and removing them, and asking for more."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Query, Response
from fastapi.responses import FileResponse
from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number, Word
from chronarch.records import tables as t
from chronarch.records.paging import number as by_number
from chronarch.records.watching import films as records
from chronarch.records.watching.films import FilmSearch
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.paging import Page, pages
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.service.watching.content_folder import TheFilmStore
from chronarch.service.watching.film_maker import TheFilmMaker
from chronarch.service.watching.films import TheFilms
from chronarch.service.watching.settings import load_watching
from chronarch.wire.common import RequestDone
from chronarch.wire.watching import films as w

router = APIRouter(tags=["films"], route_class=RetryingRoute)
MEDIA = {"webm": "video/webm", "mp4": "video/mp4"}
FOR_EVER = {"Cache-Control": "private, max-age=31536000, immutable"}


@router.get("/films")
async def films(
    context: Context, fleet: TheFleet, made: TheFilms, page: Annotated[Page, pages(60)], response: Response,
    search: Word = "", machine: Word = "", build: Number | None = None, file: Number | None = None,
    part: Number | None = None, order: Number | None = None, job: Number | None = None,
    state: Annotated[w.FilmState | None, Query()] = None, ended: bool = False,
) -> list[w.Film]:  # fmt: skip
    """Films, newest first. `search`: words that are all in the names of file, part, machine, camera or customer, in
    the file's tags, or in how the build ended. With `ended`, only those of builds that have ended."""
    of_machine = fleet.find(machine).row.id if machine else None
    query = FilmSearch(search, of_machine, build, file, part, order, job, state or "", ended).query()
    async with context.sessions() as db:
        rows = (await db.execute(page.of(query, by_number(t.Film.id, descending=True)))).all()
        found = [made.view(row) for row in page.cut(rows, lambda row: (row[0].id,))]
    if page.next:
        response.headers["Link"] = page.next
    return found


@router.get("/films/standing")
async def standing(context: Context) -> w.FilmStanding:
    """What films take of the disk."""
    async with context.sessions() as db:
        size, kept = await records.taken(db)
        many = (await db.execute(select(func.count()).select_from(t.Film).where(t.Film.state == "done"))).scalar_one()
        share = (await load_watching(db)).films_gb
    return w.FilmStanding(films=many, now_gb=size / 1e9, kept_gb=kept / 1e9, share_gb=share)


@router.post("/builds/{number:record}/films", status_code=202)
async def ask_for_film(number: Number, asked: w.NewFilm, who: Caller, context: Context, made: TheFilms) -> w.Film:
    """Have a further film of a build made, of the frames that are kept; once the build has ended."""
    async with context.sessions() as db:
        build = await db.get(t.Build, number)
        if build is None:
            raise ApiProblem(404, f"There is no build {number}.")
        film = await made.ask(db, build, asked, who.name)
        await db.commit()
        return made.view(await _row(db, film.id))


@router.get("/films/{number:record}")
async def film(number: Number, context: Context, made: TheFilms) -> w.FilmDetail:
    """A film, with where in it each layer begins."""
    async with context.sessions() as db:
        found = made.view(await _row(db, number), w.FilmDetail)
    assert isinstance(found, w.FilmDetail)
    return found


@router.patch("/films/{number:record}")
async def change_film(number: Number, change: w.FilmChange, context: Context, made: TheFilms) -> w.Film:
    """Say whether a film is to stay when films come to more than their share of the disk."""
    async with context.sessions() as db:
        row = await _row(db, number)
        if change.kept is not None:
            row[0].kept = change.kept
        await db.commit()
        return made.view(await _row(db, number))


@router.delete("/films/{number:record}")
async def remove_film(number: Number, context: Context, maker: TheFilmMaker) -> RequestDone:
    """Remove a film for good; of a build that is under way, make none."""
    async with context.sessions() as db:
        row = await _row(db, number)
        await maker.remove(db, [row[0]])
    return RequestDone(text=f"the film of build {row[1].id} is removed")


@router.get(
    "/films/{number:record}/file", response_class=FileResponse, responses={200: {"content": {"video/webm": {}}}}
)
async def film_file(number: Number, context: Context, store: TheFilmStore) -> Response:
    """A film: WebM (VP9) or MP4 (H.264). Parts of it can be asked for with Range."""
    async with context.sessions() as db:
        row = await _row(db, number)
    film = row[0]
    path = store.path(film.sha256) if film.sha256 else None
    if path is None or not path.exists():
        raise ApiProblem(404, f"The film of build {row[1].id} is not made yet; it is {film.state}.")
    form = film.settings["form"]
    name = f"{row[2].rsplit('.', 1)[0]}-{row[3]}-build-{row[1].id}.{form}"
    return FileResponse(
        path, media_type=MEDIA[form], filename=name, content_disposition_type="inline", headers=FOR_EVER
    )


@router.get(
    "/films/{number:record}/picture", response_class=FileResponse, responses={200: {"content": {"image/jpeg": {}}}}
)
async def film_picture(number: Number, context: Context, store: TheFilmStore) -> Response:
    """The last picture of a film, a JPEG."""
    async with context.sessions() as db:
        row = await _row(db, number)
    path = store.path(row[0].poster) if row[0].poster else None
    if path is None or not path.exists():
        raise ApiProblem(404, f"The film of build {row[1].id} is not made yet; it is {row[0].state}.")
    return FileResponse(path, media_type="image/jpeg", headers=FOR_EVER)


async def _row(db: AsyncSession, number: int) -> Any:
    row = (await db.execute(records.select_films().where(t.Film.id == number))).first()
    if row is None:
        raise ApiProblem(404, f"There is no film {number}; `chronarch films list` shows all.")
    return row
