"""Where a thing is that a request is about: the site and the pools of its machine."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from typing import Any

from fastapi import Request
from sqlalchemy import Select, func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.access.rights import Whereabouts
from chronarch.records import tables as t
from chronarch.service.context import ServiceContext, part_of

Finder = Callable[[Request], Awaitable[Whereabouts | None]]
NOWHERE = Whereabouts()
"""Of what is not there: the route says so, to whoever may do it everywhere."""


def of_machine(row: t.Machine) -> Whereabouts:
    return Whereabouts(row.site, tuple(row.pools))


async def of_number(db: AsyncSession, machine: int | None) -> Whereabouts | None:
    """Of a machine by its number; None where it is about no machine."""
    row = None if machine is None else await db.get(t.Machine, machine)
    return None if row is None else of_machine(row)


async def _by_name(request: Request) -> Whereabouts | None:
    query = select(t.Machine).where(func.lower(t.Machine.name) == request.path_params["name"].lower())
    async with part_of(request, ServiceContext).sessions() as db:
        row = (await db.execute(query)).scalar_one_or_none()
    return NOWHERE if row is None else of_machine(row)


async def _by_camera(request: Request) -> Whereabouts | None:
    query = select(t.Camera).where(t.Camera.name == request.path_params["name"])
    async with part_of(request, ServiceContext).sessions() as db:
        row = (await db.execute(query)).scalar_one_or_none()
        if row is None:
            return NOWHERE
        return await of_number(db, row.machine_id) or Whereabouts(row.site)


def _by_row(query: Callable[[int], Select[Any]]) -> Finder:
    """By a row that names its machine; `query` gives the machine's number for the row's."""

    async def find(request: Request) -> Whereabouts | None:
        async with part_of(request, ServiceContext).sessions() as db:
            found = (await db.execute(query(int(request.path_params["number"])))).first()
            return NOWHERE if found is None else await of_number(db, found[0])

    return find


def _of_film(number: int) -> Select[Any]:
    return select(t.Build.machine_id).join(t.Film, t.Film.build_id == t.Build.id).where(t.Film.id == number)


_FINDERS: tuple[tuple[str, Finder], ...] = (
    ("/machines/{name}", _by_name),
    ("/cameras/{name}", _by_camera),
    ("/builds/{number}", _by_row(lambda number: select(t.Build.machine_id).where(t.Build.id == number))),
    ("/suspicions/{number}", _by_row(lambda number: select(t.Suspicion.machine_id).where(t.Suspicion.id == number))),
    ("/films/{number}", _by_row(_of_film)),
    ("/spools/{number}", _by_row(lambda number: select(t.Spool.machine_id).where(t.Spool.id == number))),
    ("/upkeep/done/{number}", _by_row(lambda number: select(t.UpkeepDone.machine_id).where(t.UpkeepDone.id == number))),
)
"""By how a path begins: where the thing is that it names."""


def finder_of(path: str) -> Finder | None:
    """How to find where a path's thing is; None for a path that names none."""
    return next((find for begin, find in _FINDERS if path == begin or path.startswith(f"{begin}/")), None)
