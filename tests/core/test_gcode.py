"""Reading G-code: words, closed-form times, layers, extents, filament, and what is refused."""

from __future__ import annotations

import math
import unittest

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.errors import NotGcode
from chronarch.core.fleet import MachineModel
from chronarch.core.gcode import Analysis, analyse, command_of, parse_words
from chronarch.core.gcode.analysis import trapezoid_s
from chronarch.core.gcode.modal import ModalState
from tests.support.gcode import commands, squares

MODEL = MachineModel("toy", max_speed_mm_s=(200, 200, 10), acceleration_mm_s2=1000)


def read(text: str) -> Analysis:
    return analyse([text.encode()], MODEL)


class Words(unittest.TestCase):
    def test_a_command_is_what_is_left_without_comment_number_and_checksum(self) -> None:
        table = {
            b"G1 X4 ; left": b"G1 X4",
            b"N12 G1 X4*17": b"G1 X4",
            b"  M104 S200  ": b"M104 S200",
            b"(about this) G28": b"G28",
            b"; only words": b"",
            b"": b"",
            b"M117 part (2 of 3)": b"M117 part (2 of 3)",
            b"G28\r": b"G28",
        }
        for line, expected in table.items():
            with self.subTest(line=line):
                self.assertEqual(command_of(line), expected)

    def test_words_are_letters_with_numbers_in_either_case(self) -> None:
        self.assertEqual(parse_words(b"g1x4.5Y-2 e.25"), {"G": 1, "X": 4.5, "Y": -2, "E": 0.25})
        self.assertEqual(parse_words(b"G28 X"), {"G": 28, "X": None})

    @given(st.floats(-999, 999), st.floats(-999, 999), st.booleans())
    def test_modal_position_follows_absolute_and_relative_moves(self, x: float, y: float, absolute: bool) -> None:
        m = ModalState(x=1, y=2, absolute=absolute)
        m.apply(b"G1 X%.3f Y%.3f F1200" % (x, y))
        base = (0, 0) if absolute else (1, 2)
        self.assertAlmostEqual(m.x, round(x, 3) + base[0], places=6)
        self.assertAlmostEqual(m.y, round(y, 3) + base[1], places=6)
        self.assertEqual(m.feed_mm_min, 1200)


class Time(unittest.TestCase):
    def test_one_trapezoid_takes_what_arithmetic_says(self) -> None:
        # 100 mm at 100 mm/s and 1000 mm/s²: 0.1 s and 5 mm up, as much down, 90 mm at 100 mm/s: 0.1 + 0.1 + 0.9 s
        self.assertAlmostEqual(read("G1 X100 F6000\n").planned_s, 1.1)

    def test_a_short_move_is_a_triangle(self) -> None:
        # 4 mm never reach 100 mm/s: peak v² = a d = 4000, up and down 2 v / a = 2 sqrt(4000) / 1000
        self.assertAlmostEqual(read("G1 X4 F6000\n").planned_s, 2 * math.sqrt(4000) / 1000)

    def test_a_square_is_four_times_its_side(self) -> None:
        text = "G1 X50 F6000\nG1 Y50\nG1 X0\nG1 Y0\n"
        # each side from rest to rest: 0.2 s of ramps over 10 mm, 40 mm at 100 mm/s
        self.assertAlmostEqual(read(text).planned_s, 4 * (0.2 + 0.4))

    def test_an_axis_limit_slows_the_whole_move(self) -> None:
        # z alone may go 10 mm/s: 20 mm take 2 s and the ramps' 10/1000 s
        self.assertAlmostEqual(read("G1 Z20 F6000\n").planned_s, 2.01)

    def test_a_dwell_counts_and_inches_are_read(self) -> None:
        self.assertAlmostEqual(read("G4 S3\nG4 P500\nG1 X0\n").planned_s, 3.5)
        self.assertAlmostEqual(read("G20\nG1 X1 F600\n").planned_s, read("G1 X25.4 F15240\n").planned_s)

    @given(st.floats(0.1, 500), st.floats(1, 300), st.floats(0, 1), st.floats(100, 9000))
    def test_no_move_is_quicker_than_its_cruise_nor_slower_than_from_rest(
        self, length: float, cruise: float, corner: float, accel: float
    ) -> None:
        entry = corner * cruise
        t = trapezoid_s(length, entry, cruise, entry, accel)
        self.assertGreaterEqual(t, length / cruise * 0.999999)
        self.assertLessEqual(t, trapezoid_s(length, 0, cruise, 0, accel) * 1.000001)

    @given(st.lists(st.tuples(st.floats(0, 200), st.floats(0, 200), st.floats(0, 2)), min_size=2, max_size=40))
    def test_layer_seconds_and_filament_add_up_to_the_whole(self, moves: list[tuple[float, float, float]]) -> None:
        lines = ["M83", "G1 X1 Y1 Z0.2 F3000"]
        for n, (x, y, e) in enumerate(moves):
            lines.append(f"G1 X{x:.3f} Y{y:.3f} E{e:.4f}")
            if n % 7 == 6:
                lines.append(f"G1 Z{0.2 * (2 + n // 7):.2f}")
        a = read("\n".join(lines) + "\n")
        if not a.layers:
            return
        before = a.plan.at(a.layers[0].first_command)
        self.assertLessEqual(sum(layer.seconds for layer in a.layers), a.planned_s + 1e-9)
        self.assertLessEqual(sum(layer.filament_mm for layer in a.layers), sum(a.filament_mm.values()) + 1e-9)
        self.assertLessEqual(before.planned_s, a.planned_s)

    def test_the_plan_rises_from_nothing_to_the_whole(self) -> None:
        a = read(squares(layers=4, rounds=8, feed=600))
        steps = [a.plan.at(n).planned_s for n in range(a.commands + 1)]
        self.assertEqual(steps[0], 0.0)
        self.assertAlmostEqual(steps[-1], a.planned_s)
        self.assertEqual(steps, sorted(steps))
        self.assertEqual(a.plan.layer_at(0), 0)
        self.assertEqual(a.plan.layer_at(a.commands), 4)


