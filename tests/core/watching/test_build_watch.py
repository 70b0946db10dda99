"""The watch over builds that the stand-ins' camera draws: it sees what it should see, and says what is wrong."""

from __future__ import annotations

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np

from chronarch.core.gcode.analysis import analyse
from chronarch.core.gcode.reader import as_bytes
from chronarch.core.machines.model import MachineModel
from chronarch.core.watching.build_watch import BuildWatch, CameraView, Seen
from chronarch.core.watching.camera_pose import CameraPose, PoseUnclear, find_pose
from chronarch.core.watching.expected_scene import OTHER, ExpectedScene, Sight
from chronarch.core.watching.frame_quality import Unjudged
from chronarch.core.watching.judgement import Judge
from chronarch.core.watching.learned import LEARNED
from chronarch.core.watching.opencv import cv2
from chronarch.core.watching.suspicion import FailureMode
from chronarch.demo.labelled_sets import SlicedPart, part_named
from chronarch.standins.scene.drawing import BedView, Surroundings
from chronarch.standins.scene.exposure import Exposure, as_jpeg, expose
from chronarch.standins.scene.lens import Lens
from chronarch.standins.scene.matter import Failure, Matter

LENS = Lens((95, -280, 210), (112, 95, 10), 0.84, -0.05)
LOOK = Surroundings(bed=(84, 86, 90), seed=3)
RED = (190, 62, 54)
PARKED = (5.0, 210.0, 60.0)
MODEL = MachineModel(name="watched")
EVERY_S = 60.0


class Shop:
    """One build, drawn as far as its commands are taken, and a watch that looks at it."""

    def __init__(self, sliced: SlicedPart, filament: tuple[int, int, int] = RED) -> None:
        self.sliced, self.matter = sliced, Matter()
        self.scene = BedView(LENS, LOOK, filament, self.matter)
        self.clear = self._jpeg(PARKED)
        self.view = CameraView.of(self.clear, LENS.corners((220, 220)), (220.0, 220.0))
        self.watch = BuildWatch(self.view, as_bytes(sliced.text), sliced.analysis, MODEL, Judge(LEARNED))
        self.taken, self.at_s = 0, 0.0

    def _jpeg(self, head: tuple[float, float, float], how: Exposure | None = None) -> bytes:
        self.frames = getattr(self, "frames", 0) + 1
        return as_jpeg(expose(self.scene.picture(head), how or Exposure(seed=self.frames)))

    def build_to(self, taken: int) -> None:
        for thing, lines, filament_mm in self.sliced.pieces(self.taken, taken):
            for fresh, wide in zip(self.matter.lay(lines, thing, 30.0, filament_mm), (0.62, 0.5), strict=True):
                if self.matter.version == self.scene.version:
                    self.scene.draw(fresh, wide)
        self.taken = taken

    def look(self, how: Exposure | None = None) -> Seen:
        self.at_s += EVERY_S
        head = self.sliced.head_at(self.taken) if self.taken else PARKED
        return self.watch.look(self._jpeg(head, how), self.taken, self.at_s)

    def go_on(self, frames: int, until: float) -> list[Seen]:
        """Build on to a share of all, and look so many times on the way."""
        ends = np.linspace(self.taken, until * self.sliced.analysis.commands, frames + 1)[1:]
        seen = []
        for end in ends:
            self.build_to(int(end))
            seen.append(self.look())
        return seen


def worst(seen: Seen) -> float:
    return max((s.probability for s in seen.suspicions), default=0.0)


