"""Answers what people write to the shop in a chat, with the rights that they have."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import NamedTuple

from sqlalchemy import select

from chronarch.core.access.rights import Right
from chronarch.core.notices.chat_words import LONGEST, ChatAsk, ChatVerb, understood
from chronarch.core.notices.kinds import NoticeAct
from chronarch.records import tables as t
from chronarch.records.access.holding import held_by
from chronarch.records.audit import Act
from chronarch.service.audit_log import AuditLog
from chronarch.service.context import ServiceContext
from chronarch.service.control.builds import have_done
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.notices.acts import NoticeActs
from chronarch.service.planning.planner import Planner
from chronarch.service.principals import Principal
from chronarch.service.problems import ApiProblem
from chronarch.service.rounds.tasks import rounds
from chronarch.service.watching.answering import say_missed
from chronarch.service.whereabouts import of_machine
from chronarch.wire.control import commands as c
from chronarch.wire.notices.channels import ChannelKind

SURE_WITHIN = timedelta(minutes=2)
"""Real time: how long a second word may take."""
MOST_LINES, MOST_TASKS = 30, 8
HELP = (
    "I understand: status · status Anchor · what next · why 228 (a job) · picture Anchor · pause Anchor · "
    "resume Anchor · stop Anchor · going 31 (a notice) · false alarm 31 · missed tangle Anchor."
)


class ChatAnswer(NamedTuple):
    """What is answered, with a picture (a JPEG) where one was asked for."""

    text: str
    picture: bytes = b""


@dataclass(frozen=True)
class _Pending:
    """A build that is to be stopped, until the second word comes. Times are real."""

    machine: str
    build: int
    until: datetime


@dataclass
class ChatAnswers:
    """`pending` is by person: what a second word is wanted for."""

    context: ServiceContext
    fleet: Fleet
    planner: Planner
    acts: NoticeActs
    audit: AuditLog
    pending: dict[int, _Pending] = field(default_factory=dict)

    async def answer(self, address: str, text: str, late: bool = False) -> ChatAnswer | None:
        """What somebody at an address is answered; None for a stranger, who gets not even that there is nobody. What
        was written while we were away (`late`) is not done: by now it may be wrong."""
        who = await self._whose(address)
        if who is None:
            return None
        if late:
            return ChatAnswer(f"You wrote {text[:LONGEST]!r} while I was away. Nothing was done; write it again.")
        asked = understood(text)
        if asked is None:
            return ChatAnswer(f"I do not understand that. {HELP}")
        answered, changes = self._table()[asked.verb]
        if changes and not who.may(Right.OPERATE):
            return ChatAnswer("You may only look; ask for the right to operate machines.")
        if asked.verb is not ChatVerb.YES:
            self.pending.pop(who.person, None)
        try:
            if not changes:
                return await answered(asked, who)
            act = Act(self.context.clock.real_now(), who.identity, f"chat: {asked.verb}", text[:LONGEST])
            async with self.audit.telling(act):
                return await answered(asked, who)
        except ApiProblem as error:
            return ChatAnswer(str(error))

    async def _whose(self, address: str) -> Principal | None:
        query = (
            select(t.Person)
            .join(t.Channel, t.Channel.person_id == t.Person.id)
            .where(t.Channel.kind == ChannelKind.CHAT, t.Channel.shown == address.lower(), t.Channel.on)
        )
        async with self.context.sessions() as db:
            people = (await db.execute(query.distinct().limit(2))).scalars().all()
            if len(people) != 1:
                return None
            (person,) = people
            return Principal(person.name, await held_by(db, person.id), person=person.id)

    def _table(self) -> dict[ChatVerb, tuple[Callable[[ChatAsk, Principal], Awaitable[ChatAnswer]], bool]]:
        """Who answers what, and whether it changes something, and so wants the right to."""
        return {
            ChatVerb.HELP: (self._help, False),
            ChatVerb.STATUS: (self._status, False),
            ChatVerb.NEXT: (self._next, False),
            ChatVerb.WHY: (self._why, False),
            ChatVerb.PICTURE: (self._picture, False),
            ChatVerb.PAUSE: (self._pause_or_resume, True),
            ChatVerb.RESUME: (self._pause_or_resume, True),
            ChatVerb.STOP: (self._stop, True),
            ChatVerb.GOING: (self._act, True),
            ChatVerb.FALSE_ALARM: (self._act, True),
            ChatVerb.MISSED: (self._missed, True),
            ChatVerb.YES: (self._yes, True),
        }

    async def _help(self, asked: ChatAsk, who: Principal) -> ChatAnswer:
        return ChatAnswer(HELP)

    async def _status(self, asked: ChatAsk, who: Principal) -> ChatAnswer:
        machines = [self.fleet.find(asked.about)] if asked.about else self.fleet.all()
        lines = [self._line(known) for known in machines[:MOST_LINES]]
        if len(machines) > MOST_LINES:
            lines.append(f"… and {len(machines) - MOST_LINES} more.")
        return ChatAnswer("\n".join(lines) or "There are no machines yet.")

    def _line(self, known: FleetMachine) -> str:
        shown = self.fleet.view(known)
        text = f"{shown.name}: {shown.state}"
        build = shown.build
        if build is not None and build.outcome is None:
            text += f", {build.file} at {build.progress:.0%}"
            if build.expected_end is not None:
                text += f", done at {self.fleet.words(build.expected_end, self.context.clock.now())}"
        elif build is not None:
            text += f", {build.file} {build.outcome}"
        return f"{text} ({shown.reason})" if shown.reason else text

    async def _next(self, asked: ChatAsk, who: Principal) -> ChatAnswer:
        planned, now = await self.planner.shown(), self.context.clock.now()
        async with self.context.sessions() as db:
            found = await rounds(now, self.fleet, planned, db)
        lines = [
            f"{task.machine}{f' ({task.place})' if task.place else ''}: {task.text}"
            for task in sorted(found.tasks, key=lambda task: task.walk)[:MOST_TASKS]
        ]
        if not lines and found.coming:
            soonest = found.coming[0]
            lines = [f"Nothing now; {soonest.machine} at {self.fleet.words(soonest.at, now)}: {soonest.what}"]
        return ChatAnswer("\n".join(lines) or "Nothing waits for hands.")

    async def _why(self, asked: ChatAsk, who: Principal) -> ChatAnswer:
        waiting = (await self.planner.shown()).waiting.get(int(asked.about))
        if waiting is None:
            return ChatAnswer(f"Nothing of job {asked.about} waits.")
        return ChatAnswer(f"Job {asked.about}, {waiting.name}: {self.planner.why(waiting)}")

    async def _picture(self, asked: ChatAsk, who: Principal) -> ChatAnswer:
        known = self.fleet.find(asked.about)
        if not known.frame or known.frame_at is None:
            return ChatAnswer(f"There is no picture of {known.row.name}.")
        at = self.fleet.words(known.frame_at, self.context.clock.now())
        return ChatAnswer(f"{known.row.name} at {at}", known.frame)

    def _building(self, machine: str, who: Principal) -> tuple[FleetMachine, int]:
        """The machine that is meant, and the number of its build. Raises ApiProblem (403, 404, 409)."""
        known = self.fleet.find(machine)
        who.must(Right.OPERATE, of_machine(known.row))
        if known.brief is None or known.brief.outcome is not None:
            raise ApiProblem(409, f"{known.row.name} builds nothing.")
        return known, known.brief.id

    async def _pause_or_resume(self, asked: ChatAsk, who: Principal) -> ChatAnswer:
        known, build = self._building(asked.about, who)
        by = who.signature
        command = c.Pause(reason=f"asked for by {by}") if asked.verb is ChatVerb.PAUSE else c.Resume()
        after = await have_done(self.context, self.fleet, build, command, by)
        return ChatAnswer(f"Build {after.id} on {known.row.name} is {after.state}.")

    async def _stop(self, asked: ChatAsk, who: Principal) -> ChatAnswer:
        known, build = self._building(asked.about, who)
        until = self.context.clock.real_now() + SURE_WITHIN
        self.pending[who.person] = _Pending(known.row.name, build, until)
        what = f"{known.brief.file}, {known.brief.progress:.0%} done" if known.brief else ""
        return ChatAnswer(
            f"Stop build {build} on {known.row.name} for good ({what})? What is laid so far is lost. "
            "Say yes within two minutes."
        )

    async def _yes(self, asked: ChatAsk, who: Principal) -> ChatAnswer:
        sure = self.pending.pop(who.person, None)
        if sure is None or sure.until < self.context.clock.real_now():
            return ChatAnswer("There is nothing to say yes to.")
        stop = c.Stop(reason=f"asked for by {who.signature}")
        after = await have_done(self.context, self.fleet, sure.build, stop, who.signature)
        return ChatAnswer(f"Build {after.id} on {sure.machine} is {after.outcome or after.state}.")

    async def _act(self, asked: ChatAsk, who: Principal) -> ChatAnswer:
        act = NoticeAct.GOING if asked.verb is ChatVerb.GOING else NoticeAct.FALSE_ALARM
        return ChatAnswer(await self.acts.do(int(asked.about), act, who))

    async def _missed(self, asked: ChatAsk, who: Principal) -> ChatAnswer:
        assert asked.mode is not None
        known = self.fleet.find(asked.about)
        who.must(Right.OPERATE, of_machine(known.row))
        if known.brief is None:
            raise ApiProblem(409, f"{known.row.name} has built nothing that could be meant.")
        async with self.context.sessions() as db:
            now, by = self.context.clock.now(), who.signature
            await say_missed(db, known.brief.id, asked.mode, frame=None, by=by, at=now)
        return ChatAnswer(f"Noted: the watch missed {asked.mode} in build {known.brief.id}. It learns from it.")
