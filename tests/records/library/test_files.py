"""The library's records: the schema holds what must not break, and what is learned from builds is what they took."""

from __future__ import annotations

import itertools
import unittest
from datetime import UTC, datetime, timedelta

from sqlalchemy.exc import IntegrityError, OperationalError

from chronarch.core.ledger.learning import history_of, learned_paces
from chronarch.core.machines.states import Intake, MachineState, Outcome
from chronarch.core.orders.states import Verdict
from chronarch.records import tables as t
from chronarch.records.database import make_engine, make_sessions, migrate
from chronarch.records.ledger.history import COMPLETED, OF_FILE, OF_PART, ended_builds
from chronarch.records.library import files as library
from chronarch.records.orders.file_use import in_use
from tests.support.world import shared_server

_numbers = itertools.count()
NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)
A, B = "a" * 64, "b" * 64


class Library(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        url = shared_server().another(f"library_{next(_numbers)}")
        migrate(url)
        engine = make_engine(url)
        self.sessions = make_sessions(engine)
        self.addAsyncCleanup(engine.dispose)
        async with self.sessions() as db:
            models = [t.Model(id=n, name=name, spec={}) for n, name in ((1, "small"), (2, "large"))]
            db.add_all([*models, t.Tender(id=1, name="x"), t.Blob(sha256=A, size=10), t.Blob(sha256=B, size=20)])
            await db.flush()
            db.add(t.Part(id=1, name="cup", added_at=NINE, added_by="x"))
            await db.flush()
            db.add(t.File(id=1, name="cup.gcode", tags=[], part_id=1, added_at=NINE, added_by="x"))
            for n in (1, 2):
                db.add(
                    t.Machine(id=n, name=f"M{n}", model_id=n, tender_id=1, link="", device=f"{n}",
                              intake=Intake.OPEN, tools=[],
                              state=MachineState.IDLE, since=NINE)
                )  # fmt: skip
            await db.flush()
            db.add(t.Revision(file_id=1, number=1, sha256=A, added_at=NINE, added_by="x"))
            db.add(t.Job(id=1, file_id=1, copies=50, requirement={}, created_at=NINE, created_by="x"))
            for model, seconds in (("large", 90.0), ("small", 60.0)):
                db.add(t.ContentReading(sha256=A, model=model, planned_s=seconds, figures={"size": 1}, plan={}))
            await db.commit()

    async def build(self, copy: int, machine: int, real_s: float, paused_s: float = 0.0, verdict: str = "good") -> None:
        """A build that took so long warming and building, with a pause in its middle."""
        begin = NINE + timedelta(hours=copy)
        middle = begin + timedelta(seconds=real_s / 2)
        resumed = middle + timedelta(seconds=paused_s)
        ended = resumed + timedelta(seconds=real_s / 2)
        async with self.sessions() as db:
            row = t.Build(
                job_id=1, copy_number=copy, machine_id=machine, file_id=1, revision=1, sha256=A, state="ended",
                outcome=Outcome.COMPLETED, claimed_at=begin, started_at=begin, ended_at=ended, cleared_at=ended,
                verdict=verdict, commands=1, planned_s=60.0,
            )  # fmt: skip
            db.add(row)
            await db.flush()
            spans = [(begin, middle, "building"), (middle, resumed, "paused"), (resumed, ended, "building")]
            for start, stop, state in spans:
                if stop > start:
                    db.add(t.Ledger(machine_id=machine, state=state, begin_at=start, end_at=stop, build_id=row.id))
            await db.commit()

    async def test_a_name_belongs_to_one_file_until_it_is_binned(self) -> None:
        second = t.File(id=2, name="cup.gcode", tags=[], added_at=NINE, added_by="x")
        async with self.sessions() as db:
            db.add(second)
            with self.assertRaises(IntegrityError):
                await db.commit()
        async with self.sessions() as db:
            (await db.get_one(t.File, 1)).binned_at = NINE
            db.add(t.File(id=2, name="cup.gcode", tags=[], added_at=NINE, added_by="x"))
            await db.commit()

    async def test_a_revisions_number_is_given_once(self) -> None:
        async with self.sessions() as db:
            db.add(t.Revision(file_id=1, number=1, sha256=B, added_at=NINE, added_by="x"))
            with self.assertRaises(IntegrityError):
                await db.commit()

    async def test_a_job_is_for_a_file_or_a_part_and_never_both(self) -> None:
        for both in ({"file_id": 1, "part_id": 1}, {}):
            async with self.sessions() as db:
                db.add(t.Job(copies=1, requirement={}, created_at=NINE, created_by="x", **both))
                with self.assertRaises((IntegrityError, OperationalError)):
                    await db.commit()

    async def test_a_content_that_something_names_cannot_go(self) -> None:
        async with self.sessions() as db:
            await db.delete(await db.get_one(t.Blob, A))
            with self.assertRaises(IntegrityError):
                await db.commit()

    async def test_readings_come_in_the_order_of_the_shops_models(self) -> None:
        async with self.sessions() as db:
            (kept,) = await library.kept(db)
            self.assertEqual(list(kept.readings), ["small", "large"])
            self.assertEqual((kept.reading().model, kept.reading("large").model, kept.part), ("small", "large", "cup"))
            self.assertIsNone(await library.find(db, "no such"))
            found = await library.find(db, "cup.gcode")
            assert found is not None
            self.assertEqual(found.file.id, 1)

    async def test_a_pace_is_the_middle_of_what_completed_builds_took_without_their_pauses(self) -> None:
        async with self.sessions() as db:
            self.assertEqual(learned_paces(await ended_builds(db, COMPLETED, 600)), {})
        for copy, real_s, paused_s in ((1, 66.0, 0.0), (2, 72.0, 500.0), (3, 600.0, 0.0)):
            await self.build(copy, 1, real_s, paused_s)
        for copy in (4, 5):
            await self.build(copy, 2, 90.0)
        async with self.sessions() as db:
            paces = learned_paces(await ended_builds(db, COMPLETED, 600))
        self.assertEqual(list(paces), ["small"], "two builds are too few to learn from")
        self.assertAlmostEqual(paces["small"].pace, 72 / 60, places=6)
        self.assertEqual(paces["small"].builds, 3)

    async def test_history_counts_what_became_of_builds_by_model_and_machine(self) -> None:
        await self.build(1, 1, 66.0)
        await self.build(2, 1, 66.0, verdict=Verdict.SCRAP)
        await self.build(3, 2, 90.0)
        async with self.sessions() as db:
            for whose in (OF_FILE, OF_PART):
                found = history_of(await ended_builds(db, whose, 100, which=1))
                self.assertEqual((found.builds, found.good, found.scrap, found.unjudged), (3, 2, 1, 0))
                self.assertEqual(found.machines, {"M1": 2, "M2": 1})
                small = next(m for m in found.models if m.model == "small")
                self.assertEqual((small.builds, small.good, small.scrap, small.completed), (2, 1, 1, 2))
                self.assertAlmostEqual(small.real_s, 132.0)
            self.assertEqual(len(await ended_builds(db, OF_FILE, 100, which=99)), 0)

    async def test_what_is_queued_or_on_a_machine_is_in_use_also_through_its_part(self) -> None:
        async with self.sessions() as db:
            self.assertEqual(await in_use(db, [1, 2]), {1: "is queued (job 1)"})
            (await db.get_one(t.Job, 1)).withdrawn = True
            await db.commit()
            self.assertEqual(await in_use(db, [1]), {})
            db.add(t.Job(id=2, part_id=1, copies=1, requirement={}, created_at=NINE, created_by="x"))
            await db.commit()
            self.assertEqual(await in_use(db, [1]), {1: "is queued (job 2)"})
            self.assertEqual(await in_use(db, []), {})

    async def test_the_next_revision_takes_the_next_number_whatever_was_restored(self) -> None:
        async with self.sessions() as db:
            file = await db.get_one(t.File, 1)
            for sha256, number in ((B, 2), (A, 3)):
                row = await library.next_revision(db, file, sha256, "x", NINE, "x")
                await db.flush()
                self.assertEqual((row.number, file.newest), (number, number))
            await db.commit()
            self.assertEqual([r.number for r in await library.revisions(db, 1)], [3, 2, 1])
