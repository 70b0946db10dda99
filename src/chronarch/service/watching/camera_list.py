"""The cameras of the shop: added, changed, removed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from pydantic_core import to_jsonable_python
from sqlalchemy import select, update
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.address import without_secrets
from chronarch.core.watching.camera_address import parse_camera_address
from chronarch.core.watching.camera_settings import CameraSettings
from chronarch.records import tables as t
from chronarch.service.context import ServiceContext, part
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.problems import ApiProblem
from chronarch.service.sealed_access import changed, opened_or_shown, seal
from chronarch.service.secrets import Secrets
from chronarch.service.watching.access import check_access
from chronarch.service.watching.cameras import Cameras, KnownCamera
from chronarch.wire.watching import cameras as w

MOST_CAMERAS = 1000


@dataclass
class CameraList:
    """Changes it; tenders hear of that at once."""

    context: ServiceContext
    fleet: Fleet
    cameras: Cameras
    secrets: Secrets

    async def add(self, asked: w.NewCamera) -> KnownCamera:
        """Raises ApiProblem (404, 409, 422)."""
        await check_access(self.context.config, asked)
        machine = self.fleet.find(asked.machine) if asked.machine else None
        async with self.context.sessions() as db:
            if len(self.cameras.all()) >= MOST_CAMERAS:
                raise ApiProblem(409, f"There are {MOST_CAMERAS} cameras already; remove one that is not needed.")
            row = t.Camera(
                name=asked.name, machine_id=machine.row.id if machine else None, place=asked.place,
                site=asked.site or (machine.row.site if machine else ""),
                tender_id=await _tender(db, asked.tender or (machine.tender if machine else "")),
                settings=_kept(asked.settings, machine), added_at=self.context.clock.now(),
            )  # fmt: skip
            _keep(row, asked, self.secrets)
            db.add(row)
            await _commit(db, row, {row.machine_id}, first=asked.first)
            await self.cameras.load(db)
        return self.cameras.find(asked.name)

    async def change(self, name: str, change: w.CameraChange) -> KnownCamera:
        """A password is kept only as long as the address stays. Raises ApiProblem (404, 409, 422)."""
        known = self.cameras.find(name)
        async with self.context.sessions() as db:
            row = await db.get_one(t.Camera, known.row.id, with_for_update=True)
            before = row.machine_id
            if change.machine is not None:
                machine = self.fleet.find(change.machine) if change.machine else None
                row.machine_id, row.first = machine.row.id if machine else None, False
                row.site = machine.row.site if machine else row.site
            for field in ("name", "site", "place"):
                if getattr(change, field) is not None:
                    setattr(row, field, getattr(change, field))
            looks_at = _machine(self.fleet, row.machine_id)
            if change.settings is not None:
                row.settings = _kept(change.settings, looks_at)
            if change.model_fields_set & {"address", "login", "password"}:
                access = changed(known.row, change, w.CameraAccess, self.secrets)
                await check_access(self.context.config, access)
                _keep(row, access, self.secrets)
            await _commit(db, row, {before, row.machine_id}, first=bool(change.first))
            await self.cameras.load(db)
        return self.cameras.find(row.name)

    async def remove(self, name: str) -> str:
        """Where it stood for its machine, another of that machine does so from now on. Gives its name."""
        known = self.cameras.find(name)
        async with self.context.sessions() as db:
            row = await db.get_one(t.Camera, known.row.id, with_for_update=True)
            machine = row.machine_id
            await db.delete(row)
            await db.flush()
            await _have_one_first(db, machine)
            await db.commit()
            await self.cameras.load(db)
        return known.row.name

    def password(self, known: KnownCamera) -> str:
        """Its own; empty without one."""
        return opened_or_shown(known.row, w.CameraAccess, self.secrets).password


TheCameraList = Annotated[CameraList, part(CameraList)]


def seen(asked: w.CameraAccess) -> tuple[str, str, str]:
    """The address as everybody may see it, the login, and the password, wherever they stand."""
    address = parse_camera_address(asked.address)
    return without_secrets(address.url), asked.login or address.login, asked.password or address.password


def _keep(row: t.Camera, asked: w.CameraAccess, secrets: Secrets) -> None:
    """Keep where a camera is: what is secret encrypted, the rest as everybody may see it."""
    shown, login, password = seen(asked)
    access = w.CameraAccess(address=parse_camera_address(asked.address).url, login=login, password=password)
    seal(row, access, shown, secrets)


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
