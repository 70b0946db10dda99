"""Edits: each does what it says and no more. What is laid is followed by a reader of its own (tests/support)."""

from __future__ import annotations

import unittest
from collections import Counter
from dataclasses import replace

from hypothesis import given, settings
from hypothesis import strategies as st

from chronarch.core.gcode.analysis import Analysis, analyse
from chronarch.core.gcode.compare import differences
from chronarch.core.gcode.edit_repair import Edited, EditRefused
from chronarch.core.gcode.editing import make
from chronarch.core.gcode.edits import (
    Edit,
    OwnSections,
    PauseAt,
    Repeat,
    ReplaceLines,
    SetFromLayer,
    SkipObject,
    StartFrom,
)
from chronarch.core.gcode.reader import as_bytes
from chronarch.core.gcode.shift import shifted
from chronarch.core.gcode.splice import Splice, apply, describe
from chronarch.core.machines.model import MachineModel
from tests.support.gcode import laid, squares, two_boxes

MODEL = MachineModel("toy", start_gcode="G28\nM190 S{bed_c}\nM109 S{nozzle_c}", end_gcode="M104 S0\nM140 S0\nM84")
KINDS = [(marked, relative) for marked in (True, False) for relative in (True, False)]


def edited(text: str, edit: Edit, model: MachineModel = MODEL) -> tuple[str, Edited, Analysis]:
    data = as_bytes(text.encode())
    done = make(data, analyse(data, model), edit, model)
    after = apply(text.encode(), done.splices)
    return after.decode(), done, analyse(after, model)


def near(rows: list[tuple[float, ...]]) -> Counter[tuple[float, ...]]:
    """Rows to compare as a bag, to a fiftieth of a mm."""
    return Counter(tuple(round(v * 50) for v in row) for row in rows)


