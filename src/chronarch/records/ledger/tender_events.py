"""Writes what tenders tell of their machines into the records."""

from __future__ import annotations

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
    Noticed,
    SettingsTold,
    StateChanged,
)
from chronarch.core.machines.materials import grams
from chronarch.core.machines.states import BUILD, BuildEvent, BuildState, MachineState, Outcome, WrongState, after
from chronarch.core.notices.kinds import Gravity, NoticeKind
from chronarch.records.control.tables import BuildChange, Tender
from chronarch.records.ledger import energy
from chronarch.records.ledger.intervals import enter_state
from chronarch.records.library.tables import ContentReading
from chronarch.records.machines import fleet_facts, spools
from chronarch.records.machines.tables import BedMesh, Machine, Model
from chronarch.records.notices.opening import close_notice, open_notice
from chronarch.records.orders import build_layers, build_uses
from chronarch.records.orders.tables import Build, Job

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
        await _apply(db, found, at, body)
    await db.commit()
    return True


async def _apply(db: AsyncSession, machine: Machine, at: datetime, body: ControlEvent) -> None:
    match body:
        case StateChanged():
            await enter_state(db, machine, at, body.state, body.reason, body.build)
            if body.state is MachineState.DOWN:
                text = f"{machine.name} is down: {body.reason}"
                await _notice(db, NoticeKind.MACHINE_DOWN, machine, at, text, body.build, subject=machine.id)
            else:
                await close_notice(db, NoticeKind.MACHINE_DOWN, machine.id, at)
        case BuildBegan():
            build = await _step(db, body.build, BuildEvent.BEGIN)
            if build:
                build.started_at = at
                await build_uses.begin(db, machine, build.id)
                text = f"{machine.name} starts build {build.id}"
                await _notice(db, NoticeKind.BUILD_STARTED, machine, at, text, build.id)
        case BuildPaused():
            build = await _step(db, body.build, BuildEvent.PAUSE)
            if build:
                build.reason = body.reason[:300]
                who = "paused itself" if body.by_itself else "is paused"
                text = f"{machine.name} {who}: {body.reason}"
                gravity = None if body.by_itself else Gravity.NOTE
                await _notice(
                    db, NoticeKind.BUILD_PAUSED, machine, at, text, body.build, subject=body.build, gravity=gravity
                )
        case BuildResumed():
            build = await _step(db, body.build, BuildEvent.RESUME)
            if build:
                build.reason = ""
                await close_notice(db, NoticeKind.BUILD_PAUSED, build.id, at)
        case BuildEnded():
            await _end(db, machine, at, body)
        case Noticed():
            gravity = Gravity.NOTE if body.note else None
            await _notice(
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
        case SettingsTold():
            await fleet_facts.settings_told(db, machine.id, at, body.values)


async def _step(db: AsyncSession, number: int, event: BuildEvent) -> Build | None:
    build = await db.get(Build, number)
    if build is None:
        return None
    try:
        build.state = after(BUILD, BuildState(build.state), event)
    except WrongState:
        return None
    return build


async def _end(db: AsyncSession, machine: Machine, at: datetime, body: BuildEnded) -> None:
    build = await _step(db, body.build, BuildEvent.END)
    if build is None:
        return
    build.outcome, build.reason, build.ended_at = body.outcome, body.reason[:300], at
    build.acknowledged = body.acknowledged
    laid = await _laid(db, build, machine, body.filament_mm)
    build.grams = sum(laid.values())
    await build_uses.end(db, machine, build.id, laid)
    await spools.use(db, machine, laid, at, build.id)
    await close_notice(db, NoticeKind.BUILD_PAUSED, build.id, at)
    text = f"Build {build.id} on {machine.name}"
    if body.outcome is Outcome.FAILED:
        text = f"{text} failed: {body.reason}"
        await _notice(db, NoticeKind.BUILD_FAILED, machine, at, text, build.id, subject=build.id)
    else:
        await _notice(db, NoticeKind.BUILD_ENDED, machine, at, f"{text} {body.outcome}.", build.id)


async def _laid(db: AsyncSession, build: Build, machine: Machine, filament_mm: float) -> dict[int, float]:
    """Grams that a build laid with each tool. The tender says mm of all tools; each tool's share is what it has of the
    whole file, which is exact for a completed build."""
    job = await db.get_one(Job, build.job_id)
    loaded = {tool.get("number", 0): tool["material"] for tool in machine.tools}
    query = (
        select(ContentReading.figures)
        .join(Model, Model.name == ContentReading.model)
        .where(Model.id == machine.model_id, ContentReading.sha256 == (build.fed_sha256 or build.sha256))
    )
    figures = (await db.execute(query)).scalar_one_or_none() or {}
    by_tool = {int(n): mm for n, mm in figures.get("filament_mm", {}).items()} or dict.fromkeys(list(loaded)[:1], 1.0)
    whole = sum(by_tool.values()) or 1.0
    wanted = job.requirement.get("material")
    return {n: grams(wanted or loaded.get(n, ""), filament_mm * mm / whole) for n, mm in by_tool.items()}


async def _notice(
    db: AsyncSession, kind: NoticeKind, machine: Machine, at: datetime, text: str, build: int | None, *,
    subject: object = "", gravity: Gravity | None = None,
) -> None:  # fmt: skip
    await open_notice(db, kind, at, text, subject=subject, gravity=gravity, machine_id=machine.id, build_id=build)
