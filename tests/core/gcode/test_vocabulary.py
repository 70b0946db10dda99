"""The tables of words and rules agree with each other, with the kernel and with the page that documents them."""

from __future__ import annotations

import unittest
from pathlib import Path

from chronarch.core.gcode import rules
from chronarch.core.gcode.analysis import analyse
from chronarch.core.gcode.preflight import Faults, ReadingFault, preflight
from chronarch.core.gcode.vocabulary import LASTING_SETTINGS, OUTLASTS_POWER, PASSED, PAUSES, READ
from chronarch.core.machines.model import MachineModel

MODEL = MachineModel("toy")
PAGE = (Path(__file__).parents[3] / "docs" / "reading.md").read_text()


class Words(unittest.TestCase):
    def test_no_word_is_both_known_and_passed_or_lasting(self) -> None:
        self.assertEqual(READ & PASSED, set())
        self.assertEqual((READ | PASSED) & set(LASTING_SETTINGS), set())
        self.assertLessEqual(OUTLASTS_POWER, set(LASTING_SETTINGS))
        self.assertLessEqual(set(PAUSES), READ)

    def test_every_word_that_is_read_stands_on_the_page(self) -> None:
        for word in READ - {"G21", "G91", "M83", "G11", "M107", "M221"}:
            with self.subTest(word=word):
                self.assertIn(f"`{word}`", PAGE)

    def test_a_file_of_all_known_words_has_no_unknown_one(self) -> None:
        words = sorted((READ | PASSED) - set(PAUSES))
        a = analyse(("G28\nG1 X1\n" + "".join(f"{word}\n" for word in words)).encode(), MODEL)
        self.assertEqual(a.unknown, {})
        self.assertEqual(a.commands, len(words) + 2)

    def test_a_word_of_no_meaning_is_counted_wherever_its_number_lies(self) -> None:
        a = analyse(b"G28\nG1 X1\nG38.2\nG38.2\nG999\nM9999\nM12345\nT3\n", MODEL)
        self.assertEqual(a.unknown, {"G38.2": 2, "G999": 1, "M9999": 1})


class Rules(unittest.TestCase):
    def test_each_rule_of_the_kernel_becomes_a_finding_that_the_page_names(self) -> None:
        seen = set()
        for rule in range(rules.RULES):
            faults = Faults({rule: ReadingFault(5, 2, 400.0)}, {}, True, (), 100.0, False, (0,), 3)
            (found,) = preflight(faults, MODEL)
            self.assertEqual(found.line, 5)
            self.assertTrue(found.text.endswith("."), found.text)
            self.assertIn(f"`{found.rule}`", PAGE)
            seen.add(found.rule)
        self.assertEqual(seen, {"outside-volume", "over-ceiling", "cold-extrusion", "not-homed", "inches"})

    def test_words_that_outlast_the_build_say_what_they_do(self) -> None:
        for word in LASTING_SETTINGS:
            faults = Faults({}, {word: (9, 3)}, True, (), 100.0, False, (0,), 3)
            (found,) = preflight(faults, MODEL)
            self.assertEqual((found.rule, found.line), ("lasting-word", 9))
            self.assertIn("(3 times)", found.text)
            self.assertEqual(found.severity == "refuse", word in OUTLASTS_POWER)

    def test_the_worst_comes_first_then_the_earliest(self) -> None:
        text = "M501\nG28\nM83\nM500\nG1 X10 E1\nM997\n"
        found = [(f.severity.value, f.line) for f in analyse(text.encode(), MODEL).findings]
        self.assertEqual(found, sorted(found, key=lambda x: (("refuse", "warning", "note").index(x[0]), x[1])))

    def test_arcs_in_the_other_planes_are_as_long_and_reach_where_they_end(self) -> None:
        flat = analyse(b"G28\nG1 X20\nG4 P0\nG3 X0 Y20 I-20 J0 F600\n", MODEL)
        for plane, words in (("G18", "Z0 X20"), ("G19", "Y20 Z0")):
            begin, end = ("Z20", "G3 Z0 X20 K-20 I0") if plane == "G18" else ("Y20", "G3 Y0 Z20 J-20 K0")
            a = analyse(f"G28\n{plane}\nG1 {begin} F600\nG4 P0\n{end} F600\n".encode(), MODEL)
            with self.subTest(plane=plane, words=words):
                assert a.travel_mm is not None
                self.assertGreater(a.planned_s, 2.0)
                self.assertAlmostEqual(max(a.travel_mm[1]), 20.0)
        self.assertGreater(flat.planned_s, 3.0)
