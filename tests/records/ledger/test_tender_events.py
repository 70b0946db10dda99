"""What tenders tell of hands and troubles, as it stands in the tables: once, in order, with its own time."""

from __future__ import annotations

import itertools
import unittest
from datetime import UTC, datetime, timedelta

from sqlalchemy import delete, select

from chronarch.core.control.events import (
    Adjusted,
    BuildBegan,
    BuildEnded,
    BuildOnBed,
    BuildPaused,
    BuildResumed,
    ControlEvent,
    Levelled,
    MachineStands,
    Noticed,
    StateChanged,
)
from chronarch.core.machines.materials import grams
from chronarch.core.machines.states import BuildState, Intake, MachineState, Outcome
from chronarch.records import tables as t
from chronarch.records.database import make_engine, make_sessions, migrate
from chronarch.records.ledger.stops import keep_all_stops
from chronarch.records.ledger.tender_events import commit_event
from chronarch.records.orders.builds import BuildContent, claim
from tests.support.world import shared_server

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)
SHA = "b" * 64
_numbers = itertools.count()


class TenderCase(unittest.IsolatedAsyncioTestCase):
    """One machine with a build that was handed out."""

    async def asyncSetUp(self) -> None:
        url = shared_server().another(f"hands_{next(_numbers)}")
        migrate(url)
        engine = make_engine(url)
        self.sessions = make_sessions(engine)
        self.addAsyncCleanup(engine.dispose)
        self.sequence = 0
        async with self.sessions() as db:
            db.add_all([t.Model(id=1, name="m", spec={}), t.Tender(id=1, name="tender"), t.Blob(sha256=SHA, size=1)])
            await db.flush()
            db.add(
                t.Machine(id=1, name="Anchor", model_id=1, tender_id=1, link="", device="1", intake=Intake.OPEN,
                          tools=[{"material": "PLA", "colour": "teal", "nozzle_mm": 0.4}], state=MachineState.IDLE,
                          since=NINE)
            )  # fmt: skip
            db.add(t.File(id=1, name="f", tags=[], added_at=NINE, added_by="x"))
            await db.flush()
            revision = t.Revision(id=1, file_id=1, number=1, sha256=SHA, added_at=NINE, added_by="x")
            reading = t.ContentReading(sha256=SHA, model="m", planned_s=60.0, figures={"commands": 10}, plan={})
            job = t.Job(id=1, file_id=1, copies=1, requirement={}, created_at=NINE, created_by="x")
            db.add_all([revision, reading, job])
            await db.commit()
            build = await claim(db, job, BuildContent(1, 1, SHA, 10, 60.0), 1, NINE)
            assert build is not None
            self.build = build.id

    async def tell(self, body: ControlEvent, second: float = 0.0, machine: str = "Anchor") -> bool:
        self.sequence += 1
        at = NINE + timedelta(seconds=second)
        async with self.sessions() as db:
            return await commit_event(db, "tender", "epoch", self.sequence, machine, at, body)

    async def notices(self) -> list[tuple[str, str]]:
        async with self.sessions() as db:
            rows = (await db.execute(select(t.Notice).order_by(t.Notice.id))).scalars().all()
        return [(row.gravity, row.text) for row in rows]

    async def open(self) -> list[str]:
        async with self.sessions() as db:
            query = select(t.Notice.text).where(t.Notice.closed_at.is_(None)).order_by(t.Notice.id)
            return list((await db.execute(query)).scalars())

    async def stored(self) -> t.Build:
        async with self.sessions() as db:
            return await db.get_one(t.Build, self.build)


