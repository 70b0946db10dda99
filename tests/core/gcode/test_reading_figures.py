"""What a reading says of a file: words, layers, extents, filament, objects, pictures, findings, one layer's moves."""

from __future__ import annotations

import base64
import gzip
import io
import re
import struct
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import zstandard
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from chronarch.core.errors import NotGcode
from chronarch.core.gcode.analysis import Analysis, analyse
from chronarch.core.gcode.comments import declared
from chronarch.core.gcode.decompress import Unpacker, plain_name, unpack
from chronarch.core.gcode.drawing import layer_scene, part_scene
from chronarch.core.gcode.layers import MAGIC, MOVE, layer_moves
from chronarch.core.gcode.objects import hull
from chronarch.core.gcode.preflight import Severity, machine_findings
from chronarch.core.gcode.reader import as_bytes
from chronarch.core.gcode.tokens import command_of
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.tools import Tool
from chronarch.tender.file_program import FileProgram
from tests.support.gcode import laid, two_boxes

MODEL = MachineModel("toy")


def read(text: str, model: MachineModel = MODEL) -> Analysis:
    return analyse(text.encode(), model)


class Words(unittest.TestCase):
    pieces = st.sampled_from(
        ["G1", "g1", "X1", "Y-2.5", " ", "\t", ";", "(a)", "(", ")", "N12", "n3 ", "*37", "*", "M104", "S200", "T1",
         "M117 hi", "%", "E.5", "FOO", "é", "G28", "\r", "1", ".",
         "M110 N3", "\ufeff"]
    )  # fmt: skip

    @settings(max_examples=300)
    @given(st.lists(st.lists(pieces, max_size=6).map("".join), max_size=12))
    def test_the_kernel_counts_the_commands_that_the_feed_will_send(self, lines: list[str]) -> None:
        text = "\n".join(["G1 X0", *["G1 X1"] * 400, *lines, ""])
        with tempfile.NamedTemporaryFile() as file:
            file.write(text.encode())
            file.flush()
            fed = FileProgram(Path(file.name))
            expected = [c for line in re.split(r"\r\n|\r|\n", text) if (c := command_of(line.encode()))]
            expected = [c for c in expected if not c.startswith(b"M110")]
            self.assertEqual([fed.command(n) for n in range(len(fed))], expected)
        self.assertEqual(read(text).commands, len(expected))

    def test_numbers_checksums_case_comments_and_line_ends_change_nothing(self) -> None:
        plain = read("G28\nG1 X10 Y5 E1 F600\nG1 X20\n")
        for text in (
            "N1 G28*18\nN2 G1 X10 Y5 E1 F600*99\nN3 G1 X20*1\n",
            "g28\ng1x10y5e1f600\ng1x20\n",
            "G28\r\nG1 X10 Y5 E1 F600 ; there\r\nG1 X20 (and on)\r\n",
            "G28\n\nG01 X+10.000 Y 5 E1. F600\nG1 X20\n",
        ):
            with self.subTest(text=text):
                a = read(text)
                self.assertAlmostEqual(a.planned_s, plain.planned_s)
                self.assertEqual((a.travel_mm, a.filament_mm), (plain.travel_mm, plain.filament_mm))

    def test_inches_relative_moves_offsets_and_volumes_are_followed(self) -> None:
        self.assertEqual(read("G28\nG20\nG1 X1 Y2\n").travel_mm, ((25.4, 50.8, 0), (25.4, 50.8, 0)))
        self.assertEqual(read("G28\nG91\nG1 X5\nG1 X5 Y1\n").travel_mm, ((5, 0, 0), (10, 1, 0)))
        # after G92 the file counts from elsewhere; the head is where it was
        self.assertEqual(read("G28\nG1 X50\nG92 X0\nG1 X10\n").travel_mm, ((50, 0, 0), (60, 0, 0)))
        # E as mm³: a mm of 2 mm filament holds π mm³
        self.assertAlmostEqual(read("M200 D2\nM83\nG1 X5 E3.14159265\n").filament_mm[0], 1.0)
        self.assertAlmostEqual(read("M221 S50\nM83\nG1 X5 E4\n").filament_mm[0], 2.0)

    def test_tools_have_their_own_filament(self) -> None:
        a = read("M83\nT0\nG1 X1 E2\nT1\nG1 X2 E3\nT0\nG1 X3 E1\n", replace(MODEL, tool_change_s=7))
        self.assertEqual((a.filament_mm, a.tools), ({0: 3.0, 1: 3.0}, (0, 1)))
        self.assertAlmostEqual(a.other_s, 14.0)

    def test_arcs_reach_as_far_as_they_bulge(self) -> None:
        a = read("G28\nG1 X20 Y10\nM83\nG3 X0 Y10 I-10 J0 E1 F600\n")
        assert a.extents_mm is not None
        self.assertAlmostEqual(a.extents_mm[1][1], 20.0)
        self.assertAlmostEqual(a.extents_mm[0][0], 0.0)
        full = read("G28\nG1 X20 Y10\nM83\nG2 X20 Y10 I-5 J0 E1 F600\n")
        assert full.extents_mm is not None
        self.assertEqual([round(v, 6) for v in (*full.extents_mm[0][:2], *full.extents_mm[1][:2])], [10, 5, 20, 15])


