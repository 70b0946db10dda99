"""Cameras: how they are set up, and their newest frames."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Response
from pydantic_core import to_jsonable_python
from sqlalchemy import select, update
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Named
from chronarch.core.machines.address import without_secrets
from chronarch.core.watching.camera_address import parse_camera_address
from chronarch.core.watching.camera_settings import CameraSettings
from chronarch.records import tables as t
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import Fleet, FleetMachine, TheFleet
from chronarch.service.problems import ApiProblem
from chronarch.service.sealed_access import changed, seal
from chronarch.service.secrets import Secrets, TheSecrets
from chronarch.service.watching.access import check_access
from chronarch.service.watching.cameras import TheCameras
from chronarch.wire.common import RequestDone
from chronarch.wire.watching import cameras as w
from chronarch.wire.watching.camera_messages import Size

router = APIRouter(tags=["cameras"], route_class=RetryingRoute)
MOST_CAMERAS = 1000


@router.get("/cameras")
async def cameras(cameras: TheCameras) -> list[w.Camera]:
    """All cameras as they are now, by name."""
    return [cameras.view(known) for known in cameras.all()]


@router.post("/cameras", status_code=201)
async def add_camera(
    asked: w.NewCamera, context: Context, fleet: TheFleet, cameras: TheCameras, secrets: TheSecrets
) -> w.Camera:
    """Add a camera. Its tender is told at once if it is connected."""
    await check_access(context.config, asked)
    machine = fleet.find(asked.machine) if asked.machine else None
    async with context.sessions() as db:
        if len(cameras.all()) >= MOST_CAMERAS:
            raise ApiProblem(409, f"There are {MOST_CAMERAS} cameras already; remove one that is not needed.")
        row = t.Camera(
            name=asked.name, machine_id=machine.row.id if machine else None, place=asked.place,
            site=asked.site or (machine.row.site if machine else ""),
            tender_id=await _tender(db, asked.tender or (machine.tender if machine else "")),
            settings=_kept(asked.settings, machine), added_at=context.clock.now(),
        )  # fmt: skip
        _keep(row, asked, secrets)
        db.add(row)
        await _commit(db, row, {row.machine_id}, first=asked.first)
        await cameras.load(db)
    return cameras.view(cameras.find(asked.name))


@router.get("/cameras/{name}")
async def camera(name: Named, cameras: TheCameras) -> w.Camera:
    return cameras.view(cameras.find(name))


@router.patch("/cameras/{name}")
async def change_camera(
    name: Named, change: w.CameraChange, context: Context, fleet: TheFleet, cameras: TheCameras, secrets: TheSecrets
) -> w.Camera:
    """Change how a camera is set up. A password is kept only as long as the address stays."""
    known = cameras.find(name)
    async with context.sessions() as db:
        row = await db.get_one(t.Camera, known.row.id, with_for_update=True)
        before = row.machine_id
        if change.machine is not None:
            machine = fleet.find(change.machine) if change.machine else None
            row.machine_id, row.first = machine.row.id if machine else None, False
            row.site = machine.row.site if machine else row.site
        for field in ("name", "site", "place"):
            if getattr(change, field) is not None:
                setattr(row, field, getattr(change, field))
        looks_at = _machine(fleet, row.machine_id)
        if change.settings is not None:
            row.settings = _kept(change.settings, looks_at)
        if change.model_fields_set & {"address", "login", "password"}:
            access = changed(known.row, change, w.CameraAccess, secrets)
            await check_access(context.config, access)
            _keep(row, access, secrets)
        await _commit(db, row, {before, row.machine_id}, first=bool(change.first))
        await cameras.load(db)
    return cameras.view(cameras.find(row.name))


@router.delete("/cameras/{name}")
async def remove_camera(name: Named, context: Context, cameras: TheCameras) -> RequestDone:
    """Remove a camera; where it stood for its machine, another of that machine does so from now on."""
    known = cameras.find(name)
    async with context.sessions() as db:
        row = await db.get_one(t.Camera, known.row.id, with_for_update=True)
        machine = row.machine_id
        await db.delete(row)
        await db.flush()
        await _have_one_first(db, machine)
        await db.commit()
        await cameras.load(db)
    return RequestDone(text=f"{known.row.name} is removed")


@router.get("/cameras/{name}/frame", response_class=Response, responses={200: {"content": {"image/jpeg": {}}}})
async def frame(name: Named, cameras: TheCameras, size: Annotated[Size, Query()] = "full") -> Response:
    """The newest frame, a JPEG; a small one has 480 pixels at most."""
    known = cameras.find(name)
    newest = known.frame(size)
    if newest is None:
        why = known.trouble.text if known.trouble else "none has come yet"
        raise ApiProblem(404, f"There is no frame of {known.row.name}: {why}.")
    headers = {"Cache-Control": "no-store", "X-Taken-At": newest.head.at.isoformat()}
    return Response(newest.jpeg, media_type="image/jpeg", headers=headers)


def _keep(row: t.Camera, asked: w.CameraAccess, secrets: Secrets) -> None:
    """Keep where a camera is: what is secret encrypted, the rest as everybody may see it."""
    address = parse_camera_address(asked.address)
    login, password = asked.login or address.login, asked.password or address.password
    access = w.CameraAccess(address=address.url, login=login, password=password)
    seal(row, access, without_secrets(address.url), secrets)


def _kept(settings: CameraSettings, machine: FleetMachine | None) -> dict[str, object]:
    """Settings as the records have them. Raises ApiProblem (422) for a light that the machine has not."""
    if settings.light:
        switches = [s.name for s in machine.model.switches] if machine else []
        if settings.light not in switches:
            there = ", ".join(switches) or "none"
            raise ApiProblem(422, f"{settings.light!r} is no switch of what it looks at; there are: {there}.")
    kept: dict[str, object] = to_jsonable_python(settings)
    return kept


def _machine(fleet: Fleet, number: int | None) -> FleetMachine | None:
    return next((known for known in fleet.all() if known.row.id == number), None)


async def _tender(db: AsyncSession, name: str) -> int:
    row = (await db.execute(select(t.Tender).where(t.Tender.name == name))).scalar_one_or_none()
    if row is None:
        raise ApiProblem(422, f"There is no tender named {name!r}; add a machine of it first.")
    return row.id


async def _commit(db: AsyncSession, row: t.Camera, machines: set[int | None], *, first: bool) -> None:
    """Commit a camera that is new or changed; each of the machines that it looks at or looked at, if it has cameras,
    has exactly one first."""
    try:
        await db.flush()
        if first and row.machine_id is not None:
            others = update(t.Camera).where(t.Camera.machine_id == row.machine_id, t.Camera.id != row.id)
            await db.execute(others.values(first=False))
            row.first = True
            await db.flush()
        for machine in machines:
            await _have_one_first(db, machine)
        await db.commit()
    except IntegrityError:
        raise ApiProblem(409, f"There is a camera named {row.name!r} already; choose another name.") from None


async def _have_one_first(db: AsyncSession, machine: int | None) -> None:
    mine = select(t.Camera).where(t.Camera.machine_id == machine).order_by(t.Camera.first.desc(), t.Camera.id)
    one = (await db.execute(mine.limit(1))).scalar_one_or_none() if machine is not None else None
    if one is not None and not one.first:
        one.first = True
        await db.flush()
