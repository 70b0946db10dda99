"""Changing records where more than one row must change together."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.exc import IntegrityError, OperationalError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.copies import next_copy
from chronarch.core.fleet import grams
from chronarch.core.happenings import (
    Adjusted,
    BuildBegan,
    BuildEnded,
    BuildPaused,
    BuildResumed,
    Happening,
    Levelled,
    Noticed,
    StateChanged,
)
from chronarch.core.ledger import OPEN_END
from chronarch.core.states import BUILD, BuildEvent, BuildState, MachineState, Outcome, WrongState, after
from chronarch.records import spools
from chronarch.records.database import deadlocked
from chronarch.records.tables import (
    Build,
    BuildChange,
    ContentReading,
    Job,
    Ledger,
    LevelMap,
    Machine,
    Notice,
    Revision,
    Tender,
)

CLAIM_TRIES = 5


async def claim(
    db: AsyncSession,
    job: Job,
    content: Revision,
    reading: ContentReading,
    machine: Machine,
    now: datetime,
    pieces: int = 1,
) -> Build | None:
    """Give the next waiting copy of a job to a machine, to be made from a revision as it reads on the machine's model
    and yields so many `pieces`, in one transaction that is committed here.

    None when somebody else was quicker: the constraints let one win.
    """
    job_id, copies = job.id, job.copies - job.from_stock
    fields = {
        "job_id": job_id,
        "machine_id": machine.id,
        "file_id": content.file_id,
        "revision": content.number,
        "sha256": content.sha256,
        "state": BuildState.STARTING,
        "claimed_at": now,
        "commands": reading.figures["commands"],
        "planned_s": reading.planned_s,
        "pieces": pieces,
    }
    yields = func.coalesce(Build.good_pieces, Build.pieces)
    live = select(Build.live_copy, yields).where(Build.job_id == job_id, Build.live_copy.is_not(None))
    for more in reversed(range(CLAIM_TRIES)):
        try:
            taken = {copy: many for copy, many in await db.execute(live) if copy is not None}
            number = next_copy(copies, taken)
            if number is None or sum(taken.values()) >= copies:
                return None
            build = Build(**fields, copy_number=number)
            db.add(build)
            await db.commit()
            return build
        except IntegrityError:
            await db.rollback()
            return None
        except OperationalError as error:
            await db.rollback()
            if not (more and deadlocked(error)):
                raise
    raise AssertionError("unreachable")


async def enter_state(
    db: AsyncSession, machine: Machine, at: datetime, state: MachineState, reason: str, build: int | None
) -> None:
    """Write a machine's new state into its row and the ledger: the open interval ends where the new one begins."""
    last = (
        await db.execute(
            select(Ledger).where(Ledger.machine_id == machine.id, Ledger.end_at == OPEN_END).with_for_update()
        )
    ).scalar_one_or_none()
    machine.reason = reason[:300]
    if last is not None and last.state == state and last.build_id == build:
        machine.state = state
        return
    if last is not None:
        at = max(at, last.begin_at)
        if last.begin_at == at:
            await db.delete(last)
        else:
            last.end_at = at
        await db.flush()
    machine.state, machine.since = state, at
    db.add(Ledger(machine_id=machine.id, state=state, begin_at=at, end_at=OPEN_END, build_id=build))


async def commit_event(
    db: AsyncSession, tender: str, epoch: str, sequence: int, machine: str, at: datetime, body: Happening | None
) -> bool:
    """Apply one of a tender's events at one of its own machines and remember that it was, in one transaction, committed
    here; without a `body` it is only remembered. False when it had been applied before: nothing changes then."""
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


async def _apply(db: AsyncSession, machine: Machine, at: datetime, body: Happening) -> None:
    match body:
        case StateChanged():
            await enter_state(db, machine, at, body.state, body.reason, body.build)
            if body.state is MachineState.DOWN:
                _notice(db, machine, at, body.build, "alarm", f"{machine.name} is down: {body.reason}")
        case BuildBegan():
            build = await _step(db, body.build, BuildEvent.BEGIN)
            if build:
                build.started_at = at
        case BuildPaused():
            build = await _step(db, body.build, BuildEvent.PAUSE)
            if build:
                build.reason = body.reason[:300]
                if body.by_itself:
                    _notice(db, machine, at, body.build, "alarm", f"{machine.name} paused itself: {body.reason}")
        case BuildResumed():
            build = await _step(db, body.build, BuildEvent.RESUME)
            if build:
                build.reason = ""
        case BuildEnded():
            await _end(db, machine, at, body)
        case Noticed():
            _notice(db, machine, at, body.build, "note" if body.note else "alarm", f"{machine.name}: {body.text}")
        case Adjusted():
            if await db.get(Build, body.build) is not None:
                db.add(BuildChange(build_id=body.build, at=at, text=body.text[:300], by=body.by[:120]))
        case Levelled():
            await db.merge(LevelMap(machine_id=machine.id, at=at, rows=[list(row) for row in body.rows]))


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
    job = await db.get_one(Job, build.job_id)
    loaded = next((tool["material"] for tool in machine.tools), "")
    build.outcome, build.reason, build.ended_at = body.outcome, body.reason[:300], at
    build.acknowledged = body.acknowledged
    build.grams = grams(job.requirement.get("material") or loaded, body.filament_mm)
    await spools.use(db, machine, build.grams, at, build.id)
    if body.outcome is Outcome.FAILED:
        _notice(db, machine, at, build.id, "alarm", f"Build {build.id} on {machine.name} failed: {body.reason}")
    else:
        _notice(db, machine, at, build.id, "note", f"Build {build.id} on {machine.name} {body.outcome}.")


def _notice(db: AsyncSession, machine: Machine, at: datetime, build: int | None, severity: str, text: str) -> None:
    db.add(Notice(at=at, machine_id=machine.id, build_id=build, severity=severity, text=text))
