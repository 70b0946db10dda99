"""Files as slicers and editors really write them: marks, line ends, words for the link, curves, objects' names."""

from __future__ import annotations

import math
import tempfile
import unittest
from pathlib import Path

from chronarch.core.errors import NotGcode
from chronarch.core.gcode.analysis import Analysis, analyse
from chronarch.core.machines.model import MachineModel
from chronarch.tender.file_program import FileProgram
from tests.support.gcode import squares

MODEL = MachineModel("any")
SQUARE = (
    b"G21\nG90\nM83\nG28\nG1 Z0.2 F600\nG1 X10 Y10 F3000\nG1 X20 Y10 E1\nG1 X20 Y20 E1\nG1 X10 Y20 E1\nG1 X10 Y10 E1\n"
)


def read(data: bytes) -> Analysis:
    return analyse(data, MODEL)


class AsTheyCome(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def program(self, data: bytes) -> list[bytes]:
        path = self.folder / "file.gcode"
        path.write_bytes(data)
        program = FileProgram(path)
        return [program.command(n) for n in range(len(program))]

    def same_commands(self, data: bytes) -> None:
        """The same commands are fed, and counted by the reading, as of the plain file."""
        self.assertEqual(self.program(data), self.program(SQUARE))
        a, b = read(data), read(SQUARE)
        self.assertEqual((a.commands, a.filament_mm, a.unknown), (b.commands, b.filament_mm, b.unknown))
        self.assertAlmostEqual(a.planned_s, b.planned_s)

    def test_a_utf8_mark_at_the_start_is_no_part_of_line_one(self) -> None:
        self.same_commands(b"\xef\xbb\xbf" + SQUARE)

    def test_a_return_alone_ends_a_line_and_so_do_return_and_line_feed(self) -> None:
        self.same_commands(SQUARE.replace(b"\n", b"\r"))
        self.same_commands(SQUARE.replace(b"\n", b"\r\n"))
        self.assertEqual(read(SQUARE.replace(b"\n", b"\r")).lines, read(SQUARE.replace(b"\n", b"\r\n")).lines)

    def test_a_last_line_without_an_end_is_a_line(self) -> None:
        self.same_commands(SQUARE[:-1])
        with self.assertRaisesRegex(NotGcode, r"within line 10 .* cut short"):
            read(SQUARE[:-2].rsplit(b"E", 1)[0] + b"E")
        with self.assertRaisesRegex(NotGcode, "cut short"):
            read(b"M104 S200\n" + SQUARE[:-1])

    def test_words_that_belong_to_the_link_are_left_out(self) -> None:
        link = b"N1 M110 N0*125\nM110\nm110 N5\nM108\n"
        self.same_commands(link + SQUARE.replace(b"G28\n", b"G28\nM110 N77\n"))

    def test_m601_is_a_pause_for_hands(self) -> None:
        path = self.folder / "pause.gcode"
        path.write_bytes(SQUARE + b"M601\nG1 X1\n")
        self.assertEqual(FileProgram(path).waits, {10: b"M601"})
        self.assertEqual(len(read(path.read_bytes()).pauses), 1)

    def test_a_curve_lays_its_filament_along_its_length(self) -> None:
        # nearly a quarter of a circle of 30 mm: control points 0.5523 of the radius out
        k = 30 * 0.5522847
        curve = f"G1 X100 Y100\nG5 X130 Y130 I0 J{k:.4f} P-{k:.4f} Q0 E2 F3000\n".encode()
        a, plain = read(SQUARE + curve), read(SQUARE + b"G1 X100 Y100\n")
        self.assertAlmostEqual(a.filament_mm[0] - plain.filament_mm[0], 2.0, places=6)
        took = a.planned_s - plain.planned_s
        self.assertAlmostEqual(took, math.pi / 2 * 30 / 50, delta=0.3)
        assert a.extents_mm is not None
        self.assertEqual(a.extents_mm[1][:2], (130.0, 130.0))
        self.assertNotIn("G5", a.unknown)

    def test_a_figure_no_machine_has_is_refused_with_its_line(self) -> None:
        for line in (
            b"G1 X5 F0.0000000000000001",
            b"G1 X99999999999999999999",
            b"G4 S1000000000000",
            b"G92 X1e9 Y88888888888",
        ):
            with self.subTest(line=line), self.assertRaisesRegex(NotGcode, "[Ll]ine 11 "):
                read(SQUARE + line + b"\nG1 X50\n" * 3)
        with self.assertRaisesRegex(NotGcode, "over ten years"):
            read(SQUARE + b"M220 S0.0000001\n" + b"G1 X50\nG1 X60\n" * 200)


class ObjectsByName(unittest.TestCase):
    def named(self, begin: str, end: str) -> list[str]:
        text = squares(layers=2)
        return [o.name for o in read((begin + "\n" + text + end + "\n").encode()).objects]

    def test_every_way_of_marking_an_object_that_slicers_share_gives_its_name(self) -> None:
        for begin, end, name in (
            (";printing object hook", ";stop printing object hook", "hook"),
            ("; printing object hook id:0 copy 1", "; stop printing object hook", "hook id:0 copy 1"),
            ("; start printing object, unique label id: 7", "; stop printing object, unique label id: 7", "object 7"),
            (";MESH:hook.stl", ";MESH:NONMESH", "hook.stl"),
            ("EXCLUDE_OBJECT_START NAME=hook_1", "EXCLUDE_OBJECT_END NAME=hook_1", "hook_1"),
            ('EXCLUDE_OBJECT_START NAME="hook 1"', "EXCLUDE_OBJECT_END", "hook 1"),
            ('M486 S0\nM486 A"hook"', "M486 S-1", "hook"),
            ('M486 S0 A"hook"', "M486 S-1", "hook"),
            ("; OBJECT_ID: 12", "; stop printing", "object 12"),
        ):
            with self.subTest(begin=begin):
                self.assertEqual(self.named(begin, end), [name])

    def test_a_length_is_read_in_its_own_unit(self) -> None:
        for said in ("1234.5 mm (1.23 m)", "1.2345 m", "1234.5", "123.45 cm"):
            a = read(f"; filament used = {said}\n".encode() + SQUARE)
            assert a.declared.filament_mm is not None
            self.assertAlmostEqual(a.declared.filament_mm, 1234.5, msg=said)


if __name__ == "__main__":
    unittest.main()
