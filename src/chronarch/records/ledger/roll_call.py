"""What becomes of a machine whose records were restored, once its tender has told how it stands.

What is on its bed is taken up again if the records know it. A build that they have open, and that is not on the bed any
more, is over: nobody can say how, so a person judges it. A build that began after the copy was made is in no records;
the machine stands as it does, and its bed is cleared by putting it back.
"""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.control.events import BuildOnBed, MachineStands
from chronarch.core.machines.states import BuildState, MachineState, Outcome
from chronarch.core.notices.kinds import NoticeKind
from chronarch.records.ledger import build_steps
from chronarch.records.ledger.intervals import enter_state
from chronarch.records.machines.tables import Machine
from chronarch.records.orders.tables import Build

OVER = "it was over when the records had been restored; how it ended is not known"
STRANGE = "build {}, which the restored records do not know; once the bed is clear, put the machine back"
ON_BED = (MachineState.COOLING, MachineState.UNCLEARED)


async def answered(db: AsyncSession, machine: Machine, at: datetime, told: MachineStands) -> None:
    """Bring the records of a machine up to date. An answer to an earlier roll call changes nothing."""
    if machine.unsure != told.number:
        return
    machine.unsure = None
    if told.state is None:  # this tender minds it for the first time: it is told all, and tells the rest
        return
    known = (await db.execute(select(Build).where(Build.open_machine == machine.id))).scalar_one_or_none()
    bed = told.bed
    if known is not None and (bed is None or bed.build != known.id):
        await _close(db, machine, known)
        known = None
    if known is not None and bed is not None:
        await _take_up(db, machine, known, bed, told.state)
    machine.strange_build = bed.build if bed is not None and known is None else None
    reason = STRANGE.format(bed.build) if bed is not None and known is None else told.reason
    await enter_state(db, machine, at, told.state, reason, known.id if known is not None else None)


async def _close(db: AsyncSession, machine: Machine, build: Build) -> None:
    """A build is over, and off the bed, as of when its machine was seen last."""
    if build.state != BuildState.ENDED:
        build.state, build.outcome, build.reason = BuildState.ENDED, Outcome.FAILED, OVER
        build.ended_at = machine.since
    build.cleared_at = machine.since
    text = f"Build {build.id} on {machine.name}: {OVER}. Judge it."
    await build_steps.notice_of(
        db, NoticeKind.BUILD_FAILED, machine, machine.since, text, build.id, subject=build.id
    )  # fmt: skip


async def _take_up(db: AsyncSession, machine: Machine, build: Build, bed: BuildOnBed, state: MachineState) -> None:
    """A build that the records know is on the bed still: write what became of it since."""
    seen = machine.since
    if bed.begun_at is not None and build.started_at is None:
        await build_steps.begin(db, machine, max(bed.begun_at, seen), build.id)
    if build.started_at is None or (build.ended_at is not None and build.ended_at <= seen):
        return
    await enter_state(db, machine, max(build.started_at, seen), MachineState.BUILDING, "", build.id)
    if bed.ended is not None and build.state != BuildState.ENDED:
        await build_steps.end(db, machine, max(bed.ended_at or seen, seen, build.started_at), bed.ended)
    if build.ended_at is not None:
        lies = state if state in ON_BED else MachineState.UNCLEARED
        await enter_state(db, machine, build.ended_at, lies, build.reason, build.id)
    elif bed.paused is not None and build.state != BuildState.PAUSED:
        await build_steps.pause(db, machine, seen, build.id, bed.paused, by_itself=False)
    elif bed.paused is None and build.state == BuildState.PAUSED:
        await build_steps.resume(db, seen, build.id)
