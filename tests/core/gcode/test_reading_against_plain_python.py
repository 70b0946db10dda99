"""The compiled reader and edits against a slow reader in plain Python (tests/support), on files made up at random."""

from __future__ import annotations

import math
import unittest
from collections import Counter
from dataclasses import dataclass

from hypothesis import given, settings
from hypothesis import strategies as st

from chronarch.core.gcode.analysis import analyse
from chronarch.core.gcode.edit_repair import EditRefused
from chronarch.core.gcode.editing import make
from chronarch.core.gcode.edits import Repeat, SkipObject, StartFrom
from chronarch.core.gcode.layers import layer_moves
from chronarch.core.gcode.reader import as_bytes
from chronarch.core.gcode.splice import apply
from chronarch.core.machines.model import MachineModel
from tests.support.gcode import laid

MODEL = MachineModel("toy")


@dataclass(frozen=True)
class Recipe:
    """A file to be made: where its boxes stand and how large they are (mm), its layers and its habits."""

    boxes: tuple[tuple[int, int, int], ...]
    layers: int
    relative_e: bool
    relative_lift: bool
    marked: bool
    retract: float
    numbered: bool

    def text(self) -> str:
        out = ["G28", "M104 S205", "M109 S205", "G21", "G90", "M83" if self.relative_e else "M82", "G92 E0"]
        e = 0.0

        def feed(by: float) -> str:
            nonlocal e
            e += by
            return f"E{by:.5f}" if self.relative_e else f"E{e:.5f}"

        for n in range(self.layers):
            z = 0.2 * (n + 1)
            out.append(f"G1 Z{z:.2f} F600")
            for k, (x, y, side) in enumerate(self.boxes):
                if self.marked:
                    out.append(f"M486 S{k}")
                if self.retract:
                    out.append(f"G1 {feed(-self.retract)} F2400")
                if self.relative_lift:
                    out += ["G91", "G1 Z0.4 F600", "G90", *(["M83"] if self.relative_e else ["M82"])]
                out.append(f"G0 X{x} Y{y} F9000")
                if self.relative_lift:
                    out.append(f"G1 Z{z:.2f} F600")
                if self.retract:
                    out.append(f"G1 {feed(self.retract)} F2400")
                for dx, dy in ((side, 0), (side, side), (0, side), (0, 0), (side / 2, side / 2)):
                    out.append(f"G1 X{x + dx:g} Y{y + dy:g} {feed(0.04 * side)} F{1800 + 60 * k}")
            if self.marked:
                out.append("M486 S-1")
        out += ["G1 Z30 F600", "M104 S0", "M84"]
        return "\n".join(f"N{n} {line}" if self.numbered else line for n, line in enumerate(out)) + "\n"


@st.composite
def recipes(draw: st.DrawFn) -> Recipe:
    columns = draw(st.lists(st.integers(0, 5), min_size=2, max_size=4, unique=True))
    boxes = tuple((12 + 34 * c, draw(st.integers(20, 60)), draw(st.sampled_from([8, 12, 20]))) for c in columns)
    flags = [draw(st.booleans()) for _ in range(4)]
    return Recipe(
        boxes, draw(st.integers(2, 4)), flags[0], flags[1], flags[2], draw(st.sampled_from([0.0, 0.8])), flags[3]
    )


def plain(text: str) -> str:
    """The file without its line numbers, for the slow reader."""
    return "\n".join(line.split(" ", 1)[1] if line.startswith("N") else line for line in text.splitlines()) + "\n"


def bag(rows: list[tuple[float, ...]]) -> Counter[tuple[float, ...]]:
    return Counter(tuple(round(v * 25) for v in row) for row in rows)


