"""Keeps what machines say of themselves, and puts it side by side."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.control.firmware_info import FirmwareInfo
from chronarch.core.control.machine_settings import meaning
from chronarch.core.upkeep.side_by_side import side_by_side
from chronarch.records import tables as t
from chronarch.records.machines.fleet_facts import firmware_told
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.wire.upkeep import fleet_state as w

LOOK_EVERY_S = 3.0


@dataclass
class FirmwareKeeper:
    """Writes down what machines say of themselves when that changes."""

    context: ServiceContext
    fleet: Fleet
    _said: dict[int, FirmwareInfo] = field(default_factory=dict)

    async def look(self) -> None:
        """This is the step of one worker."""
        told = [
            (known.row.id, known.sample.hands.contact)
            for known in self.fleet.all()
            if known.sample is not None and known.sample.hands.contact.firmware
        ]
        new = [(machine, said) for machine, said in told if self._said.get(machine) != said]
        if not new:
            return
        async with self.context.sessions() as db:
            for machine, said in new:
                await firmware_told(db, machine, self.context.clock.now(), said)
            await db.commit()
        self._said |= dict(new)


async def fleet_state(db: AsyncSession, fleet: Fleet) -> list[w.FleetOfModel]:
    """By model: which firmware each machine has and should have, and what they have stored that is not the same."""
    wanted = {row.model_id: row for row in (await db.execute(select(t.WantedFirmware))).scalars()}
    firmware: dict[int, list[t.MachineFirmware]] = defaultdict(list)
    for said in (await db.execute(select(t.MachineFirmware).order_by(t.MachineFirmware.at))).scalars():
        firmware[said.machine_id].append(said)
    settings: dict[int, list[t.MachineSettings]] = defaultdict(list)
    for told in (await db.execute(select(t.MachineSettings).order_by(t.MachineSettings.at))).scalars():
        settings[told.machine_id].append(told)
    by_model: dict[int, list[FleetMachine]] = defaultdict(list)
    for known in fleet.all():
        by_model[known.row.model_id].append(known)
    found = []
    for model, machines in by_model.items():
        wish = wanted.get(model)
        want = wish.firmware if wish else ""
        names = {known.row.name: settings[known.row.id] for known in machines if settings[known.row.id]}
        different, same = side_by_side({name: rows[-1].values for name, rows in names.items()})
        found.append(
            w.FleetOfModel(
                model=machines[0].model.name, wanted=want, wanted_by=wish.set_by if wish else "", same=same,
                machines=[_machine(one, firmware[one.row.id], settings[one.row.id], want) for one in machines],
                different=[
                    w.DifferentSetting(
                        name=one.name, meaning=meaning(one.name), usual=one.usual,
                        values=[
                            w.SettingValue(machine=name, value=value, since=_since(names[name], one.name))
                            for name, value in one.values.items()
                        ],
                    )
                    for one in different
                ],
            )
        )  # fmt: skip
    return sorted(found, key=lambda one: one.model)


def _machine(
    known: FleetMachine, said: Sequence[t.MachineFirmware], told: Sequence[t.MachineSettings], wanted: str
) -> w.MachineTells:
    last = said[-1] if said else None
    since = last.at if last else None
    for row in reversed(said):
        if last is None or row.firmware != last.firmware:
            break
        since = row.at
    can = last.capabilities if last else {}
    return w.MachineTells(
        machine=known.row.name, site=known.row.site, firmware=last.firmware if last else "", since=since,
        behind=bool(last and wanted and last.firmware != wanted),
        can=sorted(name for name, has in can.items() if has),
        cannot=sorted(name for name, has in can.items() if not has),
        settings_told_at=told[-1].told_at if told else None, settings_since=told[-1].at if told else None,
    )  # fmt: skip


def _since(told: Sequence[t.MachineSettings], name: str) -> datetime:
    """Since when a machine has the value that it has now."""
    since, now = told[-1].at, told[-1].values.get(name)
    for row in reversed(told):
        if row.values.get(name) != now:
            break
        since = row.at
    return since
