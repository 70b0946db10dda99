"""Reading what machines have stored."""

from __future__ import annotations

import unittest

from chronarch.core.control.machine_settings import MOST, read_settings
from chronarch.core.upkeep.side_by_side import side_by_side


class Settings(unittest.TestCase):
    def test_values_are_read_however_they_are_printed(self) -> None:
        lines = """
            echo:; Steps per unit:
            echo: M92 X80.00 Y80.40 Z400.00 E93.00
            M203 X300 Y300 Z12 E60 ; (units/s)
            echo:  M145 S0 H200.00 B60.00 F0
            echo:  M145 S1 H240.00 B80.00 F0
            echo:  m851 X-42.00 Y-5.00 Z-1.35
            echo:Unknown command: "M999"
            ok
        """.splitlines()
        found = read_settings(lines)
        self.assertEqual(found["M92 Y"], 80.4)
        self.assertEqual(found["M203 E"], 60)
        self.assertEqual((found["M145 S0 H"], found["M145 S1 H"]), (200, 240))
        self.assertEqual(found["M851 Z"], -1.35)
        self.assertEqual(len(found), 4 + 4 + 6 + 3)

    def test_nothing_and_too_much(self) -> None:
        self.assertEqual(read_settings(["ok", "T:20.0 /0.0", "echo:busy: processing"]), {})
        self.assertEqual(len(read_settings([f"M{n} X{n}" for n in range(1000)])), MOST)

    def test_what_differs_stands_beside_what_most_have(self) -> None:
        found, same = side_by_side(
            {"a": {"M92 X": 80, "M92 Y": 80}, "b": {"M92 X": 80.4, "M92 Y": 80}, "c": {"M92 X": 80}}
        )
        self.assertEqual(
            [(one.name, one.usual, one.values["c"]) for one in found], [("M92 X", 80, 80), ("M92 Y", 80, None)]
        )
        self.assertEqual(same, 0)
        self.assertEqual(side_by_side({"a": {"M92 X": 1}, "b": {"M92 X": 2}})[0][0].usual, None)
        self.assertEqual(side_by_side({}), ([], 0))
