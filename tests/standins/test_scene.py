"""The stand-ins' camera draws what is there, and each failure as it happens."""

from __future__ import annotations

import unittest

import numpy as np

from chronarch.standins.scene.drawing import BedView, Surroundings
from chronarch.standins.scene.exposure import Exposure, as_jpeg, expose
from chronarch.standins.scene.lens import Lens
from chronarch.standins.scene.matter import FAILURES, Failure, FailureKind, Matter

LENS = Lens((110, -260, 220), (110, 105, 5), 0.8, 0.0, (640, 360))
RED = (200, 40, 30)


def square(z: float, x: float = 100.0, y: float = 100.0, side: float = 20.0) -> np.ndarray:
    """One layer of a square tower: its rim and three lines across."""
    a, b = x + side, y + side
    rim = [(x, y, z, a, y, z), (a, y, z, a, b, z), (a, b, z, x, b, z), (x, b, z, x, y, z)]
    return np.array([*rim, *((x, y + side * k / 4, z, a, y + side * k / 4, z) for k in (1, 2, 3))], np.float64)


def tower(matter: Matter, layers: int, first: int = 0, thing: int = 0) -> list[tuple[np.ndarray, np.ndarray]]:
    return [matter.lay(square(0.3 * (n + 1)), thing, 20.0, 15.0) for n in range(first, first + layers)]


def reds(scene: BedView) -> np.ndarray:
    image = scene.picture(None).astype(int)
    red: np.ndarray = image[..., 0] > image[..., 1] + 40
    return red


class Failures(unittest.TestCase):
    def _failed(self, kind: FailureKind, **more: object) -> Matter:
        matter = Matter()
        tower(matter, 40)
        matter.fail(Failure(kind, 0, **more))
        tower(matter, 10, 40)
        return matter

    def test_a_good_build_lies_where_it_was_laid(self) -> None:
        matter = Matter()
        laid = tower(matter, 5)
        np.testing.assert_array_equal(matter.bodies[0].all(), np.concatenate([body for body, _ in laid]))
        self.assertFalse(matter.strings)

    def test_a_loose_part_is_dragged_further_and_further(self) -> None:
        matter = self._failed("loose", drift_mm=(30.0, 0.0), slow=400.0)
        near = matter.bodies[0].all()[:, 0].mean()
        tower(matter, 30, 50)
        far = matter.bodies[0].all()[:, 0].mean()
        self.assertGreater(near, 112)
        self.assertGreater(far, near + 5)
        self.assertTrue(matter.strings, "what is laid where it stood finds nothing to lie on")

    def test_a_tangle_grows_beside_the_part_which_does_not(self) -> None:
        matter = self._failed("tangle", seed=3)
        size = np.ptp(np.concatenate(matter.strings)[:, 0])
        high = matter.bodies[0].all()[:, 2].max()
        tower(matter, 40, 50)
        self.assertGreater(np.ptp(np.concatenate(matter.strings)[:, 0]), size)
        self.assertEqual(matter.bodies[0].all()[:, 2].max(), high)

    def test_a_shift_moves_all_that_follows(self) -> None:
        lines = self._failed("shifted", drift_mm=(6.0, -2.0)).bodies[0].all()
        below, above = lines[lines[:, 2] < 12.05], lines[lines[:, 2] > 12.05]
        moved = above[:, :2].min(0) - below[:, :2].min(0)
        np.testing.assert_allclose(moved, (6.0, -2.0))

    def test_without_plastic_nothing_grows_and_a_blob_gathers_it(self) -> None:
        air, blob = self._failed("not-growing"), self._failed("blob")
        for matter in (air, blob):
            self.assertAlmostEqual(matter.bodies[0].all()[:, 2].max(), 12.0)
        self.assertEqual(air.blob_mm3, 0)
        self.assertGreater(blob.blob_mm3, 100)

    def test_a_part_that_falls_lies_beside_its_place_as_long_as_it_was_high(self) -> None:
        lines = self._failed("fallen", drift_mm=(1.0, 0.0)).bodies[0].all()
        self.assertLess(lines[:, 2].max(), 20.5)
        self.assertGreater(lines[:, 0].max(), 120 + 11)

    def test_every_failure_is_seen_in_the_picture(self) -> None:
        for kind in FAILURES:
            matters = Matter(), Matter()
            scenes = [BedView(LENS, Surroundings(), RED, matter) for matter in matters]
            for matter in matters:
                tower(matter, 60)
            matters[1].fail(Failure(kind, 0, (14.0, 3.0), 0.5, slow=60.0))
            for matter in matters:
                tower(matter, 40, 60)
            for scene, matter in zip(scenes, matters, strict=True):
                matter.version += 1
                scene.look = Surroundings()
            pictures = [scene.picture((110.0, 110.0, 30.0)).astype(int) for scene in scenes]
            self.assertGreater((np.abs(pictures[0] - pictures[1]).max(2) > 40).sum(), 60, kind)


class Pictures(unittest.TestCase):
    def test_what_is_drawn_bit_by_bit_is_what_is_drawn_anew(self) -> None:
        matter = Matter()
        scene = BedView(LENS, Surroundings(), RED, matter)
        for body, _ in tower(matter, 40):
            scene.draw(body)
        before = reds(scene)
        matter.version += 1
        after = reds(scene)
        self.assertGreater(before.sum(), 300)
        self.assertGreater((before & after).sum() / (before | after).sum(), 0.9)

    def test_the_lens_bends_what_is_far_from_its_middle_most(self) -> None:
        straight, bent = (Lens((110, -260, 220), (110, 105, 5), 0.8, bend) for bend in (0.0, -0.1))
        spots = np.array([[110, 105, 5], [0, 0, 0]], np.float64)
        off = np.linalg.norm(straight.project(spots) - bent.project(spots), axis=1)
        self.assertLess(off[0], 0.01)
        self.assertGreater(off[1], 5)

    def test_light_noise_and_what_is_in_the_way_are_in_the_frame(self) -> None:
        picture = BedView(LENS, Surroundings(), RED, Matter()).picture((110.0, 110.0, 40.0))
        plain = expose(picture, Exposure(noise=0.0))
        self.assertLess(expose(picture, Exposure((0.3, 0.3, 0.3))).mean(), 0.4 * plain.mean())
        self.assertGreater(expose(picture, Exposure(noise=6.0)).astype(int).std(), plain.astype(int).std())
        for how in (Exposure(hand=(0.5, 0.6)), Exposure(covered=0.5), Exposure(knocked=(20.0, 5.0, 1.0))):
            changed = np.abs(expose(picture, how).astype(int) - plain.astype(int)).max(2) > 25
            self.assertGreater(changed.mean(), 0.02, how)
        self.assertTrue(as_jpeg(plain, 60).startswith(b"\xff\xd8\xff"))


if __name__ == "__main__":
    unittest.main()
