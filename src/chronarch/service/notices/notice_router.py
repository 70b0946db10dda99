"""Decides who hears of what: for each notice once, in one transaction, so that nothing is lost or doubled whatever is
killed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Annotated

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.notices.kinds import AT_ONCE, KINDS, Gravity, NoticeKind
from chronarch.core.notices.notice_rules import DEFAULT_RULE, During, NoticeFacts, NoticeRule, matches, speaks_at
from chronarch.core.planning.shifts import Staffing
from chronarch.records import tables as t
from chronarch.records.notices.telling import What, tell
from chronarch.service.changes import Watch
from chronarch.service.context import ServiceContext, part
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.notices.settings import load_rules
from chronarch.service.planning.settings import PlanningSettings
from chronarch.service.planning.settings import load_settings as load_planning
from chronarch.wire.notices.channels import ChannelKind

LOOK_EVERY_S = 2.0
AT_A_TIME = 200
STEPS_FOR = timedelta(days=1)
"""A notice that nobody has taken for so long goes no further."""
AHEAD = timedelta(days=15)


@dataclass(frozen=True)
class Hearer:
    """A person, or the shop itself (None), with what it wants to hear of and the ways it is reached."""

    person: int | None
    rules: tuple[NoticeRule, ...]
    channels: dict[int, str]
    """Number and kind of each that is on."""

    def page(self) -> list[int]:
        return [n for n, kind in self.channels.items() if kind == ChannelKind.PAGE]

    def over(self, rule: NoticeRule) -> list[int]:
        """The channels of a rule; the page's bell for one that names none."""
        return [n for n in rule.channels if n in self.channels] if rule.channels else self.page()