class Told(TenderCase):
    async def test_what_hands_changed_of_a_build_is_kept_in_order_with_who(self) -> None:
        await self.tell(Adjusted(self.build, "fan 60 %", "Maud"), 10)
        await self.tell(Adjusted(self.build, "nozzle 210 °C", "tests"), 12.5)
        await self.tell(Adjusted(9999, "fan 0 %", "Maud"), 13)
        async with self.sessions() as db:
            rows = (await db.execute(select(t.BuildChange).order_by(t.BuildChange.at))).scalars().all()
        self.assertEqual(
            [(row.text, row.by, (row.at - NINE).total_seconds()) for row in rows],
            [("fan 60 %", "Maud", 10), ("nozzle 210 °C", "tests", 12.5)],
            "what is said of a build nobody knows is passed over",
        )

    async def test_words_that_are_too_long_are_cut_not_refused(self) -> None:
        self.assertTrue(await self.tell(Adjusted(self.build, "x" * 5000, "y" * 500)))
        self.assertTrue(await self.tell(BuildPaused(self.build, "z" * 5000, True)))
        self.assertEqual(len((await self.stored()).reason), 300)

    async def test_each_level_map_is_kept_and_one_told_twice_stands_once(self) -> None:
        first, second = ((0.0, 0.1), (0.2, -0.1)), ((0.0, 0.0), (0.0, 0.0))
        for _ in range(2):
            await self.tell(Levelled(first), 1)
        await self.tell(Levelled(second), 2)
        async with self.sessions() as db:
            rows = (await db.execute(select(t.BedMesh).order_by(t.BedMesh.at))).scalars().all()
        self.assertEqual([row.rows for row in rows], [[[0.0, 0.1], [0.2, -0.1]], [[0.0, 0.0], [0.0, 0.0]]])

    async def test_a_pause_of_the_machines_own_asks_for_hands_one_that_they_asked_for_is_only_a_note(self) -> None:
        await self.tell(BuildBegan(self.build))
        await self.tell(BuildPaused(self.build, "asked for by Maud", False), 1)
        begun = [("note", f"Anchor starts build {self.build}"), ("note", "Anchor is paused: asked for by Maud")]
        self.assertEqual(await self.notices(), begun)
        self.assertEqual((await self.stored()).state, BuildState.PAUSED)
        await self.tell(BuildResumed(self.build), 2)
        self.assertEqual(((await self.stored()).state, (await self.stored()).reason), (BuildState.BUILDING, ""))
        await self.tell(BuildPaused(self.build, "filament ran out", True), 3)
        self.assertEqual(await self.notices(), [*begun, ("act", "Anchor paused itself: filament ran out")])
        self.assertEqual(await self.open(), ["Anchor paused itself: filament ran out"], "the first one is over")
        await self.tell(BuildEnded(self.build, Outcome.FAILED, "the hotend fell off", 4, 20.0, 500.0), 60)
        self.assertEqual(await self.open(), [f"Build {self.build} on Anchor failed: the hotend fell off"])

    async def test_why_a_build_was_stopped_is_kept_once_each_and_found_again_in_the_ledger(self) -> None:
        for second, (state, why) in enumerate((
            (MachineState.BUILDING, "by the plan"), (MachineState.PAUSED, "the watch: it comes loose"),
            (MachineState.BUILDING, ""), (MachineState.PAUSED, "the watch: a tangle"), (MachineState.DOWN, ""),
        )):  # fmt: skip
            await self.tell(StateChanged(state, why, self.build), second)
        await self.tell(StateChanged(MachineState.DOWN, "no build's", None), 9)
        kept = [(self.build, "down"), (self.build, "the watch")]
        async with self.sessions() as db:
            stops = select(t.BuildStop.build_id, t.BuildStop.why).order_by(t.BuildStop.why)
            self.assertEqual([tuple(row) for row in await db.execute(stops)], kept)
            await db.execute(delete(t.BuildStop).where(t.BuildStop.why == "down"))
            for _ in range(2):
                await keep_all_stops(db)
                self.assertEqual([tuple(row) for row in await db.execute(stops)], kept)

    async def test_what_is_only_worth_knowing_is_a_note(self) -> None:
        await self.tell(Noticed("the nozzle was let cool", self.build, note=True))
        await self.tell(Noticed("the tender cannot write to its disk", None))
        await self.tell(StateChanged(MachineState.DOWN, "emergency stop", self.build))
        self.assertEqual(
            await self.notices(),
            [
                ("note", "Anchor: the nozzle was let cool"),
                ("look", "Anchor: the tender cannot write to its disk"),
                ("act", "Anchor is down: emergency stop"),
            ],
        )
        await self.tell(StateChanged(MachineState.IDLE, "", None), 9)
        open_now = ["Anchor: the tender cannot write to its disk"]
        self.assertEqual(await self.open(), open_now, "it is no longer down, and what is a note is only said")

    async def test_an_end_out_of_turn_changes_nothing_that_has_ended(self) -> None:
        await self.tell(BuildBegan(self.build), 1)
        await self.tell(BuildEnded(self.build, Outcome.STOPPED, "asked for by Maud", 4, 20.0, 500.0), 60)
        await self.tell(BuildEnded(self.build, Outcome.COMPLETED, "", 10, 60.0, 1000.0), 90)
        await self.tell(BuildResumed(self.build), 91)
        build = await self.stored()
        self.assertEqual(
            (build.state, build.outcome, build.reason, build.acknowledged),
            (BuildState.ENDED, Outcome.STOPPED, "asked for by Maud", 4),
        )
        self.assertEqual(build.ended_at, NINE + timedelta(seconds=60))
        self.assertGreater(build.grams, 1.0, "half a metre of PLA")
        self.assertEqual((await self.notices())[1:], [("note", f"Build {self.build} on Anchor stopped.")])

    async def test_each_tools_filament_is_taken_from_the_spool_on_it(self) -> None:
        async with self.sessions() as db:
            machine = await db.get_one(t.Machine, 1)
            machine.tools = [{"number": 0, "material": "PLA"}, {"number": 1, "material": "PVA"}]
            reading = await db.get_one(t.ContentReading, (SHA, "m"))
            reading.figures = {"commands": 10, "filament_mm": {"0": 3000.0, "1": 1000.0}}
            for tool, material in enumerate(("PLA", "PVA")):
                spool = t.Spool(material=material, colour="", grams_full=750.0, grams_left=750.0, added_at=NINE)
                spool.machine_id, spool.tool = 1, tool
                db.add(spool)
            await db.commit()
        await self.tell(BuildBegan(self.build), 1)
        await self.tell(BuildEnded(self.build, Outcome.COMPLETED, "", 10, 60.0, 4000.0), 60)
        async with self.sessions() as db:
            spools = (await db.execute(select(t.Spool).order_by(t.Spool.tool))).scalars().all()
        used = [750.0 - s.grams_left for s in spools]
        self.assertAlmostEqual(used[0], grams("PLA", 3000.0))
        self.assertAlmostEqual(used[1], grams("PVA", 1000.0))
        self.assertAlmostEqual((await self.stored()).grams, sum(used))

    async def test_what_is_told_of_a_machine_that_was_removed_is_passed_over_and_counts_as_told(self) -> None:
        self.assertTrue(await self.tell(Noticed("hello"), machine="Nobody"))
        async with self.sessions() as db:
            self.assertEqual((await db.get_one(t.Tender, 1)).committed, self.sequence)
        self.assertEqual(await self.notices(), [])

    async def test_a_tender_that_lost_its_journal_counts_from_one_again(self) -> None:
        await self.tell(Noticed("first"))
        async with self.sessions() as db:
            self.assertFalse(await commit_event(db, "tender", "epoch", 1, "Anchor", NINE, Noticed("first")))
        async with self.sessions() as db:
            self.assertTrue(await commit_event(db, "tender", "another", 1, "Anchor", NINE, Noticed("anew")))
        self.assertEqual([words for _, words in await self.notices()], ["Anchor: first", "Anchor: anew"])


