"""What can be done about a notice at once, and doing it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.access.rights import Right
from chronarch.core.machines.states import BuildState, MachineState
from chronarch.core.notices.kinds import KINDS, NoticeAct, NoticeKind
from chronarch.core.watching.suspicion import KINDS as OF_BUILDS
from chronarch.core.watching.suspicion import FailureMode
from chronarch.records import tables as t
from chronarch.records.notices.telling import What, heard_of, tell, untell
from chronarch.service.context import ServiceContext, part
from chronarch.service.control.builds import have_done
from chronarch.service.control.leave_out import leave_out
from chronarch.service.library.content_store import ContentStore
from chronarch.service.library.readers import ContentReaders
from chronarch.service.machines.fleet import Fleet
from chronarch.service.principals import Principal
from chronarch.service.problems import ApiProblem
from chronarch.service.watching.answering import answer_suspicion, say_missed
from chronarch.service.whereabouts import of_number
from chronarch.wire.control import commands as c

WORDS = {
    NoticeAct.GOING: "I'm going",
    NoticeAct.PAUSE: "Pause it",
    NoticeAct.RESUME: "Resume",
    NoticeAct.LEAVE_OUT: "Leave it out, go on",
    NoticeAct.STOP: "Stop it",
    NoticeAct.FALSE_ALARM: "False alarm",
    NoticeAct.MISSED: "The watch missed something",
}
AT_MACHINES = frozenset({NoticeAct.PAUSE, NoticeAct.RESUME, NoticeAct.LEAVE_OUT, NoticeAct.STOP})


@dataclass(frozen=True)
class Stand:
    """How what a notice is about stands now."""

    notice: t.Notice
    build: t.Build | None = None
    suspicion: t.Suspicion | None = None
    machine: str = ""
    pauses: int = 0
    """How often the build was paused so far."""

    @property
    def mark(self) -> str:
        """Differs once the build has been paused, resumed or has ended: what was decided before may be wrong then."""
        if self.build is None:
            return ""
        under_way = self.build.state in (BuildState.STARTING, BuildState.BUILDING)
        return f"{'under way' if under_way else self.build.state} {self.pauses}"


async def stands(db: AsyncSession, notice: t.Notice) -> Stand:
    build = await db.get(t.Build, notice.build_id, populate_existing=True) if notice.build_id else None
    suspicion = await db.get(t.Suspicion, notice.suspicion_id) if notice.suspicion_id else None
    machine = await db.get(t.Machine, notice.machine_id) if notice.machine_id else None
    paused = select(func.count()).where(t.Ledger.build_id == notice.build_id, t.Ledger.state == MachineState.PAUSED)
    pauses = (await db.execute(paused)).scalar_one() if build else 0
    return Stand(notice, build, suspicion, machine.name if machine else "", pauses)


async def frame_of(db: AsyncSession, stand: Stand) -> t.Frame | None:
    """The frame that shows what a notice is about, or else the newest that is kept of its build."""
    if stand.notice.frame_id is not None:
        return await db.get(t.Frame, stand.notice.frame_id)
    if stand.build is None:
        return None
    newest = select(t.Frame).where(t.Frame.build_id == stand.build.id).order_by(t.Frame.at.desc()).limit(1)
    return (await db.execute(newest)).scalar_one_or_none()


def place_in(stand: Stand) -> list[float] | None:
    """The place in that frame that it is about, if it is about one."""
    return stand.suspicion.place if stand.suspicion and stand.notice.frame_id is not None else None


def possible(stand: Stand) -> list[NoticeAct]:
    """What can be done now."""
    row, build = stand.notice, stand.build
    under_way = build is not None and build.state in (BuildState.STARTING, BuildState.BUILDING)
    paused = build is not None and build.state == BuildState.PAUSED
    still = row.closed_at is None
    now = {
        NoticeAct.GOING: still and row.taken_at is None,
        NoticeAct.PAUSE: under_way,
        NoticeAct.RESUME: paused,
        NoticeAct.LEAVE_OUT: (under_way or paused) and bool(stand.suspicion and stand.suspicion.object),
        NoticeAct.STOP: under_way or paused,
        NoticeAct.FALSE_ALARM: stand.suspicion is not None and stand.suspicion.right is None,
        NoticeAct.MISSED: build is not None,
    }
    return [act for act in KINDS[NoticeKind(row.kind)].acts if now[act]]


def sentence(act: NoticeAct, stand: Stand) -> str:
    """What will happen, in words."""
    build = f"build {stand.build.id} on {stand.machine}" if stand.build else stand.machine
    thing = stand.suspicion.object if stand.suspicion else ""
    return {
        NoticeAct.GOING: "The others are told that you go.",
        NoticeAct.PAUSE: f"Pauses {build}: it stops at the next line, lifts and parks, and keeps its heat.",
        NoticeAct.RESUME: f"Resumes {build}: it goes on with the very next line.",
        NoticeAct.LEAVE_OUT: f"Leaves {thing} out of {build} from the next layer on; the rest is laid as before.",
        NoticeAct.STOP: f"Stops {build} for good: heaters off, head parked. What is laid so far is lost.",
        NoticeAct.FALSE_ALARM: "Says that nothing is wrong. The watch learns from it; a paused build stays paused.",
        NoticeAct.MISSED: f"Says that {build} went wrong, as the picture shows. The watch learns from it.",
    }[act]


@dataclass
class NoticeActs:
    """Does what can be done about notices."""

    context: ServiceContext
    fleet: Fleet
    contents: ContentStore
    readers: ContentReaders

    async def do(self, number: int, act: NoticeAct, who: Principal, mode: FailureMode | None = None) -> str:
        """Do it, and say what is true now; `mode` is what the watch has missed. Raises ApiProblem (403, 404, 409, 422,
        503)."""
        who.must(Right.OPERATE)
        async with self.context.sessions() as db:
            row = await db.get(t.Notice, number)
            if row is None:
                raise ApiProblem(404, f"There is no notice {number}; `chronarch notices list` shows the newest.")
            who.must(Right.OPERATE, await of_number(db, row.machine_id))
            stand = await stands(db, row)
        if act not in possible(stand):
            raise ApiProblem(409, why_not(act, stand))
        build, by = stand.build, who.signature
        if act is NoticeAct.GOING:
            return await self._take(number, who)
        if act is NoticeAct.FALSE_ALARM:
            assert stand.suspicion is not None
            async with self.context.sessions() as db:
                await answer_suspicion(db, stand.suspicion.id, right=False, by=by, at=self.context.clock.now())
            return "Said to be a false alarm."
        assert build is not None
        if act is NoticeAct.MISSED:
            if mode not in OF_BUILDS:
                raise ApiProblem(422, f"Say what the watch has missed: {', '.join(OF_BUILDS)}.")
            async with self.context.sessions() as db:
                shown = await frame_of(db, stand)
                at = self.context.clock.now()
                await say_missed(db, build.id, mode, frame=shown.id if shown else None, by=by, at=at)
            return f"Noted: {mode}. The frames of build {build.id} are kept as labelled ones."
        if act is NoticeAct.LEAVE_OUT:
            assert stand.suspicion is not None
            told = await leave_out(
                self.context, self.fleet, self.contents, self.readers, build.id, [stand.suspicion.object], by
            )
            return f"{', '.join(told.objects)} is left out from layer {told.from_layer} on."
        commands: dict[NoticeAct, c.BuildCommand] = {
            NoticeAct.PAUSE: c.Pause(reason=f"asked for by {by}"),
            NoticeAct.RESUME: c.Resume(),
            NoticeAct.STOP: c.Stop(reason=f"asked for by {by}"),
        }
        after = await have_done(self.context, self.fleet, build.id, commands[act], by)
        return f"Build {after.id} on {after.machine} is {after.state}."

    async def _take(self, number: int, who: Principal) -> str:
        now = self.context.clock.now()
        async with self.context.sessions() as db:
            row = await db.get_one(t.Notice, number, with_for_update=True, populate_existing=True)
            if row.taken_at is not None:
                raise ApiProblem(409, f"{row.taken_by} goes already, and has said so before you.")
            row.taken_at, row.taken_by, row.taker_id = now, who.signature, who.person or None
            others = [one for one in await heard_of(db, number) if not who.person or one.person_id != who.person]
            await tell(db, number, dict.fromkeys((one.id for one in others), now), What.TAKEN)
            await db.commit()
        return "The others are told that you go."

    async def give_back(self, number: int, who: Principal) -> None:
        """Somebody does not go after all. Raises ApiProblem (404, 409)."""
        async with self.context.sessions() as db:
            row = await db.get(t.Notice, number, with_for_update=True)
            if row is None or row.taken_at is None:
                raise ApiProblem(409 if row else 404, f"Nobody has taken notice {number}.")
            row.taken_at, row.taken_by, row.taker_id = None, "", None
            await untell(db, number, What.TAKEN)
            await db.commit()


def why_not(act: NoticeAct, stand: Stand) -> str:
    """Why something can no longer be done."""
    row, build = stand.notice, stand.build
    if act is NoticeAct.GOING and row.taken_at is not None:
        return f"{row.taken_by} goes already."
    if act in AT_MACHINES and build is not None:
        how = f"has ended ({build.outcome})" if build.state == BuildState.ENDED else f"is {build.state}"
        return f"Build {build.id} on {stand.machine} {how} by now; nothing was done."
    if act is NoticeAct.FALSE_ALARM and stand.suspicion is not None and stand.suspicion.right is not None:
        return f"{stand.suspicion.answered_by or 'Somebody'} has answered that already."
    return "This is over; nothing was done." if row.closed_at else "That cannot be done about this notice."


TheNoticeActs = Annotated[NoticeActs, part(NoticeActs)]