@dataclass
class NoticeRouter:
    """`changed` wakes it when there are notices or rules that it has not seen."""

    context: ServiceContext
    fleet: Fleet
    changed: Watch

    async def look(self) -> None:
        """Decide about all notices that are new, over, or have waited for somebody to take them."""
        self.changed.take()
        more = True
        while more:
            async with self.context.sessions() as db:
                more = await self._route_some(db)
                await db.commit()
        async with self.context.sessions() as db:
            await self._go_further(db)
            await db.commit()

    async def _route_some(self, db: AsyncSession) -> bool:
        fresh = select(t.Notice).where(~t.Notice.routed).order_by(t.Notice.id).limit(AT_A_TIME)
        rows = (await db.execute(fresh)).scalars().all()
        over = await self._over(db)
        if not rows and not over:
            return False
        hearers, planning, machines = await self.hearers(db), await load_planning(db), self.machines()
        for row in rows:
            who = self._who(row, self.facts(row, machines), hearers, planning)
            await tell(db, row.id, who, What.OPENED)
            row.routed = True
        programs = {n for one in hearers for n, kind in one.channels.items() if kind == ChannelKind.WEBHOOK}
        for notice, heard in over.items():
            await tell(db, notice, dict.fromkeys(programs & heard, self.context.clock.now()), What.CLOSED)
        return len(rows) == AT_A_TIME

    async def _over(self, db: AsyncSession) -> dict[int, set[int]]:
        """Notices that are over and whose webhooks were not told so, with these channels."""
        opened, closed = t.Delivery, t.Delivery.__table__.alias("closed")
        query = (
            select(opened.notice_id, opened.channel_id)
            .join(t.Channel, t.Channel.id == opened.channel_id)
            .join(t.Notice, t.Notice.id == opened.notice_id)
            .outerjoin(
                closed,
                (closed.c.notice_id == opened.notice_id)
                & (closed.c.channel_id == opened.channel_id)
                & (closed.c.what == What.CLOSED),
            )
            .where(t.Channel.kind == ChannelKind.WEBHOOK, opened.what == What.OPENED, closed.c.id.is_(None))
            .where(t.Notice.closed_at > t.Notice.at, t.Notice.closed_at > self.context.clock.now() - STEPS_FOR)
            .limit(AT_A_TIME)
        )
        found: dict[int, set[int]] = {}
        for notice, channel in await db.execute(query):
            found.setdefault(notice, set()).add(channel)
        return found

    async def hearers(self, db: AsyncSession) -> list[Hearer]:
        """Everybody with their rules and channels. Each person has the page."""
        people = list((await db.execute(select(t.Person.id))).scalars())
        channels: dict[int | None, dict[int, str]] = {}
        query = select(t.Channel.person_id, t.Channel.id, t.Channel.kind).where(t.Channel.on)
        for person, number, kind in await db.execute(query.order_by(t.Channel.id)):
            channels.setdefault(person, {})[number] = kind
        have = select(t.Channel.person_id).where(t.Channel.kind == ChannelKind.PAGE)
        for person in set(people) - set((await db.execute(have)).scalars()):
            row = t.Channel(
                person_id=person, kind=ChannelKind.PAGE, name="Page", shown="", access=b"",
                added_at=self.context.clock.now(),
            )  # fmt: skip
            db.add(row)
            await db.flush()
            channels.setdefault(person, {})[row.id] = ChannelKind.PAGE
        rules: dict[int | None, list[NoticeRule]] = {}
        for _, person, rule in await load_rules(db):
            rules.setdefault(person, []).append(rule)
        return [
            Hearer(
                person, tuple(rules.get(person, () if person is None else (DEFAULT_RULE,))), channels.get(person, {})
            )
            for person in (None, *people)
        ]

    def _who(
        self, row: t.Notice, facts: NoticeFacts, hearers: Sequence[Hearer], planning: PlanningSettings
    ) -> dict[int, datetime]:
        """Which channels hear of a notice, and from when on."""
        found: dict[int, datetime] = {}
        for one in hearers:
            if row.person_id is not None and row.person_id != one.person:
                continue
            for rule in one.rules:
                at = self.when(rule, facts, row.at, planning) if matches(rule, facts) else None
                for channel in one.over(rule) if at is not None else ():
                    assert at is not None
                    found[channel] = min(at, found.get(channel, at))
        return found

    def machines(self) -> dict[int, FleetMachine]:
        """The machines by their numbers, for many notices at once."""
        return {known.row.id: known for known in self.fleet.all()}

    def facts(self, row: t.Notice, machines: Mapping[int, FleetMachine]) -> NoticeFacts:
        """What rules look at in a notice."""
        known = machines.get(row.machine_id or 0)
        return NoticeFacts(
            NoticeKind(row.kind), Gravity(row.gravity), known.row.name if known else "",
            frozenset(known.row.pools) if known else frozenset(), known.row.site if known else "", row.order_id,
            row.count if KINDS[NoticeKind(row.kind)].counted else None, row.person_id,
        )  # fmt: skip

    def when(self, rule: NoticeRule, facts: NoticeFacts, at: datetime, planning: PlanningSettings) -> datetime | None:
        """When a rule tells of what happened at a time."""
        staffed: Staffing | None = None
        if rule.during is During.SHIFT:
            staffed = planning.staffing(at - timedelta(days=1), at + AHEAD, facts.site)
        return speaks_at(rule, facts.gravity, at, planning.zone(facts.site), staffed)

    async def _go_further(self, db: AsyncSession) -> None:
        """Tell whoever is next where nobody has taken a notice in time."""
        now = self.context.clock.now()
        rows = [
            row
            for row in (
                await db.execute(
                    select(t.Notice).where(
                        t.Notice.closed_at.is_(None), t.Notice.taken_at.is_(None), t.Notice.at > now - STEPS_FOR
                    )
                )
            ).scalars()
            if KINDS[NoticeKind(row.kind)].open_for != AT_ONCE
        ]
        if not rows or not any(rule.next_steps for _, _, rule in await load_rules(db)):
            return
        hearers, machines = await self.hearers(db), self.machines()
        logins = {login.casefold(): n for n, login in await db.execute(select(t.Person.id, t.Person.login))}
        by_person = {one.person: one for one in hearers}
        for row in rows:
            facts, further = self.facts(row, machines), set[int]()
            for one in hearers:
                for rule in one.rules:
                    for step in rule.next_steps if matches(rule, facts) else ():
                        if now - row.at < timedelta(minutes=step.after_min):
                            continue
                        if step.channel is not None:
                            further |= {step.channel} & one.channels.keys()
                        elif (other := by_person.get(logins.get(step.person.casefold()))) is not None:
                            further |= other.channels.keys()
            await tell(db, row.id, dict.fromkeys(further, now), What.OPENED)


TheNoticeRouter = Annotated[NoticeRouter, part(NoticeRouter)]
