"""Rules in tables: states, blockers, heat, copies, names, clocks, progress."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core import states
from chronarch.core.clock import ManualClock, ScaledClock, parse_clock
from chronarch.core.copies import Copies, next_copy
from chronarch.core.errors import BadName
from chronarch.core.fleet import Capability, MachineModel, Requirement, Tool, grams
from chronarch.core.gcode.plan import Mark, Plan
from chronarch.core.heat import BED, NOZZLE, HeaterWatch
from chronarch.core.matching import Need, Standing, blocker, why_waiting
from chronarch.core.names import check_name
from chronarch.core.progress import FASTEST, SLOWEST, Progress
from chronarch.core.states import (
    BUILD,
    MACHINE,
    BuildEvent,
    BuildState,
    Intake,
    JobState,
    MachineEvent,
    MachineState,
    WrongState,
    after,
)

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)


class States(unittest.TestCase):
    def test_every_machine_state_but_offline_can_be_reached_and_left(self) -> None:
        reached = {MachineState.IDLE}
        while True:
            more = {t for (s, _), t in MACHINE.items() if s in reached} | reached
            if more == reached:
                break
            reached = more
        self.assertEqual(reached, set(MachineState) - {MachineState.OFFLINE})
        self.assertEqual({s for s, _ in MACHINE}, reached)

    def test_an_ended_build_has_no_further_state(self) -> None:
        for event in BuildEvent:
            with self.assertRaises(WrongState):
                after(BUILD, BuildState.ENDED, event)

    def test_a_wrong_event_says_what_is_possible(self) -> None:
        with self.assertRaisesRegex(WrongState, "possible: .*start.*take_out"):
            after(MACHINE, MachineState.IDLE, MachineEvent.RESUME)

    def test_the_diagrams_in_the_docs_are_drawn_from_the_tables(self) -> None:
        page = Path(__file__).parents[2] / "docs" / "states.md"
        self.assertEqual(page.read_text(), states.document())


class Matching(unittest.TestCase):
    def standing(self, **change: object) -> Standing:
        tool = Tool(0, 0.4, material="PLA", colour="teal")
        facts: dict[str, object] = {
            "capability": Capability("Anchor", MachineModel("Lantern 220"), (tool,)),
            "state": MachineState.IDLE,
            "intake": Intake.OPEN,
        }
        return Standing(**{**facts, **change})  # type: ignore[arg-type]

    def test_each_blocker_says_its_reason(self) -> None:
        cases: list[tuple[Need, dict[str, object], str]] = [
            (Need(Requirement(machine="Bezel")), {}, "for Bezel only"),
            (Need(Requirement(model="Kiln 250")), {}, "needs a Kiln 250"),
            (Need(Requirement(material="PETG")), {}, "has teal PLA loaded; the job needs PETG"),
            (Need(Requirement(material="pla", colour="ochre")), {}, "needs ochre"),
            (Need(Requirement(nozzle_mm=0.6)), {}, "has a 0.4 mm nozzle; the job needs 0.6 mm"),
            (Need(Requirement(hardened=True)), {}, "hardened"),
            (Need(Requirement(), refusals=("it is too tall",)), {}, "by the preflight: it is too tall"),
            (Need(Requirement(), said_nozzle_mm=0.6), {}, "sliced for a 0.6 mm nozzle"),
            (Need(Requirement(), said_material="PETG"), {}, "sliced for PETG"),
            (Need(Requirement(), said_model="Kiln 250"), {}, "sliced for a Kiln 250"),
            (Need(Requirement(), tools=(1,)), {}, "uses tool 1, which the machine has not"),
            (Need(Requirement()), {"intake": Intake.CLOSED}, "takes no work"),
            (Need(Requirement()), {"state": MachineState.UNCLEARED}, "bed to be cleared"),
            (Need(Requirement()), {"reachable": False}, "tender is not connected"),
            (Need(Requirement()), {"busy": True}, "has another build"),
        ]
        for need, change, words in cases:
            with self.subTest(words=words):
                self.assertIn(words, blocker(need, self.standing(**change)) or "")

    def test_a_job_that_fits_has_no_blocker_and_case_does_not_matter(self) -> None:
        need = Need(Requirement(material="pla", colour="Teal", nozzle_mm=0.4), said_material="PETG", said_nozzle_mm=0.6)
        self.assertIsNone(blocker(need, self.standing()))

    def test_why_waiting_tells_a_busy_fleet_from_one_that_cannot(self) -> None:
        busy = self.standing(state=MachineState.BUILDING)
        self.assertEqual(why_waiting(lambda at: [Need(Requirement())], "", [busy]), "Anchor is building.")
        cannot = why_waiting(lambda at: [Need(Requirement(material="PETG"))], "", [busy])
        self.assertTrue(cannot.startswith("No machine fits: Anchor has teal PLA"), cannot)
        self.assertIn("no machines yet", why_waiting(lambda at: [], "", []))


class Heat(unittest.TestCase):
    def alarms(self, rules: object, readings: list[tuple[float, float, float]]) -> list[str]:
        watch = HeaterWatch(rules)  # type: ignore[arg-type]
        said = (watch.take(NINE + timedelta(seconds=t), measured, asked) for t, measured, asked in readings)
        return [s for s in said if s]

    def test_a_healthy_rise_and_hold_raise_no_alarm(self) -> None:
        rise = [(t, min(205.0, 25 + 2 * t), 205.0) for t in range(200)]
        self.assertEqual(self.alarms(NOZZLE, rise), [])

    def test_a_rise_that_stalls_is_an_alarm_within_its_time(self) -> None:
        stall = [(t, min(90.0, 25 + 2 * t), 205.0) for t in range(30 + int(NOZZLE.rise_s))]
        self.assertEqual(self.alarms(NOZZLE, stall), [])
        stall.append((36 + NOZZLE.rise_s, 90.0, 205.0))
        self.assertIn("stopped rising: 90 °C", self.alarms(NOZZLE, stall)[0])

    def test_leaving_the_band_for_long_is_an_alarm_and_a_dip_is_not(self) -> None:
        dip = [(0.0, 205.0, 205.0), (5.0, 185.0, 205.0), (20.0, 200.0, 205.0), (60.0, 205.0, 205.0)]
        self.assertEqual(self.alarms(NOZZLE, dip), [])
        fall = [(0.0, 205.0, 205.0), (5.0, 185.0, 205.0), (36.0, 170.0, 205.0)]
        self.assertIn("left its band: 170 °C", self.alarms(NOZZLE, fall)[0])

    def test_a_broken_sensor_is_an_alarm_at_its_second_reading_even_when_off(self) -> None:
        for reading in (float("nan"), -40.0, 800.0):
            self.assertIn("cannot be", self.alarms(BED, [(0.0, reading, 0.0), (1.0, reading, 0.0)])[0])
            once = [(0.0, reading, 0.0), (1.0, 23.0, 0.0), (2.0, reading, 0.0)]
            self.assertEqual(self.alarms(BED, once), [], "once may be a report that was damaged on its way")

    def test_cooling_to_a_lower_target_is_let_be(self) -> None:
        cooling = [(0.0, 240.0, 240.0), *((float(t), 240.0 - t, 200.0) for t in range(1, 40))]
        self.assertEqual(self.alarms(NOZZLE, cooling), [])


class CopiesCounted(unittest.TestCase):
    @given(st.integers(1, 30), st.sets(st.integers(1, 30)))
    def test_the_next_copy_is_the_lowest_free_one(self, wanted: int, taken: set[int]) -> None:
        number = next_copy(wanted, taken)
        if number is None:
            self.assertTrue(set(range(1, wanted + 1)) <= taken)
        else:
            self.assertNotIn(number, taken)
            self.assertTrue(all(n in taken for n in range(1, number)))

    def test_a_jobs_state_follows_from_its_copies(self) -> None:
        table = [
            (Copies(3, 0, 0), False, False, JobState.WAITING),
            (Copies(3, 0, 0), True, False, JobState.HELD),
            (Copies(3, 1, 1), True, False, JobState.RUNNING),
            (Copies(3, 3, 0), False, False, JobState.FINISHED),
            (Copies(3, 1, 0), False, True, JobState.WITHDRAWN),
        ]
        for copies, held, withdrawn, expected in table:
            self.assertIs(copies.state(held=held, withdrawn=withdrawn), expected)


class Names(unittest.TestCase):
    def test_hostile_names_are_refused(self) -> None:
        for name in ("", "  ", "../x", "a/b", "a\\b", ".hidden", "a\0b", "a\nb", "x" * 300, "gcod‮e.exe", "a..b", "C:x"):
            with self.subTest(name=name), self.assertRaises(BadName):
                check_name(name)

    def test_ordinary_names_are_kept_composed(self) -> None:
        self.assertEqual(check_name("  Schiffchen spitz é.gcode "), "Schiffchen spitz é.gcode")


class Clocks(unittest.TestCase):
    def test_two_processes_with_one_spec_agree_on_shop_time(self) -> None:
        clock = ScaledClock(datetime.now(UTC), NINE, 30.0)
        again = parse_clock(clock.spec())
        self.assertLess(abs((clock.now() - again.now()).total_seconds()), 1.0)
        self.assertEqual(again.rate, 30.0)

    def test_nonsense_is_refused(self) -> None:
        for spec in ("x", "a|b|c", f"{NINE.isoformat()}|{NINE.isoformat()}|0"):
            with self.assertRaises(ValueError):
                parse_clock(spec)

    def test_a_manual_clock_moves_when_told(self) -> None:
        clock = ManualClock(NINE, rate=10)
        clock.advance(60)
        self.assertEqual((clock.now() - NINE).total_seconds(), 60)
        self.assertEqual(clock.monotonic_s(), 6)


class ProgressAndPace(unittest.TestCase):
    plan = Plan((Mark(0, 0, 0), Mark(100, 1000.0, 500.0)), (10,))

    def test_the_rest_is_planned_time_at_the_pace_so_far(self) -> None:
        p = Progress(self.plan, acknowledged=10)
        p.begin_laying()
        p.acknowledged, p.laying_s = 60, 1000.0
        self.assertAlmostEqual(p.share, 0.6)
        # 500 planned seconds took 1000; with 180 s of prior: 1180 / 680
        self.assertAlmostEqual(p.pace, 1180 / 680)
        self.assertAlmostEqual(p.remaining_s, 400 * 1180 / 680)

    def test_before_the_first_layer_warming_is_still_to_come(self) -> None:
        # 100 of the 1000 planned seconds come before the first layer: they run down with the clock, and no further
        p = Progress(self.plan, learned=1.2)
        self.assertAlmostEqual(p.remaining_s, 1200)
        p.warming_s = 60.0
        self.assertAlmostEqual(p.remaining_s, 1140)
        p.warming_s = 500.0
        self.assertAlmostEqual(p.remaining_s, 900 * 1.2)

    @given(st.integers(0, 100), st.floats(0, 1e6))
    def test_pace_and_rest_stay_within_bounds(self, acknowledged: int, laying_s: float) -> None:
        p = Progress(self.plan, 0)
        p.begin_laying()
        p.acknowledged, p.laying_s = acknowledged, laying_s
        self.assertTrue(FASTEST <= p.pace <= SLOWEST)
        self.assertGreaterEqual(p.remaining_s, 0)

    def test_grams_follow_density_and_diameter(self) -> None:
        # 1 m of 1.75 mm PLA: pi/4 * 1.75² * 1000 mm³ = 2405.28 mm³ = 2.40528 cm³, times 1.24 g/cm³
        self.assertAlmostEqual(grams("PLA", 1000.0), 2.40528 * 1.24, places=3)