class Watching(unittest.TestCase):
    feet: SlicedPart
    posts: SlicedPart

    @classmethod
    def setUpClass(cls) -> None:
        cls.feet = SlicedPart(part_named("lamp-foot"), MODEL)
        cls.posts = SlicedPart(part_named("tall-post"), MODEL)

    def test_a_good_build_raises_nothing_while_lamps_change(self) -> None:
        shop = Shop(self.feet)
        shop.build_to(int(0.2 * self.feet.analysis.commands))
        for n, share in enumerate(np.linspace(0.2, 0.8, 14)):
            shop.build_to(int(share * self.feet.analysis.commands))
            seen = shop.look(Exposure((0.6, 0.58, 0.5), band=0.05, phase=n, seed=n) if n % 5 == 4 else None)
            self.assertIsNone(seen.unjudged)
            self.assertLess(worst(seen), 0.8, n)

    def _fails(self, shop: Shop, failure: Failure, begin: float, end: float) -> Seen:
        """Let a build go well to a share of it, then fail; returns what was seen at last."""
        shop.build_to(int((begin - 0.15) * shop.sliced.analysis.commands))
        for seen in shop.go_on(8, begin):
            self.assertLess(worst(seen), 0.8)
        shop.matter.fail(failure)
        return shop.go_on(8, end)[-1]

    def test_a_part_that_comes_loose_is_found_and_named(self) -> None:
        shop = Shop(self.feet)
        seen = self._fails(shop, Failure("loose", 0, (-34.0, -12.0), 0.7, slow=120.0, seed=4), 0.6, 0.7)
        self.assertGreater(worst(seen), 0.8)
        mine = [s for s in seen.suspicions if s.object == "lamp-foot 1"]
        self.assertTrue(mine, seen.suspicions)
        self.assertIsNotNone(mine[0].place)
        left, top, wide, high = mine[0].place
        at = LENS.project(np.array([[60.0 - 34, 70.0 - 12, 4.0]]))[0] / LENS.size
        self.assertTrue(left - 0.05 <= at[0] <= left + wide + 0.05, (mine[0].place, at))
        self.assertTrue(top - 0.08 <= at[1] <= top + high + 0.08, (mine[0].place, at))

    def test_a_tangle_is_found(self) -> None:
        shop = Shop(self.feet)
        seen = self._fails(shop, Failure("tangle", 1, seed=5), 0.6, 0.75)
        self.assertGreater(worst(seen), 0.8)

    def test_a_post_that_fell_is_found(self) -> None:
        shop = Shop(self.posts)
        seen = self._fails(shop, Failure("fallen", 0, (-1.0, 0.0), seed=6), 0.6, 0.66)
        self.assertGreater(worst(seen), 0.8)

    def test_what_lies_on_the_bed_before_a_start_is_found(self) -> None:
        shop = Shop(self.feet)
        clear = [shop.look() for _ in range(3)][-1]
        self.assertLess(worst(clear), 0.5)
        shop.scene.add_thing(
            np.array([[80, 90, 3], [140, 92, 3], [140, 104, 3], [80, 102, 3]], np.float64), (160, 160, 166)
        )
        seen = [shop.look() for _ in range(3)][-1]
        self.assertEqual(seen.suspicions[0].mode, FailureMode.NOT_CLEAR)
        self.assertGreater(worst(seen), 0.8)

    def test_a_hand_in_the_picture_is_not_judged(self) -> None:
        shop = Shop(self.feet)
        shop.build_to(int(0.4 * self.feet.analysis.commands))
        shop.go_on(4, 0.5)
        seen = shop.look(Exposure(hand=(0.42, 0.66)))
        self.assertIs(seen.unjudged, Unjudged.HANDS)
        self.assertLess(worst(seen), 0.5)

    def test_what_cannot_be_read_is_said(self) -> None:
        shop = Shop(self.feet)
        with self.assertRaisesRegex(ValueError, "no JPEG"):
            shop.watch.look(b"not a picture", 0, 1.0)
        with self.assertRaisesRegex(ValueError, "another shape"):
            shop.watch.look(as_jpeg(np.zeros((480, 480, 3), np.uint8)), 0, 1.0)
        with self.assertRaisesRegex(PoseUnclear, "another shape"):
            CameraView.of(shop.clear, LENS.corners((220, 220)), (220.0, 220.0), (1000, 1000))


