"""Time without jumps: whatever somebody sets the computer's clock to, shop time runs on evenly and never goes back."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.clock import SLEW, ManualClock, ScaledClock, SteadyWall, parse_clock, shared_clock
from chronarch.core.machines.thermal_protection import NOZZLE, HeaterWatch

NOON = datetime(2026, 11, 23, 12, tzinfo=UTC)


class Computer:
    """A wall clock that can be set, and a monotonic one that cannot."""

    def __init__(self) -> None:
        self.passed = 0.0
        self.set_by = 0.0

    def wall(self) -> float:
        return NOON.timestamp() + self.passed + self.set_by

    def monotonic(self) -> float:
        return 1000.0 + self.passed


class Steady(unittest.TestCase):
    def setUp(self) -> None:
        self.computer = Computer()
        self.clock = SteadyWall(self.computer.wall, self.computer.monotonic)

    def test_undisturbed_it_is_the_wall_clock(self) -> None:
        self.computer.passed = 3600
        self.assertEqual(self.clock.now(), NOON + timedelta(hours=1))

    @given(st.lists(st.tuples(st.floats(0, 100), st.floats(-7200, 7200)), max_size=30))
    def test_it_never_goes_back_and_never_runs_much_quicker_or_slower(self, steps: list[tuple[float, float]]) -> None:
        self.setUp()
        before = self.clock.now()
        for passed, set_by in steps:
            self.computer.passed += passed
            self.computer.set_by = set_by
            now = self.clock.now()
            seemed = (now - before).total_seconds()
            self.assertTrue(passed * (1 - SLEW) - 1e-3 <= seemed <= passed * (1 + SLEW) + 1e-3, (passed, seemed))
            before = now

    def test_what_the_clock_was_set_by_is_made_up_for_in_time(self) -> None:
        self.computer.set_by = 60
        for _ in range(1300):
            self.computer.passed += 1
            self.clock.now()
        self.assertEqual(self.clock.now(), NOON + timedelta(seconds=1300 + 60))

    def test_it_says_how_far_the_clock_was_set_and_is_not_made_up_for(self) -> None:
        self.assertEqual(self.clock.set_by_s(), 0)
        self.computer.set_by = -60
        self.assertAlmostEqual(self.clock.set_by_s(), -60, places=3)
        self.computer.passed = 400
        self.assertAlmostEqual(self.clock.set_by_s(), -40, places=3)

    def test_a_heater_is_not_found_dead_because_somebody_set_the_clock(self) -> None:
        watch = HeaterWatch(NOZZLE)
        for second in range(30):
            self.computer.passed = second
            self.computer.set_by = 3600.0 if second > 10 else 0.0
            self.assertIsNone(watch.take(self.clock.now(), 100.0 + 0.05 * second, 205.0))


class Clocks(unittest.TestCase):
    def test_two_processes_with_one_spec_agree_on_shop_time(self) -> None:
        clock = ScaledClock(datetime.now(UTC), NOON, 30.0)
        again = parse_clock(clock.spec())
        self.assertLess(abs((clock.now() - again.now()).total_seconds()), 1.0)
        self.assertEqual(again.rate, 30.0)

    def test_processes_agree_though_the_clock_was_set_between_their_starts(self) -> None:
        clock = shared_clock(NOON, 100.0)
        with mock.patch("time.time", lambda: NOON.timestamp() + 3600):
            again = parse_clock(clock.spec())
            before, then, after = clock.now(), again.now(), clock.now()
        self.assertTrue(before <= then <= after, (before, then, after))
        self.assertEqual(again, clock)

    def test_nonsense_is_refused(self) -> None:
        whole = f"{NOON.isoformat()}|{NOON.isoformat()}"
        for spec in ("x", "a|b|c", f"{whole}|0", f"{whole}|1|x", f"{whole}|1|2|3"):
            with self.assertRaises(ValueError):
                parse_clock(spec)

    def test_a_manual_clock_moves_when_told(self) -> None:
        clock = ManualClock(NOON, rate=10)
        clock.advance(60)
        self.assertEqual((clock.now() - NOON).total_seconds(), 60)
        self.assertEqual(clock.monotonic_s(), 6)


if __name__ == "__main__":
    unittest.main()