class Edits(unittest.TestCase):
    def test_no_edit_changes_a_byte_outside_its_splices(self) -> None:
        text = two_boxes()
        for edit in (SetFromLayer(2, 210, 50, 30, 90), PauseAt(3, "nut"), SkipObject("box 1"), Repeat(2), StartFrom(2),
                     OwnSections(), ReplaceLines(9, 9, "M109 S200")):  # fmt: skip
            with self.subTest(edit=edit):
                after, done, _ = edited(text, edit)
                kept, at = [], 0
                for splice in done.splices:
                    kept.append(text.encode()[at : splice.start])
                    at = splice.stop
                kept.append(text.encode()[at:])
                place = 0
                for piece in kept:
                    place = after.encode().index(piece, place) + len(piece)

    def test_set_holds_from_its_layer_to_the_end_and_leaves_heaters_off_at_the_end(self) -> None:
        text = two_boxes().replace("G1 Z0.60 F600", "G1 Z0.60 F600\nM104 S190\nM106 S100")
        after, _, a = edited(text, SetFromLayer(2, nozzle_c=215, fan_pct=50, speed_pct=80))
        lines = after.splitlines()
        at = lines.index("M104 S215")
        self.assertEqual(lines[at : at + 3], ["M104 S215", "M106 S128", "M220 S80"])
        later = [line for line in lines[at + 3 :] if line.startswith(("M104", "M106"))]
        self.assertEqual(later, ["M104 S0"], "what set them anew has given way, what turns them off has not")
        before = analyse(text.encode(), MODEL)
        self.assertEqual(near(laid(text)), near(laid(after)))
        self.assertGreater(a.planned_s, before.planned_s)
        self.assertAlmostEqual(a.layers[0].seconds, before.layers[0].seconds, delta=0.2)

    def test_a_pause_stands_before_its_layer_with_its_message(self) -> None:
        after, _, a = edited(two_boxes(), PauseAt(3, "put the nut in; now\nM500"))
        self.assertIn("M117 put the nut in now M500\nM0 put the nut in now M500\n", after)
        self.assertEqual([p.layer for p in a.pauses], [2])
        self.assertEqual(laid(after), laid(two_boxes()))

    def test_leaving_an_object_out_lays_exactly_the_others(self) -> None:
        for marked, relative in KINDS:
            with self.subTest(marked=marked, relative=relative):
                text = two_boxes(marked=marked, relative_e=relative)
                before = analyse(text.encode(), MODEL)
                for n, (least, greatest) in enumerate(((60, 90), (120, 150))):
                    name = before.objects[n].name
                    on_it = min(p[0] for p in before.objects[n].outline) < 100
                    span = (60, 90) if on_it else (120, 150)
                    after, _, a = edited(text, SkipObject(name))
                    others = [r for r in laid(text) if not span[0] <= min(r[0], r[2]) <= span[1]]
                    self.assertEqual(near(laid(after)), near(others), f"{name} {least} {greatest}")
                    self.assertAlmostEqual(sum(a.filament_mm.values()), 4 + 4 * 4 * 2.4125, delta=0.05)
                    self.assertEqual(len(a.objects), 1)

    def test_repeating_lays_everything_again_beside_itself(self) -> None:
        for marked, relative in KINDS:
            with self.subTest(marked=marked, relative=relative):
                text = two_boxes(marked=marked, relative_e=relative)
                after, _, a = edited(text, Repeat(3, gap_mm=6))
                prime = [r for r in laid(text) if r[0] < 50]
                part = [r for r in laid(text) if r[0] >= 50]
                made = near(laid(after)) - near(prime)
                self.assertEqual(sum(made.values()), 3 * len(part))
                low = {round(min(r[1], r[3])) for r in laid(after) if r[0] >= 50}
                self.assertGreater(len(low & {80, 44, 116}), 2, "copies stand in rows of their own")
                filament = sum(analyse(text.encode(), MODEL).filament_mm.values())
                self.assertAlmostEqual(sum(a.filament_mm.values()), 4 + 3 * (filament - 4), delta=0.1)
                self.assertEqual([f.rule for f in a.findings], [])
                self.assertEqual(len(a.layers), 4)

    def test_copies_of_marked_objects_are_objects_of_their_own(self) -> None:
        _, _, a = edited(two_boxes(), Repeat(2))
        self.assertEqual(sorted(o.name for o in a.objects), ["box 1", "box 1, copy 2", "box 2", "box 2, copy 2"])

    def test_what_does_not_fit_is_refused_with_how_many_do(self) -> None:
        with self.assertRaisesRegex(EditRefused, r"^\d fit on this bed with 5 mm between"):
            edited(two_boxes(), Repeat(50))

    def test_starting_from_a_layer_lays_it_and_what_is_above(self) -> None:
        for relative in (False, True):
            text = two_boxes(relative_e=relative)
            after, done, a = edited(text, StartFrom(3))
            above = [r for r in laid(text) if r[4] > 0.5]
            self.assertEqual(near([r for r in laid(after)]), near(above))
            self.assertEqual(len(a.layers), 2)
            self.assertIn("Z is not homed", done.care)
            self.assertIn("G28 X Y\n", after)
            self.assertEqual([f.rule for f in a.findings if f.severity == "refuse"], [])

    def test_the_models_own_sections_take_the_place_of_the_files(self) -> None:
        text = two_boxes()
        after, _, a = edited(text, OwnSections())
        self.assertEqual(near(laid(after)), near([r for r in laid(text) if r[0] > 50]))
        self.assertIn("M109 S205", after)
        self.assertTrue(after.endswith("M104 S0\nM140 S0\nM84\n"))
        self.assertEqual(a.findings, ())
        with self.assertRaisesRegex(EditRefused, "no start or end section"):
            edited(text, OwnSections(), replace(MODEL, start_gcode="", end_gcode=""))

    @settings(max_examples=80)
    @given(
        st.integers(1, 60),
        st.integers(0, 8),
        st.text(st.characters(codec="utf-8", exclude_categories=("Cc", "Zl", "Zp", "Cs")), max_size=30),
    )
    def test_lines_replaced_and_put_back_give_the_very_file(self, first: int, count: int, words: str) -> None:
        text = two_boxes()
        lines = text.splitlines()
        data = as_bytes(text.encode())
        a = analyse(data, MODEL)
        done = make(data, a, ReplaceLines(first, first + count - 1, f"; {words}"), MODEL)
        after = apply(text.encode(), done.splices)
        self.assertEqual(after.decode().splitlines(), [*lines[: first - 1], f"; {words}", *lines[first - 1 + count :]])
        back = ReplaceLines(first, first, "\n".join(lines[first - 1 : first - 1 + count]))
        again = make(as_bytes(after), analyse(after, MODEL), back, MODEL)
        self.assertEqual(apply(after, again.splices), text.encode())

    def test_wishes_that_make_no_sense_are_refused_in_a_sentence(self) -> None:
        text = two_boxes()
        for edit, words in (
            (PauseAt(99), "has 4 layers; choose one from 1 to 4"),
            (StartFrom(1), "from 2 to 4"),
            (SkipObject("cup"), "no object 'cup'; its objects are: box 1, box 2"),
            (SetFromLayer(1), "Say what"),
            (SetFromLayer(1, nozzle_c=900), "out of bounds"),
            (Repeat(1), "2 to 200"),
            (ReplaceLines(900, 901, ""), "are not among them"),
        ):
            with self.subTest(edit=edit), self.assertRaisesRegex(EditRefused, words):
                edited(text, edit)
        with self.assertRaisesRegex(EditRefused, "only object"):
            edited(squares(nozzle=205), SkipObject("object 1"))