class Figures(unittest.TestCase):
    def test_a_file_says_what_it_holds(self) -> None:
        text = squares(layers=3, rounds=2, side=40, nozzle=205, bed=60)
        a = read(text)
        self.assertEqual(a.commands, len(commands(text)))
        self.assertEqual([round(layer.z_mm, 2) for layer in a.layers], [0.2, 0.4, 0.6])
        self.assertEqual(a.extents_mm, ((90.0, 90.0, 0.2), (130.0, 130.0, 0.6)))
        self.assertAlmostEqual(a.filament_mm[0], 3 * 2 * 4 * 40 * 0.03, places=3)
        self.assertEqual((a.nozzle_c, a.bed_c), (205, 60))

    def test_unknown_words_are_counted_and_not_fatal(self) -> None:
        self.assertEqual(read("G1 X1\nM999 S1\nM999\nG77\n").unknown, {"M999": 2, "G77": 1})

    def test_pieces_of_any_size_read_alike(self) -> None:
        data = squares(layers=2, rounds=3).encode()
        whole = analyse([data], MODEL)
        for size in (1, 7, 64):
            self.assertEqual(analyse([data[i : i + size] for i in range(0, len(data), size)], MODEL), whole)


class Refused(unittest.TestCase):
    def test_what_is_not_a_whole_gcode_file_is_refused_with_why(self) -> None:
        table = {
            "": "empty",
            "; only a comment\n": "no movement",
            "M104 S200\n": "no movement",
            "Dear sir,\nplease print this.\n" * 20: "not G-code",
            "G28\nG1 X1\nG1 X12.3 Y": "cut short",
            "G28\nG1 X1\nG1 X12.3 Y4": "cut short",
            "G28\nG1 X1\nM104 S": "cut short",
            "G1 X1\n\0\0\0": "zero byte",
            "G1 " + "X1" * 3000: "4096",
        }
        for text, why in table.items():
            with self.subTest(text=text[:30]), self.assertRaisesRegex(NotGcode, why):
                read(text)

    def test_a_last_line_without_its_end_is_taken_when_it_is_whole(self) -> None:
        for last in ("M84", "; done", "M104 S0", "G28 X"):
            self.assertEqual(read("G1 X1\n" + last).commands, 2 - last.startswith(";"))

    @given(st.binary(max_size=2000))
    def test_any_bytes_are_read_or_refused(self, data: bytes) -> None:
        try:
            analyse([data], MODEL)
        except NotGcode as error:
            self.assertTrue(str(error).endswith("."), error)
