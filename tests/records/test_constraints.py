"""What must never be broken is held by the database itself."""

from __future__ import annotations

import asyncio
import itertools
import unittest
from datetime import UTC, datetime, timedelta

import pymysql
from sqlalchemy import func, select, text
from sqlalchemy.engine import make_url
from sqlalchemy.exc import DBAPIError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.control.events import BuildBegan, BuildEnded, StateChanged
from chronarch.core.ledger.intervals import OPEN_END, Interval, faults
from chronarch.core.machines.states import BuildState, Intake, MachineState, Outcome
from chronarch.core.orders.states import Verdict
from chronarch.records import tables as t
from chronarch.records.database import make_engine, make_sessions, migrate
from chronarch.records.ledger.intervals import enter_state
from chronarch.records.ledger.tender_events import commit_event
from chronarch.records.orders.builds import BuildContent, claim
from chronarch.records.orders.jobs import copies_of
from chronarch.service.planning.dispatcher import LOCK
from tests.support.world import shared_server

_numbers = itertools.count()
NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)
SHA = "0" * 64


class Constraints(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        self.url = shared_server().another(f"constraints_{next(_numbers)}")
        migrate(self.url)
        self.engine = make_engine(self.url)
        self.sessions = make_sessions(self.engine)
        self.addAsyncCleanup(self.engine.dispose)
        async with self.sessions() as db:
            db.add_all([t.Model(id=1, name="m", spec={}), t.Tender(id=1, name="tender"), t.Blob(sha256=SHA, size=1)])
            await db.flush()
            for n in (1, 2, 3):
                db.add(
                    t.Machine(id=n, name=f"M{n}", model_id=1, tender_id=1, link="", device=f"{n}",
                              intake=Intake.OPEN, tools=[],
                              state=MachineState.IDLE, since=NINE)
                )  # fmt: skip
            db.add(t.File(id=1, name="f", tags=[], added_at=NINE, added_by="x"))
            await db.flush()
            db.add(t.Revision(id=1, file_id=1, number=1, sha256=SHA, added_at=NINE, added_by="x"))
            db.add(t.ContentReading(sha256=SHA, model="m", planned_s=60.0, figures={"commands": 10}, plan={}))
            await db.flush()
            for n in (1, 2):
                db.add(t.Job(id=n, file_id=1, copies=2, requirement={}, created_at=NINE, created_by="x"))
                db.add(t.Ledger(machine_id=n, state="idle", begin_at=NINE, end_at=OPEN_END))
            await db.commit()

    async def try_claim(self, job: int, machine: int) -> t.Build | None:
        async with self.sessions() as db:
            return await claim(
                db,
                await db.get_one(t.Job, job),
                BuildContent(1, 1, SHA, 10, 60.0),
                machine,
                NINE,
            )

    async def test_competing_dispatchers_never_give_a_machine_two_builds(self) -> None:
        claims = await asyncio.gather(*(self.try_claim(1 + n % 2, 1) for n in range(12)))
        self.assertEqual(len([c for c in claims if c]), 1)

    async def test_competing_dispatchers_never_give_two_machines_one_copy(self) -> None:
        claims = await asyncio.gather(*(self.try_claim(1, 1 + n % 3) for n in range(12)))
        made = [c.copy_number for c in claims if c]
        self.assertEqual(len(made), len(set(made)))
        self.assertLessEqual(len(made), 2)
        for machine in (1, 2, 3):
            await self.try_claim(1, machine)
        async with self.sessions() as db:
            self.assertEqual((await db.execute(select(func.count(t.Build.id)))).scalar(), 2)

    async def test_scrap_puts_the_copy_back_and_good_does_not(self) -> None:
        first = await self.try_claim(1, 1)
        assert first is not None
        for verdict, expected in ((Verdict.GOOD, 2), (Verdict.SCRAP, 1)):
            async with self.sessions() as db:
                build = await db.get_one(t.Build, first.id)
                build.verdict, build.cleared_at, build.state = verdict, NINE, BuildState.ENDED
                await db.commit()
            again = await self.try_claim(1, 2)
            assert again is not None
            self.assertEqual(again.copy_number, expected)
            async with self.sessions() as db:
                copies = (await copies_of(db, [await db.get_one(t.Job, 1)]))[1]
                self.assertEqual((copies.good, copies.building), (int(verdict is Verdict.GOOD), 1))
                await db.delete(await db.get_one(t.Build, again.id))
                await db.commit()

    def raw(self, sql: str) -> None:
        url = make_url(self.url)
        with pymysql.connect(host="127.0.0.1", port=url.port or 0, user=url.username, password=url.password or "",
                             database=url.database) as db, db.cursor() as cursor:  # fmt: skip
            cursor.execute(sql)
            db.commit()

    async def test_the_database_itself_refuses_overlapping_ledger_intervals(self) -> None:
        insert = "insert into ledger (machine_id, state, begin_at, end_at, reason) values (3, 'idle', '{}', '{}', '')"
        self.raw(insert.format("2026-10-01", "2026-10-02"))
        self.raw(insert.format("2026-10-02", "2026-10-03"))
        with self.assertRaises(pymysql.err.IntegrityError):
            self.raw(insert.format("2026-10-01 23:59:59.999999", "2026-10-02 00:00:01"))
        with self.assertRaises(pymysql.err.Error):
            self.raw(insert.format("2026-10-05", "2026-10-04"))

    async def test_the_database_itself_refuses_a_second_open_build(self) -> None:
        await self.try_claim(1, 1)
        with self.assertRaises(pymysql.err.IntegrityError):
            self.raw(
                "insert into build (file_id, revision, job_id, copy_number, machine_id, sha256, state, reason,"
                " claimed_at, scrap_reason, judged_by, commands, acknowledged, planned_s, grams, skips, pieces, let_go,"
                " note)"
                f" values (1, 1, 2, 1, 1, '{SHA}', 'starting', '',"
                " '2026-10-19', '', '', 1, 0, 1, 0, '[]', 1, 0, '')"
            )

    async def test_an_event_applied_twice_changes_nothing(self) -> None:
        build = await self.try_claim(1, 1)
        assert build is not None
        later = NINE + timedelta(minutes=30)
        ended = BuildEnded(build.id, Outcome.COMPLETED, "", 10, 60.0, 1000.0)
        events = [
            (1, NINE, StateChanged(MachineState.WARMING, "", build.id)),
            (2, NINE, BuildBegan(build.id)),
            (3, later, ended),
            (4, later, StateChanged(MachineState.COOLING, "", build.id)),
        ]
        for _ in range(2):
            for sequence, at, body in events:
                async with self.sessions() as db:
                    await commit_event(db, "tender", "epoch", sequence, "M1", at, body)
        async with self.sessions() as db:
            rows = (await db.execute(select(t.Ledger).where(t.Ledger.machine_id == 1))).scalars().all()
            self.assertEqual([r.state for r in rows], ["warming", "cooling"])
            told = select(func.count(t.Notice.id)).where(t.Notice.kind == "build-ended")
            self.assertEqual((await db.execute(told)).scalar(), 1)
            stored = await db.get_one(t.Build, build.id)
            self.assertEqual((stored.state, stored.outcome, stored.ended_at), ("ended", "completed", later))

    async def test_states_told_late_or_out_of_turn_leave_no_gap_and_no_overlap(self) -> None:
        times = [0, 60, 30, 30, 600, -50, 601]
        kinds = [MachineState.WARMING, MachineState.BUILDING, MachineState.PAUSED, MachineState.IDLE]
        for n, seconds in enumerate(times):
            async with self.sessions() as db:
                machine = await db.get_one(t.Machine, 2)
                await enter_state(db, machine, NINE + timedelta(seconds=seconds), kinds[n % 4], "", None)
                await db.commit()
        async with self.sessions() as db:
            rows = (
                await db.execute(select(t.Ledger).where(t.Ledger.machine_id == 2).order_by(t.Ledger.begin_at))
            ).scalars()
            ledger = [Interval(r.begin_at, r.end_at, MachineState(r.state), r.build_id) for r in rows]
        self.assertEqual(faults(ledger), [])
        self.assertEqual((ledger[0].begin, ledger[-1].end), (NINE, OPEN_END))

    async def test_a_machines_states_and_its_settings_are_written_at_once_without_undoing_each_other(self) -> None:
        async def states() -> None:
            kinds = [MachineState.BUILDING, MachineState.PAUSED]
            for n in range(40):
                body = StateChanged(kinds[n % 2], "", None)
                async with self.sessions() as db:
                    await commit_event(db, "tender", "epoch", n + 1, "M1", NINE + timedelta(seconds=n), body)

        async def settings() -> None:
            for n in range(40):
                async with self.sessions() as db:
                    (await db.get_one(t.Machine, 1)).place = f"shelf {n}"
                    await db.commit()

        await asyncio.gather(states(), settings(), settings())
        async with self.sessions() as db:
            machine = await db.get_one(t.Machine, 1)
            self.assertEqual((machine.state, machine.place), (MachineState.PAUSED, "shelf 39"))

    async def test_the_dispatch_lock_is_held_by_one_at_a_time_and_freed_with_its_holder(self) -> None:
        async def try_lock(db: AsyncSession) -> int | None:
            return (await db.execute(text("select get_lock(:name, 0)"), {"name": LOCK})).scalar()

        async with self.sessions() as one, self.sessions() as two:
            self.assertEqual((await try_lock(one), await try_lock(two)), (1, 0))
            await (await one.connection()).invalidate()
            deadline = asyncio.get_running_loop().time() + 10
            while not await try_lock(two) and asyncio.get_running_loop().time() < deadline:  # noqa: ASYNC110
                await asyncio.sleep(0.02)
            self.assertEqual(await try_lock(two), 1, "a service that dies lets go of the lock")

    async def test_times_keep_their_microseconds(self) -> None:
        odd = NINE.replace(microsecond=123457)
        async with self.sessions() as db:
            db.add(t.Notice(at=odd, kind="service", gravity="note", text="x"))
            await db.commit()
        async with self.sessions() as db:
            self.assertEqual((await db.execute(select(t.Notice.at))).scalar(), odd)

    async def test_a_stranger_to_the_tables_is_an_error_not_a_silence(self) -> None:
        async with self.sessions() as db:
            db.add(t.Ledger(machine_id=99, state="idle", begin_at=NINE, end_at=OPEN_END))
            with self.assertRaises(DBAPIError):
                await db.commit()
