"""Planned time: closed-form cases with their arithmetic, and what must hold of any file."""

from __future__ import annotations

import math
import unittest
from dataclasses import replace

from hypothesis import given, settings
from hypothesis import strategies as st

from chronarch.core.gcode import reader
from chronarch.core.gcode.analysis import Analysis, analyse
from chronarch.core.machines.model import HeaterFigures, MachineModel
from tests.support.gcode import squares, two_boxes

MODEL = MachineModel("toy", max_speed_mm_s=(200, 200, 10), acceleration_mm_s2=1000)


def read(text: str, model: MachineModel = MODEL) -> Analysis:
    return analyse(text.encode(), model)


class ClosedForms(unittest.TestCase):
    def test_one_trapezoid_takes_what_arithmetic_says(self) -> None:
        # 100 mm at 100 mm/s and 1000 mm/s²: 0.1 s and 5 mm up, as much down, 90 mm at 100 mm/s: 0.1 + 0.1 + 0.9 s
        self.assertAlmostEqual(read("G1 X100 F6000\n").planned_s, 1.1)

    def test_a_short_move_is_a_triangle(self) -> None:
        # 4 mm never reach 100 mm/s: peak v² = a d = 4000, up and down 2 v / a = 2 sqrt(4000) / 1000
        self.assertAlmostEqual(read("G1 X4 F6000\n").planned_s, 2 * math.sqrt(4000) / 1000)

    def test_a_square_slows_at_its_corners_as_far_as_the_deviation_lets_it(self) -> None:
        # at a right angle sin(θ/2) = sin 45°: v² = a δ s / (1 - s)
        s = math.sin(math.pi / 4)
        corner2 = 1000 * 0.02 * s / (1 - s)
        corner = math.sqrt(corner2)
        # six ramps between corner and 100 mm/s, two between rest and 100 mm/s; the rest of 200 mm at 100 mm/s
        ramp_mm, ramp_s = (100**2 - corner2) / 2000, (100 - corner) / 1000
        expected = 6 * ramp_s + 2 * 0.1 + (200 - 6 * ramp_mm - 2 * 5) / 100
        self.assertAlmostEqual(read("G1 X50 F6000\nG1 Y50\nG1 X0\nG1 Y0\n").planned_s, expected)

    def test_a_square_on_a_model_with_jerk_takes_its_corners_at_the_jerk(self) -> None:
        # each axis changes by the whole speed at a right angle, so v = jerk = 8 mm/s
        model = replace(MODEL, cornering="jerk", jerk_mm_s=(8, 8, 0.4, 5))
        expected = 6 * 0.092 + 2 * 0.1 + (200 - 6 * (100**2 - 8**2) / 2000 - 10) / 100
        self.assertAlmostEqual(read("G1 X50 F6000\nG1 Y50\nG1 X0\nG1 Y0\n", model).planned_s, expected)

    def test_moves_in_one_line_take_as_long_as_one_move(self) -> None:
        pieces = "".join(f"G1 X{x} F6000\n" for x in range(1, 101))
        self.assertAlmostEqual(read(pieces, replace(MODEL, lookahead_moves=64)).planned_s, 1.1, places=3)

    def test_a_machine_that_looks_less_far_ahead_is_slower(self) -> None:
        pieces = "".join(f"G1 X{x / 10:.1f} F9000\n" for x in range(1, 1001))
        near, far = (read(pieces, replace(MODEL, lookahead_moves=n)).planned_s for n in (4, 256))
        self.assertGreater(near, 1.5 * far)

    def test_an_arc_is_as_long_as_its_circle_and_no_quicker_than_its_radius_bears(self) -> None:
        # a quarter of radius 20: 10π mm, sqrt(a r) = 141 mm/s is no bound: two ramps of 0.1 s and 5 mm
        wide = read("G28\nG1 X20 Y0 F60000\nG4 P1\nG3 X0 Y20 I-20 J0 F6000\n").planned_s
        before = read("G28\nG1 X20 Y0 F60000\nG4 P1\n").planned_s
        self.assertAlmostEqual(wide - before, 0.2 + (10 * math.pi - 10) / 100)
        # radius 5: v = sqrt(1000 * 5); half a circle by its radius word
        v = math.sqrt(5000)
        tight = read("G28\nG2 X10 Y0 R5 F60000\n").planned_s - read("G28\nG4 P0\nG1 X0\n").planned_s
        self.assertAlmostEqual(tight, 2 * v / 1000 + (5 * math.pi - v * v / 1000) / v)

    def test_an_axis_limit_slows_the_whole_move(self) -> None:
        # z alone may go 10 mm/s at 200 mm/s²: 20 mm take 2 s and the ramps' 10/200 s
        self.assertAlmostEqual(read("G1 Z20 F6000\n").planned_s, 2.05)

    def test_words_that_change_limits_hold_from_there_on(self) -> None:
        self.assertAlmostEqual(read("M204 S500\nG1 X100 F6000\n").planned_s, 100 / 100 + 100 / 500)
        self.assertAlmostEqual(read("M203 X50\nG1 X100 F6000\n").planned_s, 100 / 50 + 50 / 1000)
        self.assertAlmostEqual(read("M201 X250\nG1 X100 F6000\n").planned_s, 100 / 100 + 100 / 250)
        self.assertAlmostEqual(read("M220 S50\nG1 X100 F6000\n").planned_s, 100 / 50 + 50 / 1000)

    def test_dwells_and_inches(self) -> None:
        a = read("G4 S3\nG4 P500\nG1 X0\n")
        self.assertAlmostEqual(a.planned_s, 3.5)
        self.assertAlmostEqual(a.dwell_s, 3.5)
        self.assertAlmostEqual(read("G20\nG1 X1 F600\n").planned_s, read("G1 X25.4 F15240\n").planned_s)

    def test_a_pause_is_told_and_not_timed(self) -> None:
        for word in ("M0 put it in", "M1", "M25", "M600", "M601"):
            with self.subTest(word=word):
                a = read(f"G1 X100 F6000\n{word}\nG1 X0\n")
                self.assertAlmostEqual(a.planned_s, 2.2)
                self.assertEqual([(p.line, p.command) for p in a.pauses], [(2, 1)])

    def test_heating_takes_what_the_models_heater_takes(self) -> None:
        # a first-order lag: dT/dt = (reach - T) / lag with lag = (reach - 22) / rise
        model = replace(MODEL, nozzle_heat=HeaterFigures(2.0, 422.0, 100.0), bed_heat=HeaterFigures(0.5, 222.0, 100.0))
        alone = 200 * math.log(400 / (422 - 200))
        self.assertAlmostEqual(read("M109 S200\nG1 X0\n", model).planned_s, alone)
        bed = 400 * math.log(200 / (222 - 60))
        both = read("M140 S60\nM104 S200\nM190 S60\nM109 S200\nG1 X0\n", model)
        self.assertAlmostEqual(both.heating_s, max(alone, bed), msg="they heat at the same time")
        # cooling: T - 22 falls by e in its time constant; S does not wait for it, R does
        cool = 100 * math.log((200 - 22) / (150 - 22))
        self.assertAlmostEqual(read("M109 S200\nM109 S150\nG1 X0\n", model).planned_s, alone)
        self.assertAlmostEqual(read("M109 S200\nM109 R150\nG1 X0\n", model).planned_s, alone + cool)

    def test_the_same_file_has_its_own_time_on_each_model(self) -> None:
        times = {read(squares(), replace(MODEL, acceleration_mm_s2=a)).planned_s for a in (300, 1000, 3000)}
        self.assertEqual(len(times), 3)

    def test_retraction_by_the_machines_own_words_counts(self) -> None:
        # 0.8 mm at 35 mm/s and 2500 mm/s²: a trapezoid of its own, twice
        one = 0.8 / 35 + 35 / 2500
        self.assertAlmostEqual(read("G10\nG11\nG1 X0\n").planned_s, 2 * one)
        self.assertAlmostEqual(read("M207 S2 F1200\nG10\nG10\nG1 X0\n").planned_s, 2 / 20 + 20 / 2500)