class Layers(unittest.TestCase):
    def test_layers_have_z_height_first_line_and_filament(self) -> None:
        a = read(two_boxes(layers=3))
        self.assertEqual(
            [(round(n.z_mm, 2), round(n.height_mm, 2)) for n in a.layers], [(0.2, 0.2), (0.4, 0.2), (0.6, 0.2)]
        )
        lines = two_boxes(layers=3).splitlines()
        self.assertTrue(lines[a.layers[1].first_line - 1].startswith("G1 X"), lines[a.layers[1].first_line - 1])
        self.assertAlmostEqual(a.layers[1].filament_mm, a.layers[2].filament_mm, places=3)

    def test_a_lift_of_the_head_is_no_layer(self) -> None:
        lift = "M83\nG1 X10 E1\nG1 Z0.8\nG1 X50\nG1 Z0.2\nG1 X60 E1\n"
        self.assertEqual(len(read("G28\nG1 Z0.2\n" + lift).layers), 1)

    def test_one_spiral_is_cut_into_layers_by_its_height(self) -> None:
        lines = ["G28", "M83", "G1 Z0.2", "G1 X50 Y50 E1"]
        lines += [
            f"G1 X{50 + 10 * np.cos(k / 3):.3f} Y{50 + 10 * np.sin(k / 3):.3f} Z{0.2 + k * 0.01:.3f} E0.1"
            for k in range(1, 200)
        ]
        a = read("\n".join(lines) + "\n")
        self.assertTrue(a.spiral)
        self.assertTrue(9 <= len(a.layers) <= 12, len(a.layers))

    def test_objects_laid_one_after_another_begin_their_layers_anew(self) -> None:
        one = "".join(f"G1 Z{0.2 * n:.1f}\nG1 X{{x}} Y20 E1\nG1 Y40 E1\n" for n in range(1, 6))
        a = read("G28\nM83\n" + one.format(x=20) + "G1 Z20\nG0 X100 Y20\n" + one.format(x=100))
        self.assertTrue(a.by_object)
        self.assertEqual([round(n.z_mm, 1) for n in a.layers], [0.2, 0.4, 0.6, 0.8, 1.0] * 2)

    def test_a_layer_read_from_its_beginning_is_what_the_file_lays_there(self) -> None:
        for relative in (False, True):
            text = two_boxes(layers=4, relative_e=relative)
            a, data = read(text), as_bytes(text.encode())
            whole = [row for row in laid(text) if row[4] == 0.6]
            found = layer_moves(data, a.index, 3, MODEL)
            moves = found.moves
            x, y = np.append(found.start[0], moves["x"]), np.append(found.start[1], moves["y"])
            mine = [
                tuple(round(float(v), 3) for v in (x[k], y[k], x[k + 1], y[k + 1], moves["z"][k], moves["filament"][k]))
                for k in np.flatnonzero(moves["kind"] == 1)
            ]
            self.assertEqual(len(mine), len(whole))
            for got, want in zip(mine, whole, strict=True):
                np.testing.assert_allclose(got, want, atol=2e-3)
            self.assertAlmostEqual(float(moves["seconds"].sum()), a.layers[2].seconds, delta=0.1)
            self.assertEqual(found.features, ("", "wall", "infill"))
            lines = text.splitlines()
            self.assertTrue(all(lines[n - 1].startswith(("G0", "G1")) for n in moves["line"].tolist()))

    def test_the_binary_form_is_as_documented(self) -> None:
        text = two_boxes()
        found = layer_moves(as_bytes(text.encode()), read(text).index, 1, MODEL)
        raw = found.encode()
        magic, version, size, z, _, _, _, count, names = struct.unpack_from("<4sHHffffII", raw)
        self.assertEqual((magic, version, size, count), (MAGIC, 1, MOVE.itemsize, len(found.moves)))
        self.assertAlmostEqual(z, 0.2, places=5)
        self.assertEqual(struct.unpack_from("<I", raw, 32)[0], 1)
        self.assertEqual(
            raw[36 : 36 + names].decode().strip().split("\n"), list(found.features[1:]) if not found.features[0] else []
        )
        self.assertEqual(len(raw), 36 + names + count * size)
        again = np.frombuffer(raw, MOVE, count, 36 + names)
        self.assertEqual(again["x"].tolist(), found.moves["x"].tolist())


