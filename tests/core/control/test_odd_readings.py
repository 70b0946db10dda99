"""Layers that take another time than they should, and heat that swings."""

from __future__ import annotations

import math
import unittest
from datetime import UTC, datetime, timedelta

from chronarch.core.control.events import BuildEnded, LayersLaid, Noticed
from chronarch.core.control.odd_readings import HeatSwing, LayerTimes
from chronarch.core.control.progress import Progress
from chronarch.core.gcode.plan import Mark, TimePlan
from tests.support.bench import MODEL, Bench
from tests.support.gcode import squares

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)
LAYERS, COMMANDS, LAYER_S = 30, 100, 60.0
PLAN = TimePlan(
    [Mark(0, 0.0, 0.0), Mark(LAYERS * COMMANDS, LAYERS * LAYER_S, 900.0)], [n * COMMANDS for n in range(LAYERS)]
)


class Layers(unittest.TestCase):
    def build(self, took_s: dict[int, float], pace: float = 1.0, begins: int = 0) -> list[str]:
        """What is told of a build whose layers take so long, by their numbers; the others as planned at a pace."""
        times, progress, told = LayerTimes(), Progress(PLAN, pace), []
        progress.begin_laying()
        for command in range(begins, LAYERS * COMMANDS):
            progress.acknowledged = command + 1
            progress.laying_s += took_s.get(PLAN.layer_at(command + 1), LAYER_S * pace) / COMMANDS
            if text := times.look(progress):
                told.append(text)
        return told

    def test_layers_that_take_as_long_as_planned_or_all_as_much_longer_are_not_told_of(self) -> None:
        for pace in (1.0, 0.6, 1.8):
            self.assertEqual(self.build({}, pace), [])
        self.assertEqual(self.build({5: 400.0, 6: 400.0, 9: 400.0, 12: 5.0}), [], "one odd layer is not a failure")
        self.assertEqual(self.build(dict.fromkeys(range(5, 12), 100.0)), [], "a little is nothing")

    def test_one_that_takes_much_longer_is_told_of_once_in_a_while(self) -> None:
        told = self.build(dict.fromkeys(range(10, 20), 300.0))
        self.assertRegex(told[0], r"layers 10 to 12 took 15 min and should take \d min")
        self.assertLessEqual(len(told), 2)

    def test_what_a_tender_that_came_late_has_not_seen_is_not_told_of(self) -> None:
        self.assertEqual(self.build({}, begins=10 * COMMANDS + 90), [])


class Heat(unittest.TestCase):
    def told(self, swing_c: float, minutes: float = 20, asked: float = 205.0) -> list[str]:
        heater, found = HeatSwing("nozzle", 10.0), []
        for second in range(round(60 * minutes)):
            measured = asked + swing_c / 2 * math.sin(second / 20)
            if text := heater.take(NINE + timedelta(seconds=second), measured, asked):
                found.append(text)
        return found

    def test_heat_that_swings_far_is_told_of_once_in_a_while(self) -> None:
        self.assertEqual(self.told(6.0), [])
        (said,) = self.told(16.0)
        self.assertRegex(said, r"nozzle swings by 1\d °C where 205 °C are asked for")
        self.assertEqual(len(self.told(16.0, minutes=70)), 3)

    def test_warming_up_and_another_wish_are_no_swing(self) -> None:
        heater = HeatSwing("bed", 6.0)
        for second in range(2400):
            asked = 60.0 if second < 1200 else 80.0
            measured = min(asked, 25 + second * 0.2 if second < 1200 else 60 + (second - 1200) * 0.1)
            self.assertEqual(heater.take(NINE + timedelta(seconds=second), measured, asked), "")


class AtAMachine(unittest.TestCase):
    def test_a_build_tells_people_of_them(self) -> None:
        b = Bench(MODEL, squares(layers=14, rounds=24, side=50, feed=600))
        b.begin()
        plan, progress = b.controller.machine.the_spec().plan, b.controller.machine.the_progress()
        for _ in range(5000):
            before = progress.acknowledged
            b.run(lines=1, seconds=0.06)
            slow = 6 if 6 <= plan.layer_at(progress.acknowledged) <= 9 else 1
            b.real_s += slow * (plan.at(progress.acknowledged).planned_s - plan.at(before).planned_s)
            if b.of(BuildEnded):
                break
        told = [e for e in b.of(Noticed) if e.about == "readings"]
        self.assertEqual(len(told), 1)
        self.assertRegex(told[0].text, r"layers 6 to 8 took \d+ min and should take \d+ min")
        laid = dict(pair for event in b.of(LayersLaid) for pair in event.layers)
        self.assertEqual(set(laid), set(range(1, 15)), "each layer's time is told")
        self.assertGreater(min(laid[n] for n in (6, 7, 8, 9)), 3 * max(laid[n] for n in (3, 4, 11, 12)))
        self.assertLess(len(b.of(LayersLaid)), 14, "some at a time")


if __name__ == "__main__":
    unittest.main()
