"""The sums of the ledger's days say the same as its intervals."""

from __future__ import annotations

import itertools
import random
import unittest
from datetime import UTC, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import delete, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.intervals import OPEN_END, Interval
from chronarch.core.machines.states import Intake, MachineState
from chronarch.records import tables as t
from chronarch.records.database import make_engine, make_sessions, migrate
from chronarch.records.ledger import intervals
from tests.support.intervals import clip, spent
from tests.support.world import shared_server

_numbers = itertools.count()
ZONE = ZoneInfo("Europe/London")
BEGIN = datetime(2026, 10, 22, 17, tzinfo=UTC)
"""Three days before the clocks go back there."""
EDGES = ((10, 1), (10, 23), (11, 1), (11, 2), (11, 30), (12, 1), (12, 2))
"""About the whole months that have sums of their own."""
MACHINES = (1, 2)


class LedgerDays(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        url = shared_server().another(f"days_{next(_numbers)}")
        migrate(url)
        self.engine = make_engine(url)
        self.addAsyncCleanup(self.engine.dispose)
        self.sessions = make_sessions(self.engine)
        self.chance = random.Random(4711)
        async with self.sessions() as db:
            db.add_all([t.Model(id=1, name="m", spec={}), t.Tender(id=1, name="tender")])
            await db.flush()
            for n in MACHINES:
                machine = t.Machine(id=n, name=f"M{n}", model_id=1, tender_id=1, link="", device=f"{n}",
                                    intake=Intake.OPEN, tools=[], state=MachineState.IDLE, since=BEGIN)  # fmt: skip
                db.add(machine)
                await db.flush()
                await self.live(db, machine)
            await db.commit()

    async def live(self, db: AsyncSession, machine: t.Machine) -> None:
        """Some eighty states: of a moment, of hours, of days; some told late, some twice."""
        at = BEGIN
        for _ in range(80):
            state = self.chance.choice(list(MachineState))
            await intervals.enter_state(db, machine, at, state, "", None)
            length = self.chance.choice([0.0, 0.25, 90.0, 4000.0, 30_000.0, 200_000.0])
            at += timedelta(seconds=length * self.chance.random() - 10, microseconds=self.chance.randrange(10**6))

    async def raw(self, db: AsyncSession, machine: int) -> list[Interval]:
        query = select(t.Ledger).where(t.Ledger.machine_id == machine).order_by(t.Ledger.begin_at)
        rows = (await db.execute(query)).scalars()
        return [Interval(r.begin_at, r.end_at, MachineState(r.state)) for r in rows]

    async def compare(self, db: AsyncSession, begin: datetime, end: datetime) -> None:
        found = await intervals.time_in_states(db, MACHINES, begin, end)
        for machine in MACHINES:
            said = spent(clip(await self.raw(db, machine), begin, end))
            self.assertEqual({s: n for s, n in found[machine].items() if n}, dict(said), f"{begin} to {end}")

    async def test_any_span_adds_up_to_what_the_intervals_say(self) -> None:
        midnight = [datetime(2026, 10, day, tzinfo=ZONE).astimezone(UTC) for day in range(23, 30)]
        async with self.sessions() as db:
            for begin, end in itertools.pairwise(midnight):  # one of them has 25 hours
                await self.compare(db, begin, end)
            await self.compare(db, midnight[0], midnight[-1])
            await self.compare(db, BEGIN, BEGIN + timedelta(days=400))
            for begin, end in itertools.combinations((datetime(2026, *day, tzinfo=UTC) for day in EDGES), 2):
                await self.compare(db, begin, end)
            for _ in range(25):
                begin = BEGIN + timedelta(seconds=self.chance.random() * 20 * 86400)
                await self.compare(db, begin, begin + timedelta(seconds=self.chance.random() ** 3 * 20 * 86400 + 1))

    async def test_a_state_that_ends_while_they_are_added_up_is_neither_lost_nor_counted_twice(self) -> None:
        sessions = self.sessions
        at = BEGIN + timedelta(days=200)

        class Interrupted(AsyncSession):
            """Somebody ends the states that last after each thing this reads."""

            async def execute(self, *arguments: Any, **named: Any) -> Any:
                nonlocal at
                found = await super().execute(*arguments, **named)
                at += timedelta(hours=5)
                async with sessions() as db:
                    for n in MACHINES:
                        machine = await db.get_one(t.Machine, n)
                        other = MachineState.IDLE if machine.state != MachineState.IDLE else MachineState.DOWN
                        await intervals.enter_state(db, machine, at, other, "", None)
                    await db.commit()
                return found

        begin, end = BEGIN + timedelta(days=1), BEGIN + timedelta(days=250)
        async with Interrupted(self.engine) as db:
            for _ in range(4):
                found = await intervals.time_in_states(db, MACHINES, begin, end)
                for states in found.values():
                    self.assertEqual(sum(states.values()), 249 * 86400 * 10**6)

    async def test_what_is_lost_or_wrong_is_made_anew(self) -> None:
        async with self.sessions() as db:
            self.assertEqual((await self.raw(db, 1))[-1].end, OPEN_END)
            for table in (t.LedgerDay, t.LedgerMonth):
                await db.execute(delete(table).where(table.machine_id == 1))
                await db.execute(update(table).values(microseconds=1))
            await db.commit()
            for machine in MACHINES:
                many = await intervals.rebuild_days(db, machine)
                self.assertEqual(many, len(await self.raw(db, machine)) - 1)
            await self.compare(db, BEGIN - timedelta(days=1), BEGIN + timedelta(days=100))

    async def test_intervals_come_by_pages_in_order(self) -> None:
        async with self.sessions() as db:
            end = BEGIN + timedelta(days=3)
            found, after = [], ()
            while rows := await intervals.ledger_between(db, MACHINES, BEGIN + timedelta(hours=9), end, after, 7):
                found += rows
                after = (rows[-1][0], rows[-1][1].begin)
            said = [
                (machine, i.begin)
                for machine in MACHINES
                for i in await self.raw(db, machine)
                if i.begin < end and i.end > BEGIN + timedelta(hours=9)
            ]
        self.assertEqual([(machine, i.begin) for machine, i in found], said)


if __name__ == "__main__":
    unittest.main()