class AgainstPlainPython(unittest.TestCase):
    @settings(max_examples=60)
    @given(recipes())
    def test_extents_filament_and_layers_are_those_of_the_slow_reader(self, recipe: Recipe) -> None:
        text = recipe.text()
        a, rows = analyse(text.encode(), MODEL), laid(plain(text))
        assert a.extents_mm is not None
        for k in (0, 1):
            self.assertAlmostEqual(a.extents_mm[0][k], min(min(r[k], r[k + 2]) for r in rows), places=3)
            self.assertAlmostEqual(a.extents_mm[1][k], max(max(r[k], r[k + 2]) for r in rows), places=3)
        self.assertEqual(len(a.layers), recipe.layers)
        self.assertAlmostEqual(sum(a.filament_mm.values()), sum(r[5] for r in rows), places=2)
        self.assertEqual(len(a.objects), len(recipe.boxes))
        self.assertEqual([f for f in a.findings if f.severity != "note"], [])

    @settings(max_examples=40)
    @given(recipes())
    def test_all_layers_together_lay_what_the_slow_reader_lays(self, recipe: Recipe) -> None:
        text = recipe.text()
        data = as_bytes(text.encode())
        a = analyse(data, MODEL)
        mine: list[tuple[float, ...]] = []
        for n in range(len(a.layers) + 1):
            found = layer_moves(data, a.index, n, MODEL)
            x, y, _ = found.start
            for m in found.moves:
                if m["kind"] == 1:
                    mine.append((x, y, float(m["x"]), float(m["y"]), float(m["z"]), float(m["filament"])))
                x, y = float(m["x"]), float(m["y"])
        self.assertEqual(bag(mine), bag(laid(plain(text))))

    @settings(max_examples=60)
    @given(recipes(), st.data())
    def test_an_object_left_out_leaves_the_others_to_the_line(self, recipe: Recipe, data: st.DataObject) -> None:
        text = recipe.text()
        raw = as_bytes(text.encode())
        a = analyse(raw, MODEL)
        gone = data.draw(st.integers(0, len(a.objects) - 1))
        xs = [p[0] for p in a.objects[gone].outline]
        middle = (min(xs) + max(xs)) / 2
        after = apply(text.encode(), make(raw, a, SkipObject(a.objects[gone].name), MODEL).splices)
        rest = [r for r in laid(plain(text)) if abs((r[0] + r[2]) / 2 - middle) > 17]
        self.assertEqual(bag(laid(plain(after.decode()))), bag(rest))
        again = analyse(after, MODEL)
        self.assertLess(again.planned_s, a.planned_s)
        self.assertEqual([f for f in again.findings if f.severity != "note"], [])

    @settings(max_examples=40)
    @given(recipes(), st.integers(2, 4))
    def test_copies_are_the_same_lines_moved(self, recipe: Recipe, copies: int) -> None:
        text = recipe.text()
        raw = as_bytes(text.encode())
        a = analyse(raw, MODEL)
        try:
            after = apply(text.encode(), make(raw, a, Repeat(copies, 6), MODEL).splices).decode()
        except EditRefused as error:
            self.assertRegex(str(error), "fit on this bed")
            return
        before, now = laid(plain(text)), laid(plain(after))
        self.assertEqual(len(now), copies * len(before))
        lengths = lambda rows: Counter(round(math.dist(r[:2], r[2:4]), 1) for r in rows)  # noqa: E731
        self.assertEqual(lengths(now), Counter({k: n * copies for k, n in lengths(before).items()}))
        self.assertAlmostEqual(sum(r[5] for r in now), copies * sum(r[5] for r in before), delta=0.02 * len(now))
        low, high = MODEL.volume_mm[0], MODEL.volume_mm[1]
        self.assertTrue(all(0 <= v <= max(low, high) for r in now for v in r[:4]))

    @settings(max_examples=40)
    @given(recipes(), st.integers(2, 4))
    def test_a_later_start_lays_the_layers_from_there_on(self, recipe: Recipe, layer: int) -> None:
        text = recipe.text()
        raw = as_bytes(text.encode())
        a = analyse(raw, MODEL)
        if layer > len(a.layers):
            return
        after = apply(text.encode(), make(raw, a, StartFrom(layer), MODEL).splices).decode()
        above = [r for r in laid(plain(text)) if r[4] > 0.2 * (layer - 1) + 0.05]
        self.assertEqual(bag(laid(plain(after))), bag(above))