class Bytes(unittest.TestCase):
    def test_splices_that_overlap_are_an_error(self) -> None:
        with self.assertRaises(ValueError):
            apply(b"abcdef", [Splice(0, 3, b""), Splice(2, 4, b"")])
        self.assertEqual(apply(b"abcdef", [Splice(4, 6, b"!"), Splice(1, 2, b"BB")]), b"aBBcd!")

    @settings(max_examples=150)
    @given(st.floats(-300, 300), st.floats(-300, 300), st.integers(0, 4), st.integers(-5000, 5000))
    def test_lines_are_shifted_by_their_numbers_alone(self, x: float, y: float, decimals: int, by: int) -> None:
        dx = by / 1000
        line = f"N7 G1 X{x:.{decimals}f} Y{y:.{decimals}f} E1.5 ; X1 Y2\nG91\nG0 X1\nG90\nM117 X5\n".encode()
        out = shifted(as_bytes(line), 0, len(line), dx, -dx, True).decode()
        places = max(3, decimals)
        self.assertRegex(out, r"^N7 G1 X-?[\d.]+ Y-?[\d.]+ E1\.5 ; X1 Y2\nG91\nG0 X1\nG90\nM117 X5\n$")
        words = dict((w[0], float(w[1:])) for w in out.split(";")[0].split()[2:])
        self.assertAlmostEqual(words["X"], round(x, decimals) + dx, delta=0.6 * 10**-places + 1e-9)
        self.assertAlmostEqual(words["Y"], round(y, decimals) - dx, delta=0.6 * 10**-places + 1e-9)

    @settings(max_examples=100)
    @given(st.lists(st.sampled_from("abcdefgh"), max_size=40), st.lists(st.sampled_from("abcdefgh"), max_size=40))
    def test_differences_lead_from_one_text_to_the_other(self, one: list[str], other: list[str]) -> None:
        a, b = "\n".join(one).encode(), "\n".join(other).encode()
        found, more = differences(a, b)
        self.assertFalse(more)
        lines, grown = a.decode().splitlines(), 0
        for change in found:
            at = change.line - 1
            before, after = (
                change.before.split("\n") if change.before else [],
                change.after.split("\n") if change.after else [],
            )
            if len(before) <= 12 and len(after) <= 12:
                self.assertEqual(lines[at : at + len(before)], before)
                lines[at : at + len(before)] = after
                grown += 1
        if grown == len(found):
            self.assertEqual(lines, b.decode().splitlines())

    def test_changes_are_told_with_their_lines(self) -> None:
        text = b"one\ntwo\nthree\n"
        (change,) = describe(as_bytes(text), [Splice(4, 8, b"TWO\n")])
        self.assertEqual((change.line, change.before, change.after), (2, "two", "TWO"))
