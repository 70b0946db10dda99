"""The steps of a build's life in the records: begun, paused, resumed, ended."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.control.events import BuildEnded
from chronarch.core.machines.states import BUILD, BuildEvent, BuildState, Outcome, WrongState, after
from chronarch.core.notices.kinds import Gravity, NoticeKind
from chronarch.records.library.tables import ContentReading
from chronarch.records.machines import spools
from chronarch.records.machines.materials import load_materials
from chronarch.records.machines.tables import Machine, Model
from chronarch.records.notices.opening import close_notice, open_notice
from chronarch.records.orders import build_uses
from chronarch.records.orders.tables import Build, Job


async def begin(db: AsyncSession, machine: Machine, at: datetime, number: int) -> None:
    """The first line of a build is on its way."""
    build = await step(db, number, BuildEvent.BEGIN)
    if build:
        build.started_at = at
        await build_uses.begin(db, machine, build.id)
        await notice_of(db, NoticeKind.BUILD_STARTED, machine, at, f"{machine.name} starts build {build.id}", build.id)


async def pause(db: AsyncSession, machine: Machine, at: datetime, number: int, reason: str, by_itself: bool) -> None:
    """A build has been paused; `by_itself` when no person asked for it."""
    build = await step(db, number, BuildEvent.PAUSE)
    if build:
        build.reason = reason[:300]
        text = f"{machine.name} {'paused itself' if by_itself else 'is paused'}: {reason}"
        gravity = None if by_itself else Gravity.NOTE
        await notice_of(db, NoticeKind.BUILD_PAUSED, machine, at, text, number, subject=number, gravity=gravity)


async def resume(db: AsyncSession, at: datetime, number: int) -> None:
    """A build goes on."""
    build = await step(db, number, BuildEvent.RESUME)
    if build:
        build.reason = ""
        await close_notice(db, NoticeKind.BUILD_PAUSED, build.id, at)


async def step(db: AsyncSession, number: int, event: BuildEvent) -> Build | None:
    """Take a build a step on; None where there is none, or it cannot."""
    build = await db.get(Build, number)
    if build is None:
        return None
    try:
        build.state = after(BUILD, BuildState(build.state), event)
    except WrongState:
        return None
    return build


async def end(db: AsyncSession, machine: Machine, at: datetime, body: BuildEnded) -> None:
    """A build is over: its row, what it laid, and who is told."""
    build = await step(db, body.build, BuildEvent.END)
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
        await notice_of(db, NoticeKind.BUILD_FAILED, machine, at, text, build.id, subject=build.id)
    else:
        await notice_of(db, NoticeKind.BUILD_ENDED, machine, at, f"{text} {body.outcome}.", build.id)


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
    grams = (await load_materials(db)).grams
    return {n: grams(wanted or loaded.get(n, ""), filament_mm * mm / whole) for n, mm in by_tool.items()}


async def notice_of(
    db: AsyncSession, kind: NoticeKind, machine: Machine, at: datetime, text: str, build: int | None, *,
    subject: object = "", gravity: Gravity | None = None,
) -> None:  # fmt: skip
    await open_notice(db, kind, at, text, subject=subject, gravity=gravity, machine_id=machine.id, build_id=build)
