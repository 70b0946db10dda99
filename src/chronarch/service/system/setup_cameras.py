"""The cameras of a set-up file."""

from __future__ import annotations

from collections.abc import AsyncIterator
from dataclasses import dataclass
from functools import partial

from chronarch.service.machines.fleet import Fleet
from chronarch.service.problems import ApiProblem
from chronarch.service.system.setup_changes import HIDDEN, PlannedChange, difference
from chronarch.service.watching.camera_list import CameraList, seen
from chronarch.service.watching.cameras import KnownCamera
from chronarch.wire.common import fill
from chronarch.wire.system import setup_file as w
from chronarch.wire.watching.cameras import CameraChange, NewCamera


@dataclass(frozen=True)
class SetupCameras:
    """Compares them with those that are there."""

    fleet: Fleet
    shops: CameraList

    def kept(self) -> list[NewCamera]:
        """Those that are there, as they would be asked for."""
        return [self._asked(known) for known in self.shops.cameras.all()]

    async def changes(
        self, document: w.SetupDocument, machines: dict[str, w.MachinePart]
    ) -> AsyncIterator[PlannedChange]:
        now = {known.row.name.casefold(): known for known in self.shops.cameras.all()}
        for one in document.cameras:
            known, machine = now.get(one.name.casefold()), machines.get(one.machine.casefold())
            about = f"camera {known.row.name if known else one.name}"
            if one.machine and machine is None:
                raise ApiProblem(422, f"{about}: there is no machine named {one.machine!r}; add it to the file.")
            shown, login, password = seen(one)
            kept = self._asked(known) if known else None
            if HIDDEN in one.address and (kept is None or kept.address != shown):
                raise ApiProblem(422, f"{about}: passwords are not written; put its own for {HIDDEN} in {one.address}.")
            if kept is None or known is None:
                yield PlannedChange(about, f"is added, at {shown}", partial(self.shops.add, one))
                continue
            site = machine.site if machine else ""
            told = one.model_copy(update={
                "name": kept.name, "address": shown, "login": login, "password": "", "first": one.first or kept.first,
                "machine": machine.name if machine else "", "site": "" if one.site == site else one.site,
                "tender": kept.tender,
            })  # fmt: skip
            if one.tender and one.tender != self.shops.cameras.view(known).tender:
                raise ApiProblem(422, f"{about}: its tender stays what it is; the file has {one.tender!r}.")
            what = [difference(kept, told)] if told != kept else []
            if password and password != self.shops.password(known):
                what.append("its password")
            if what:
                change = CameraChange(
                    machine=told.machine if told.machine != kept.machine else None, site=told.site or site,
                    place=told.place, address=one.address if shown != kept.address else None, login=login,
                    password=password or None, settings=told.settings,
                    first=True if told.first and not kept.first else None,
                )  # fmt: skip
                yield PlannedChange(about, "; ".join(what), partial(self.shops.change, kept.name, change))

    def _asked(self, known: KnownCamera) -> NewCamera:
        """As it was asked for: without what it has from its machine, and without its password."""
        camera = self.shops.cameras.view(known)
        machine = self.fleet.find(camera.machine) if camera.machine else None
        mine = {"site": machine.row.site, "tender": machine.tender} if machine else {}
        its = {name: "" for name, value in mine.items() if getattr(camera, name) == value}
        return fill(NewCamera, camera, **its)