if __name__ == "__main__":
    unittest.main()


class RollCall(TenderCase):
    """What becomes of a machine whose records were restored, by how its tender says that it stands."""

    SEEN, STRANGE = 5.0, 7001
    """When the machine was seen last, and a build that is in no records."""

    async def restored(self, began: bool, ended: BuildEnded | None = None) -> None:
        if began:
            await self.tell(BuildBegan(self.build), 1)
        if ended is not None:
            await self.tell(ended, self.SEEN)
        async with self.sessions() as db:
            machine = await db.get_one(t.Machine, 1)
            machine.unsure, machine.state = 3, MachineState.OFFLINE
            machine.since = NINE + timedelta(seconds=self.SEEN)
            await db.commit()

    async def machine(self) -> t.Machine:
        async with self.sessions() as db:
            return await db.get_one(t.Machine, 1)

    def at(self, second: float) -> datetime:
        return NINE + timedelta(seconds=second)

    async def stands(self, state: MachineState | None, bed: BuildOnBed | None = None, number: int = 3) -> None:
        """The roll is called, and answered 100 s later."""
        await self.tell(MachineStands(number, state, "", bed), 100)

    async def test_states_say_nothing_before_the_answer_and_an_earlier_answer_neither(self) -> None:
        await self.restored(began=True)
        await self.tell(StateChanged(MachineState.IDLE), 50)
        await self.stands(MachineState.IDLE, number=2)
        found = await self.machine()
        self.assertEqual((found.state, found.unsure), (MachineState.OFFLINE, 3))

    async def test_a_build_that_began_meanwhile_began_when_it_did(self) -> None:
        await self.restored(began=False)
        await self.stands(MachineState.BUILDING, BuildOnBed(self.build, self.at(40)))
        row, found = await self.stored(), await self.machine()
        self.assertEqual((row.state, row.started_at), (BuildState.BUILDING, self.at(40)))
        self.assertEqual((found.state, found.unsure, found.strange_build), (MachineState.BUILDING, None, None))

    async def test_a_build_that_is_still_fetched_has_not_begun(self) -> None:
        await self.restored(began=False)
        await self.stands(MachineState.IDLE, BuildOnBed(self.build))
        self.assertIsNone((await self.stored()).started_at)
        self.assertEqual((await self.machine()).state, MachineState.IDLE)

    async def test_a_build_that_was_paused_meanwhile_is_and_one_that_goes_on_again_does(self) -> None:
        await self.restored(began=True)
        await self.stands(MachineState.PAUSED, BuildOnBed(self.build, self.at(1), paused="filament ran out"))
        row = await self.stored()
        self.assertEqual((row.state, (await self.machine()).state), (BuildState.PAUSED, MachineState.PAUSED))
        await self.restored(began=False)
        await self.stands(MachineState.BUILDING, BuildOnBed(self.build, self.at(1)))
        self.assertEqual((await self.stored()).state, BuildState.BUILDING)

    async def test_a_build_that_ended_meanwhile_ended_when_and_as_it_did(self) -> None:
        await self.restored(began=True)
        ended = BuildEnded(self.build, Outcome.FAILED, "the hot end is cold", 5, 30.0, 12.0)
        await self.stands(MachineState.COOLING, BuildOnBed(self.build, self.at(1), None, ended, self.at(60)))
        row, found = await self.stored(), await self.machine()
        self.assertEqual((row.state, row.outcome, row.ended_at), (BuildState.ENDED, Outcome.FAILED, self.at(60)))
        self.assertEqual(row.reason, "the hot end is cold")
        self.assertIsNone(row.cleared_at)
        self.assertEqual((found.state, found.since), (MachineState.COOLING, self.at(60)))

    async def over(self) -> t.Machine:
        """The build is over as of when its machine was seen last, and waits to be judged."""
        row = await self.stored()
        self.assertEqual((row.state, row.outcome), (BuildState.ENDED, Outcome.FAILED))
        self.assertEqual((row.ended_at, row.cleared_at, row.verdict), (self.at(self.SEEN), self.at(self.SEEN), None))
        self.assertIn("Judge it.", str(await self.notices()))
        return await self.machine()

    async def test_a_build_that_is_not_on_the_bed_any_more_is_to_be_judged(self) -> None:
        await self.restored(began=True)
        await self.stands(MachineState.IDLE)
        found = await self.over()
        self.assertEqual((found.state, found.strange_build), (MachineState.IDLE, None))

    async def test_so_is_one_in_whose_place_is_another_which_is_strange_until_the_bed_is_clear(self) -> None:
        await self.restored(began=True)
        await self.stands(MachineState.BUILDING, BuildOnBed(self.STRANGE, self.at(50)))
        found = await self.over()
        self.assertEqual((found.state, found.strange_build), (MachineState.BUILDING, self.STRANGE))
        self.assertIn(f"build {self.STRANGE}, which the restored records do not know", found.reason)
        await self.tell(StateChanged(MachineState.IDLE), 200)
        self.assertIsNone((await self.machine()).strange_build)

    async def test_one_that_had_ended_before_and_was_cleared_meanwhile_keeps_how_it_ended(self) -> None:
        await self.restored(began=True, ended=BuildEnded(self.build, Outcome.COMPLETED, "", 10, 60.0, 25.0))
        await self.stands(MachineState.IDLE)
        row = await self.stored()
        self.assertEqual((row.outcome, row.cleared_at), (Outcome.COMPLETED, self.at(self.SEEN)))

    async def test_a_tender_that_knows_nothing_of_it_is_told_all(self) -> None:
        await self.restored(began=True)
        await self.stands(None)
        found = await self.machine()
        self.assertEqual((found.unsure, found.state), (None, MachineState.OFFLINE))
        self.assertEqual((await self.stored()).state, BuildState.BUILDING)