moves = st.lists(
    st.tuples(
        st.floats(0, 200), st.floats(0, 200), st.sampled_from([0.2, 0.4, 0.6]), st.floats(-1, 3), st.floats(5, 180)
    ),
    min_size=1, max_size=60,
)  # fmt: skip


def text_of(rows: list[tuple[float, float, float, float, float]], speed: float = 1.0) -> str:
    lines = [f"G1 X{x:.3f} Y{y:.3f} Z{z} E{e:.4f} F{f * 60 * speed:.4f}" for x, y, z, e, f in rows]
    return "\n".join(["M83", *lines, ""])


def quicker(model: MachineModel, k: float) -> MachineModel:
    """The model of a machine that does all k times as fast: speeds and jerks times k, accelerations times k²."""
    return replace(
        model,
        max_speed_mm_s=tuple(v * k for v in model.max_speed_mm_s),
        max_filament_mm_s=model.max_filament_mm_s * k,
        acceleration_mm_s2=model.acceleration_mm_s2 * k * k,
        axis_acceleration_mm_s2=tuple(v * k * k for v in model.axis_acceleration_mm_s2),
        retract_acceleration_mm_s2=model.retract_acceleration_mm_s2 * k * k,
        jerk_mm_s=tuple(v * k for v in model.jerk_mm_s),
    )