class Expecting(unittest.TestCase):
    """What should be seen lies where the stand-ins' camera draws it."""

    lens: Lens
    pose: CameraPose

    @classmethod
    def setUpClass(cls) -> None:
        cls.lens = Lens((95, -280, 210), (112, 95, 10), 0.84, 0.0, (640, 360))
        cls.pose = find_pose(cls.lens.corners((220, 220)), (220, 220), (640, 360))

    def _expected(self, sliced: SlicedPart, share: float) -> ExpectedScene:
        scene = ExpectedScene(as_bytes(sliced.text), sliced.analysis, MODEL, Sight(self.pose, (220.0, 220.0)))
        scene.advance(int(share * sliced.analysis.commands))
        return scene

    def _drawn(self, sliced: SlicedPart, share: float) -> np.ndarray:
        matter = Matter()
        scene = BedView(self.lens, LOOK, RED, matter)
        for thing, lines, _ in sliced.pieces(0, int(share * sliced.analysis.commands)):
            scene.draw(matter.lay(lines, thing, 1.0, 1.0)[0])
        image = scene.picture(None).astype(int)
        red: np.ndarray = image[..., 0] > image[..., 2] + 40
        return red

    def test_the_silhouette_is_the_one_that_the_camera_sees(self) -> None:
        for name, share in (("lamp-foot", 0.7), ("tall-post", 0.9), ("cable-drum", 0.5)):
            sliced = SlicedPart(part_named(name), MODEL)
            expected = self._expected(sliced, share).owner > 0
            drawn = self._drawn(sliced, share)
            both, either = (expected & drawn).sum(), (expected | drawn).sum()
            self.assertGreater(both / either, 0.85, name)

    def test_each_object_has_its_own_place_and_name(self) -> None:
        scene = self._expected(SlicedPart(part_named("lamp-foot"), MODEL), 0.6)
        self.assertEqual([scene.name(n) for n in (1, 2, 3)], ["lamp-foot 1", "lamp-foot 2", "lamp-foot 3"])
        for number, (x, y) in ((1, (60, 70)), (2, (155, 75)), (3, (110, 150))):
            u, v = self.lens.project(np.array([[x, y, scene.z_mm]], np.float64))[0]
            self.assertEqual(scene.owner[round(v), round(u)], number)

    def test_a_file_that_names_no_objects_has_them_by_their_footprints(self) -> None:
        sliced = SlicedPart(part_named("lamp-foot"), MODEL)
        plain = b"\n".join(line for line in sliced.text.split(b"\n") if not line.startswith(b"M486"))
        analysis = analyse(plain, MODEL)
        scene = ExpectedScene(as_bytes(plain), analysis, MODEL, Sight(self.pose, (220.0, 220.0)))
        scene.advance(int(0.6 * analysis.commands))
        self.assertEqual(scene.objects, 3)
        self.assertTrue({1, 2, 3} <= set(np.unique(scene.owner).tolist()))
        self.assertLess((scene.owner == OTHER).sum(), 0.1 * (scene.owner > 0).sum())

    def test_the_head_hides_where_it_may_be_and_no_more_than_it_may(self) -> None:
        sliced = SlicedPart(part_named("lamp-foot"), MODEL)
        scene = self._expected(sliced, 0.5)
        taken = int(0.5 * sliced.analysis.commands)
        hidden = scene.head(taken)
        x, y, z = sliced.head_at(taken)
        u, v = self.lens.project(np.array([[x, y, z + 30]], np.float64))[0]
        self.assertGreater(hidden[round(v), round(u)], 0)
        self.assertLess((hidden == 255).mean(), 0.35)

    def test_taking_it_step_by_step_is_the_same_as_at_once(self) -> None:
        sliced = SlicedPart(part_named("hook"), MODEL)
        at_once = self._expected(sliced, 0.5)
        steps = ExpectedScene(as_bytes(sliced.text), sliced.analysis, MODEL, Sight(self.pose, (220.0, 220.0)))
        for share in np.linspace(0.01, 0.5, 17):
            steps.advance(int(share * sliced.analysis.commands))
        np.testing.assert_array_equal(at_once.owner, steps.owner)
        np.testing.assert_array_equal(at_once.first, steps.first)
        steps.advance(10)
        np.testing.assert_array_equal(at_once.owner, steps.owner)


class LabelledSets(unittest.TestCase):
    def test_a_sequence_says_the_truth_beside_each_frame(self) -> None:
        from chronarch.demo.labelled_sets import SetMaker

        with tempfile.TemporaryDirectory() as scratch:
            folder = Path(scratch)
            maker = SetMaker(folder, "tuning")
            maker.failing("shifted-0", "shifted")
            maker.close()
            rows = [json.loads(line) for line in (folder / "frames.jsonl").read_text().splitlines()]
            labels = [row["label"] for row in rows if row["label"] != "cannot-judge"]
            first = labels.index("shifted")
            self.assertEqual(set(labels[:first]), {"fine"})
            self.assertEqual(set(labels[first:]), {"shifted"})
            self.assertEqual([row["taken"] for row in rows], sorted(row["taken"] for row in rows))
            for row in rows:
                self.assertEqual(cv2.imread(str(folder / row["image"])).shape, (720, 1280, 3))
                self.assertTrue((folder / row["gcode"]).is_file())
                self.assertEqual(len(row["camera"]), 4)


if __name__ == "__main__":
    unittest.main()
