"""`Job.open` follows what changes a job and its builds, whoever changes them."""

from __future__ import annotations

import itertools
import unittest
from datetime import UTC, datetime

from sqlalchemy import select

from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.orders.states import Verdict
from chronarch.records import tables as t
from chronarch.records.database import make_engine, make_sessions, migrate
from chronarch.records.orders.builds import BuildContent, claim
from chronarch.records.orders.jobs import jobs_waiting, select_jobs
from tests.support.world import shared_server

_numbers = itertools.count()
NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)
SHA = "0" * 64


class OpenJobs(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        url = shared_server().another(f"open_{next(_numbers)}")
        migrate(url)
        engine = make_engine(url)
        self.addAsyncCleanup(engine.dispose)
        self.sessions = make_sessions(engine)
        async with self.sessions() as db:
            db.add_all([t.Model(id=1, name="m", spec={}), t.Tender(id=1, name="tender"), t.Blob(sha256=SHA, size=1)])
            await db.flush()
            db.add(t.Machine(id=1, name="M", model_id=1, tender_id=1, link="", device="1", intake=Intake.OPEN, tools=[],
                             state=MachineState.IDLE, since=NINE))  # fmt: skip
            db.add(t.File(id=1, name="Bobbin.gcode", tags=[], added_at=NINE, added_by="x"))
            db.add(t.Order(id=1, customer="Loomfield", created_at=NINE, created_by="x"))
            await db.flush()
            for n in (1, 2):
                db.add(t.Job(id=n, file_id=1, copies=2, requirement={}, created_at=NINE, created_by="x", line=n,
                             tags=["café"], note="in a hurry" * (n - 1), order_id=1 if n == 1 else None))  # fmt: skip
            await db.commit()

    async def waiting(self) -> dict[int, int]:
        async with self.sessions() as db:
            return {job.id: copies.waiting for job, copies in await jobs_waiting(db)}

    async def open(self) -> list[int]:
        async with self.sessions() as db:
            return list((await db.execute(select(t.Job.id).where(t.Job.open).order_by(t.Job.id))).scalars())

    async def build(self, verdict: Verdict) -> None:
        async with self.sessions() as db:
            made = await claim(db, await db.get_one(t.Job, 1), BuildContent(1, 1, SHA, 10, 60.0), 1, NINE)
            assert made is not None
            made.state, made.verdict, made.cleared_at = "ended", verdict, NINE
            await db.commit()

    async def test_a_job_is_open_until_all_of_it_is_good_or_it_is_withdrawn(self) -> None:
        self.assertEqual(await self.waiting(), {1: 2, 2: 2})
        await self.build(Verdict.GOOD)
        await self.build(Verdict.SCRAP)
        self.assertEqual((await self.open(), (await self.waiting())[1]), ([1, 2], 1))
        await self.build(Verdict.GOOD)
        self.assertEqual(await self.open(), [2])
        async with self.sessions() as db:
            (await db.get_one(t.Job, 1)).copies = 3
            (await db.get_one(t.Job, 2)).withdrawn = True
            await db.commit()
        self.assertEqual((await self.open(), await self.waiting()), ([1], {1: 1}))

    async def test_what_is_undone_changes_nothing(self) -> None:
        async with self.sessions() as db:
            (await db.get_one(t.Job, 2)).withdrawn = True
            await db.flush()
            await db.rollback()
            db.add(t.Folder(path="a"))
            await db.commit()
        self.assertEqual(await self.open(), [1, 2])

    async def test_jobs_are_found_by_words_of_file_customer_note_and_tag(self) -> None:
        for words, found in (
            ("", [1, 2]), ("bobbin", [1, 2]), ("loomfield BOBBIN", [1]), ("hurry", [2]), ("CAFÉ", [1, 2]), ("%", []),
        ):  # fmt: skip
            with self.subTest(words=words):
                async with self.sessions() as db:
                    rows = (await db.execute(select_jobs(words).order_by(t.Job.id))).scalars().all()
                self.assertEqual([job.id for job in rows], found)


if __name__ == "__main__":
    unittest.main()