class WhatMustHold(unittest.TestCase):
    @settings(max_examples=60)
    @given(moves, st.sampled_from([0.5, 2.0, 4.0]), st.sampled_from(["deviation", "jerk"]))
    def test_a_machine_that_does_all_k_times_as_fast_needs_a_kth_of_the_time(self, rows, k: float, rule: str) -> None:  # type: ignore[no-untyped-def]
        model = replace(MODEL, cornering=rule)
        slow, fast = read(text_of(rows), model), read(text_of(rows, k), quicker(model, k))
        self.assertAlmostEqual(slow.planned_s, fast.planned_s * k, delta=1e-4 * (1 + slow.planned_s))

    @settings(max_examples=60)
    @given(moves)
    def test_layers_add_up_to_the_whole(self, rows) -> None:  # type: ignore[no-untyped-def]
        a = read(text_of(rows))
        self.assertAlmostEqual(a.before_s + sum(n.seconds for n in a.layers), a.planned_s)
        if a.layers:
            before = sum(a.filament_mm.values()) - sum(n.filament_mm for n in a.layers)
            self.assertAlmostEqual(before, sum(r[3] for r in rows[: a.layers[0].first_command - 1]), places=2)

    @settings(max_examples=60)
    @given(moves)
    def test_no_file_is_quicker_than_its_way_at_full_speed(self, rows) -> None:  # type: ignore[no-untyped-def]
        a = read(text_of(rows))
        way, at = 0.0, (0.0, 0.0, 0.0)
        for x, y, z, _, f in rows:
            way += math.dist(at, (round(x, 3), round(y, 3), z)) / f
            at = (round(x, 3), round(y, 3), z)
        self.assertGreaterEqual(a.planned_s, way - 1e-3)

    def test_the_plan_rises_from_nothing_to_the_whole(self) -> None:
        a = read(squares(layers=4, rounds=8, feed=600))
        steps = [a.plan.at(n).planned_s for n in range(a.commands + 1)]
        self.assertEqual(steps[0], 0.0)
        self.assertAlmostEqual(steps[-1], a.planned_s)
        self.assertEqual(steps, sorted(steps))
        self.assertEqual((a.plan.layer_at(0), a.plan.layer_at(a.commands)), (0, 4))

    def test_a_long_plan_is_thinned_and_still_true(self) -> None:
        text = "G28\n" + "".join(f"G4 S3\nG1 X{n % 9}\n" for n in range(60_000))
        a = read(text)
        self.assertLess(len(a.plan.marks), reader.MOST_PLAN_MARKS + 200)
        half = a.plan.at(a.commands // 2)
        self.assertAlmostEqual(half.planned_s, a.planned_s / 2, delta=60)

    def test_how_the_file_is_cut_into_pieces_for_the_kernel_changes_nothing(self) -> None:
        text = two_boxes(layers=6)
        whole = read(text)
        before = reader.CHUNK
        try:
            for size in (1, 37, 4096):
                reader.CHUNK = size
                again = read(text)
                self.assertEqual(
                    (again.planned_s, again.layers, again.objects), (whole.planned_s, whole.layers, whole.objects)
                )
        finally:
            reader.CHUNK = before
