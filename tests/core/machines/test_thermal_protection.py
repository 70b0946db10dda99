"""Thermal protection."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta

from chronarch.core.machines.thermal_protection import BED, NOZZLE, HeaterWatch

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)


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


if __name__ == "__main__":
    unittest.main()