class Objects(unittest.TestCase):
    def test_marks_name_objects_with_their_filament_and_time(self) -> None:
        a = read(two_boxes())
        self.assertEqual([o.name for o in a.objects], ["box 1", "box 2"])
        for o, left in zip(a.objects, (60, 120), strict=True):
            xs = [p[0] for p in o.outline]
            self.assertEqual((min(xs), max(xs)), (left, left + 30))
            self.assertTrue(o.marked and o.seconds and o.filament_mm)
        prime = 4.0
        self.assertAlmostEqual(
            sum(o.filament_mm or 0 for o in a.objects), sum(a.filament_mm.values()) - prime, places=3
        )

    def test_comment_marks_of_slicers_are_read_too(self) -> None:
        text = two_boxes(marked=False)
        text = text.replace("G0 X60.000", "; printing object cup id:0 copy 0\nG0 X60.000")
        text = text.replace("G0 X120.000", "; stop printing object cup\n;MESH:lid.stl\nG0 X120.000")
        self.assertEqual([o.name for o in read(text).objects], ["cup id:0 copy 0", "lid.stl"])

    def test_without_marks_objects_are_told_apart_by_their_footprints(self) -> None:
        a = read(two_boxes(marked=False))
        self.assertEqual([(o.name, o.marked) for o in a.objects], [("object 1", False), ("object 2", False)])
        middles = sorted(np.mean([p[0] for p in o.outline]) for o in a.objects)
        self.assertTrue(abs(middles[0] - 75) < 2 and abs(middles[1] - 135) < 2, middles)

    @settings(max_examples=60)
    @given(st.lists(st.tuples(st.floats(-50, 50), st.floats(-50, 50)), min_size=3, max_size=40))
    def test_a_hull_is_convex_and_holds_every_point(self, points: list[tuple[float, float]]) -> None:
        ring = hull(np.array(points))
        for (ax, ay), (bx, by) in zip(ring, ring[1:] + ring[:1], strict=True):
            for x, y in points:
                self.assertGreaterEqual((bx - ax) * (y - ay) - (by - ay) * (x - ax), -0.2 * 150)


class Bounded(unittest.TestCase):
    def test_lines_of_brackets_stars_and_digits_are_looked_through_once(self) -> None:
        # a quadratic reading of these would take minutes
        for junk in (
            b"(" * 2_000_000,
            b"*1" * 1_000_000,
            b"G1 " + b"(X1 " * 500_000,
            b"1" * 2_000_000,
            b"((;" * 600_000,
        ):
            with self.subTest(junk=junk[:9]):
                try:
                    analyse(b"G28\nG1 X1\n" * 50 + junk + b"\n", MODEL)
                except NotGcode as error:
                    self.assertIn("4096 characters", str(error))

    def test_a_file_that_lays_far_outside_or_all_in_one_layer_is_read_all_the_same(self) -> None:
        rows = "".join(
            f"G1 X{(n * 7919) % 90_000 - 45_000} Y{(n * 104_729) % 90_000 - 45_000} E1\n" for n in range(30_000)
        )
        a = read("G28\nM83\nG1 Z0.2\n" + rows)
        self.assertEqual((len(a.layers), a.objects), (1, ()))
        self.assertEqual(a.findings[0].rule, "outside-volume")


