"""Writes what tenders tell of their machines into the records."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.control.events import (
    Adjusted,
    BuildBegan,
    BuildEnded,
    BuildPaused,
    BuildResumed,
    ControlEvent,
    EnergyUsed,
    LayersLaid,
    Levelled,
    MachineStands,
    Noticed,
    SettingsTold,
    StateChanged,
)
from chronarch.core.machines.states import MachineState
from chronarch.core.notices.kinds import Gravity, NoticeKind
from chronarch.records.control.tables import BuildChange, Tender
from chronarch.records.ledger import build_steps, energy, roll_call
from chronarch.records.ledger.build_steps import notice_of
from chronarch.records.ledger.intervals import enter_state
from chronarch.records.machines import fleet_facts
from chronarch.records.machines.tables import BedMesh, Machine
from chronarch.records.notices.opening import close_notice
from chronarch.records.orders import build_layers
from chronarch.records.orders.tables import Build

ABOUT = {
    "machine": NoticeKind.MACHINE_ASKS, "heaters": NoticeKind.HEATERS, "power": NoticeKind.POWER,
    "file": NoticeKind.FILE_SAYS, "readings": NoticeKind.ODD_READINGS,
}  # fmt: skip


async def commit_event(
    db: AsyncSession, tender: str, epoch: str, sequence: int, machine: str, at: datetime, body: ControlEvent | None
) -> bool:
    """Apply an event of a tender at one of its machines and remember its number, in one transaction, committed here.
    Without a `body` only the number is remembered. Returns False when it was applied before: then nothing changes."""
    row = (await db.execute(select(Tender).where(Tender.name == tender).with_for_update())).scalar_one()
    if row.epoch != epoch:
        row.epoch, row.committed = epoch, 0
    if sequence <= row.committed:
        return False
    row.committed = sequence
    # The machine's row is locked before what refers to it is written, which would only share it and then want it all:
    # with somebody waiting between, that is a deadlock.
    own = select(Machine).where(Machine.name == machine, Machine.tender_id == row.id)
    found = (await db.execute(own.with_for_update())).scalar_one_or_none()
    if found is not None and body is not None:
        await _apply(db, found, at, await _of_known_build(db, found, body))
    await db.commit()
    return True


async def _of_known_build(db: AsyncSession, machine: Machine, body: ControlEvent) -> ControlEvent:
    """The same of no build, where the records have not got the build that it names: they were restored meanwhile."""
    if isinstance(body, StateChanged | Noticed | EnergyUsed) and body.build is not None:
        mine = select(Build.id).where(Build.id == body.build, Build.machine_id == machine.id)
        if (await db.execute(mine)).scalar_one_or_none() is None:
            return replace(body, build=None)
    return body


async def _apply(db: AsyncSession, machine: Machine, at: datetime, body: ControlEvent) -> None:
    match body:
        case StateChanged() if machine.unsure is not None:
            pass  # how the machine stands is told when the roll is called
        case StateChanged():
            await enter_state(db, machine, at, body.state, body.reason, body.build)
            if body.state is MachineState.IDLE:
                machine.strange_build = None
            if body.state is MachineState.DOWN:
                text = f"{machine.name} is down: {body.reason}"
                await notice_of(db, NoticeKind.MACHINE_DOWN, machine, at, text, body.build, subject=machine.id)
            else:
                await close_notice(db, NoticeKind.MACHINE_DOWN, machine.id, at)
        case BuildBegan():
            await build_steps.begin(db, machine, at, body.build)
        case BuildPaused():
            await build_steps.pause(db, machine, at, body.build, body.reason, body.by_itself)
        case BuildResumed():
            await build_steps.resume(db, at, body.build)
        case BuildEnded():
            await build_steps.end(db, machine, at, body)
        case Noticed():
            gravity = Gravity.NOTE if body.note else None
            await notice_of(
                db, ABOUT[body.about], machine, at, f"{machine.name}: {body.text}", body.build, gravity=gravity
            )
        case Adjusted():
            if await db.get(Build, body.build) is not None:
                db.add(BuildChange(build_id=body.build, at=at, text=body.text[:300], by=body.by[:120]))
        case LayersLaid():
            if await db.get(Build, body.build) is not None:
                await build_layers.add(db, body.build, body.layers)
        case EnergyUsed():
            await energy.add(db, machine.id, min(body.begin, at), at, body.state, body.build, max(0.0, body.wh))
        case Levelled():
            await db.merge(BedMesh(machine_id=machine.id, at=at, rows=[list(row) for row in body.rows]))
        case MachineStands():
            await roll_call.answered(db, machine, at, body)
        case SettingsTold():
            await fleet_facts.settings_told(db, machine.id, at, body.values)
