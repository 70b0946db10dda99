"""Reading G-code: words, closed-form times, layers, extents, filament, and what is refused."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.errors import NotGcode
from chronarch.core.gcode.analysis import Analysis, analyse
from chronarch.core.gcode.modal import ModalState
from chronarch.core.gcode.tokens import command_of, parse_words
from chronarch.core.machines.model import MachineModel
from tests.support.gcode import commands, squares

MODEL = MachineModel("toy", max_speed_mm_s=(200, 200, 10), acceleration_mm_s2=1000)


def read(text: str) -> Analysis:
    return analyse(text.encode(), MODEL)


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
        self.assertEqual(
            read("G1 X1\nM998 S1\nM998\nG77\nSPEED_UP NOW=1\n").unknown, {"M998": 2, "G77": 1, "SPEED_UP": 1}
        )


class Refused(unittest.TestCase):
    def test_what_is_not_a_whole_gcode_file_is_refused_with_why(self) -> None:
        table = {
            "": "empty",
            "; only a comment\n": "no movement",
            "M104 S200\n": "no movement",
            "Dear sir,\nplease print this.\n" * 20: "not G-code",
            "G28\nG1 X1\nG1 X12.3 Y": "cut short",
            "M104 S200\nG28\nG1 X1\nG1 X12.3 Y4": "cut short",
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
            analyse(data, MODEL)
        except NotGcode as error:
            self.assertTrue(str(error).endswith("."), error)