class Comments(unittest.TestCase):
    def picture(self, kind: str, size: int) -> str:
        data = io.BytesIO()
        Image.new("RGB", (size, size), "teal").save(data, kind)
        text = base64.b64encode(data.getvalue()).decode()
        rows = "\n".join(f"; {text[n : n + 60]}" for n in range(0, len(text), 60))
        return f"; thumbnail begin {size}x{size} {len(text)}\n{rows}\n; thumbnail end\n"

    def test_pictures_are_found_in_every_size_and_damaged_ones_passed_over(self) -> None:
        broken = "; thumbnail begin 9x9 4\n; !!!!\n; thumbnail end\n"
        a = read(self.picture("PNG", 48) + broken + self.picture("JPEG", 16) + "G28\nG1 X1\n")
        self.assertEqual([(t.width, t.kind) for t in a.thumbnails], [(16, "image/jpeg"), (48, "image/png")])
        self.assertEqual(Image.open(io.BytesIO(a.thumbnails[1].data)).size, (48, 48))

    def test_what_slicers_declare_is_read_in_its_several_spellings(self) -> None:
        table = {
            b";TIME:5400\n": ("seconds", 5400),
            b"; estimated printing time (normal mode) = 1d 2h 3m 4s\n": ("seconds", 93784),
            b"; build time: 01:30:05\n": ("seconds", 5405),
            b"; filament_type = PETG;PETG\n": ("material", "PETG"),
            b";Layer height: 0.2\n": ("layer_height_mm", 0.2),
            b"; nozzle_diameter = 0.6,0.6\n": ("nozzle_mm", 0.6),
            b";Filament used: 2.5m\n": ("filament_mm", 2500),
            b"; filament used [g] = 12.5\n": ("filament_g", 12.5),
            b"; printer_model = Lantern 300\n": ("model", "Lantern 300"),
        }
        for text, (name, value) in table.items():
            with self.subTest(text=text):
                self.assertEqual(getattr(declared(text, b""), name), value)
                self.assertEqual(getattr(declared(b"", text), name), value)


class Preflight(unittest.TestCase):
    good = "G28\nM83\nM109 S200\nG1 Z0.2\nG1 X10 Y10 F3000\nG1 X20 E1\nM104 S0\n"

    def rules(self, text: str, **model: object) -> list[tuple[str, int]]:
        found = read(text, replace(MODEL, **model)).findings  # type: ignore[arg-type]
        return [(f.rule, f.line) for f in found if f.severity is not Severity.NOTE]

    def test_a_good_file_has_nothing_against_it(self) -> None:
        self.assertEqual(self.rules(self.good), [])

    def test_each_fault_is_found_at_its_line(self) -> None:
        table: tuple[tuple[str, dict[str, object], tuple[str, int]], ...] = (
            (self.good + "G1 X230 E1\n", {}, ("outside-volume", 8)),
            (self.good + "G1 Y-3\n", {}, ("outside-volume", 8)),
            (self.good.replace("S200", "S300"), {}, ("over-ceiling", 3)),
            ("M140 S130\n" + self.good, {}, ("over-ceiling", 1)),
            ("M141 S40\n" + self.good, {}, ("over-ceiling", 1)),
            (self.good.replace("M109 S200", "M109 S100"), {}, ("cold-extrusion", 6)),
            (self.good.replace("G28\n", ""), {}, ("not-homed", 3)),
            (self.good.replace("G28", "G28 X"), {}, ("not-homed", 4)),
            (self.good + "M500\n", {}, ("lasting-word", 8)),
            (self.good + "M997\n", {}, ("lasting-word", 8)),
            ("G20\n" + self.good, {}, ("inches", 1)),
            (self.good.replace("F3000", "F50"), {}, ("slow-feed", 0)),
            ("G28\nG1 X5 F3000\n", {}, ("nothing-laid", 0)),
        )
        for text, model, expected in table:
            with self.subTest(expected=expected, text=text[-20:]):
                self.assertIn(expected, self.rules(text, **model))

    def test_what_a_named_command_may_have_done_is_a_warning_not_a_refusal(self) -> None:
        text = "BEGIN_PRINT NOZZLE=200 BED=60\nM83\nG1 X10 Y10 Z0.2 F3000\nG1 X20 E1\n"
        found = [(f.rule, f.severity.value) for f in read(text).findings if f.severity is not Severity.NOTE]
        self.assertEqual(found, [("not-homed", "warning"), ("cold-extrusion", "warning")])
        self.assertIn("unless BEGIN_PRINT before it does home", read(text).findings[0].text)
        late = "M83\nG1 X10 Y10 Z0.2 F3000\nG1 X20 E1\nEND_PRINT\n"
        self.assertEqual({f.severity.value for f in read(late).findings[:2]}, {"refuse"})

    def test_a_finding_says_how_far_and_how_much(self) -> None:
        (found,) = read(self.good + "G1 X232.5 E1\n").findings[:1]
        self.assertIn("12.5 mm beyond 220 mm along x", found.text)
        (hot,) = read(self.good.replace("S200", "S300")).findings[:1]
        self.assertIn("300 °C; its ceiling is 275 °C", hot.text)

    def test_a_machine_must_have_the_tools_and_nozzles_the_file_wants(self) -> None:
        tools = (Tool(0, 0.4, material="PLA"),)
        self.assertEqual(machine_findings((0,), 0.4, "pla", tools), ())
        rules = [f.rule for f in machine_findings((0, 1), 0.6, "PETG", tools, "Kiln 250", "Lantern 220")]
        self.assertEqual(rules, ["other-model", "other-nozzle", "other-material", "no-tool"])

    def test_the_same_file_may_be_fine_on_a_larger_model(self) -> None:
        text = self.good.replace("X20 E1", "X230 E1")
        self.assertEqual(self.rules(text), [("outside-volume", 6)])
        self.assertEqual(self.rules(text, volume_mm=(300.0, 300.0, 300.0)), [])


class Packed(unittest.TestCase):
    text = two_boxes().encode()

    def test_gzip_and_zstandard_are_unpacked_in_pieces_of_any_size(self) -> None:
        parts = gzip.compress(self.text[:300]) + gzip.compress(self.text[300:])
        for packed in (gzip.compress(self.text), parts, zstandard.compress(self.text), self.text):
            for size in (1, 7, 1000, 1 << 20):
                u = Unpacker(1 << 20)
                out = b"".join(b"".join(u.feed(packed[n : n + size])) for n in range(0, len(packed), size))
                self.assertEqual(out + b"".join(u.end()), self.text)

    def test_damaged_or_cut_packing_is_refused(self) -> None:
        packed = gzip.compress(self.text)
        for bad in (packed[:-9], packed[:50] + b"xxxxxxxx" + packed[58:], zstandard.compress(self.text)[:-9]):
            with self.assertRaisesRegex(NotGcode, "damaged|cut short"):
                unpack(bad)

    def test_the_ending_goes_with_the_packing(self) -> None:
        self.assertEqual([plain_name(n) for n in ("a.gcode.gz", "b.ZST", "c.gcode")], ["a.gcode", "b", "c.gcode"])


class Drawings(unittest.TestCase):
    def test_a_layer_and_the_whole_part_are_drawn_as_svg_and_png(self) -> None:
        text = two_boxes()
        a, data = read(text), as_bytes(text.encode())
        for scene in (
            layer_scene(layer_moves(data, a.index, 2, MODEL), MODEL, a.objects, "two & more"),
            part_scene(data, a.index, MODEL, "two & more"),
        ):
            image = Image.open(io.BytesIO(scene.png()))
            self.assertEqual(image.size, (scene.width, scene.height))
            tones = {colour for _, colour in image.convert("RGB").getcolors(1 << 24)}  # type: ignore[union-attr]
            self.assertGreater(len(tones), 10)
            root = ElementTree.fromstring(scene.svg())
            self.assertIn("two & more", "".join(root.itertext()))
