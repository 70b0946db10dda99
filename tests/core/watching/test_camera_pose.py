"""Where a camera stands, from the corners of the bed: against the stand-ins' own lens, which shares no code with it."""

from __future__ import annotations

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from chronarch.core.watching.camera_pose import CameraPose, KnownPoint, PoseUnclear, find_bend, find_pose
from chronarch.core.watching.opencv import cv2
from chronarch.standins.scene.drawing import BedView, Surroundings
from chronarch.standins.scene.lens import Lens
from chronarch.standins.scene.matter import Matter

BED, SIZE = (220.0, 220.0), (1280, 720)
LENSES = (
    Lens((110, -250, 230), (110, 105, 5), 0.78, 0.0),
    Lens((-60, -190, 210), (112, 110, 0), 0.72, 0.0),
    Lens((300, -120, 160), (108, 108, 8), 1.1, 0.0),
)
SPOTS = np.array([[60, 60, 30], [150, 150, 50], [110, 110, 10], [20, 200, 5]], np.float64)


class CameraPoses(unittest.TestCase):
    def test_four_corners_tell_where_a_camera_stands_and_how_it_draws_what_is_tall(self) -> None:
        for lens in LENSES:
            pose = find_pose(lens.corners(BED), BED, SIZE)
            np.testing.assert_allclose(pose.eye_mm, lens.eye_mm, atol=6)
            np.testing.assert_allclose(pose.project(SPOTS), lens.project(SPOTS), atol=1.0)
            self.assertLess(pose.error_px, 0.3)

    def test_corners_that_are_clicked_a_little_off_move_the_picture_by_little(self) -> None:
        lot = np.random.default_rng(3)
        for lens in LENSES:
            for _ in range(5):
                clicked = np.array(lens.corners(BED)) + lot.normal(0, 0.8, (4, 2))
                pose = find_pose(clicked.tolist(), BED, SIZE)
                self.assertLess(np.abs(pose.project(SPOTS) - lens.project(SPOTS)).max(), 6.0)

    def test_one_known_height_mends_the_vertical(self) -> None:
        lens = Lens((110, 100, 520), (110, 112, 0), 1.3)  # nearly straight down: four corners say little of the lens
        top = np.array([[40.0, 180.0, 90.0]])
        corners = [(u + 0.6 * (-1) ** n, v - 0.5) for n, (u, v) in enumerate(lens.corners(BED))]
        without = find_pose(corners, BED, SIZE)
        seen = lens.project(top)[0]
        known = KnownPoint((40.0, 180.0, 90.0), (float(seen[0]), float(seen[1])))
        mended = find_pose(corners, BED, SIZE, known=known)
        other = np.array([[180.0, 40.0, 80.0]])

        def miss(pose: CameraPose) -> float:
            return float(np.abs(pose.project(other) - lens.project(other)).max())

        self.assertLess(miss(mended), 4.0)
        self.assertLess(miss(mended), miss(without) + 0.5)

    def test_a_picture_that_is_mirrored_is_known_for_that(self) -> None:
        lens = LENSES[0]
        corners = [(SIZE[0] - u, v) for u, v in lens.corners(BED)]
        pose = find_pose(corners, BED, SIZE)
        self.assertTrue(pose.mirrored)
        expected = lens.project(SPOTS) * (-1, 1) + (SIZE[0], 0)
        np.testing.assert_allclose(pose.project(SPOTS), expected, atol=1.0)

    def test_a_cut_and_a_smaller_picture_keep_the_pose(self) -> None:
        pose = find_pose(LENSES[1].corners(BED), BED, SIZE)
        small = pose.scaled((640, 360)).cropped((100, 50, 300, 200))
        np.testing.assert_allclose(small.project(SPOTS), LENSES[1].project(SPOTS) / 2 - (100, 50), atol=0.6)
        smaller = small.cropped((20, 10, 200, 100))
        np.testing.assert_allclose(smaller.project(SPOTS), small.project(SPOTS) - (20, 10), atol=1e-6)

    @settings(max_examples=30, deadline=None)
    @given(st.floats(-250, 450), st.floats(-350, -90), st.floats(120, 420), st.floats(0.6, 1.6))
    def test_wherever_it_stands_the_corners_are_drawn_where_they_were_clicked(
        self, x: float, y: float, z: float, focal: float
    ) -> None:
        lens = Lens((x, y, z), (110, 110, 0), focal)
        pose = find_pose(lens.corners(BED), BED, SIZE)
        bed = np.array([[0, 0, 0], [220, 0, 0], [220, 220, 0], [0, 220, 0]], np.float64)
        np.testing.assert_allclose(pose.project(bed), lens.project(bed), atol=1.5)

    def test_what_cannot_be_a_bed_is_refused_with_why(self) -> None:
        good = LENSES[0].corners(BED)
        for corners, why in (
            (good[:3], "Four corners are wanted"),
            ([good[0], good[2], good[1], good[3]], "cross over"),
            ([(600, 300), (610, 300), (610, 308), (600, 308)], "too small"),
            ([(-9000, 700), (9000, 700), (700, 20), (500, 20)], "far outside"),
            ([(float("nan"), 0), *good[1:]], "Four corners are wanted"),
        ):
            with self.subTest(why), self.assertRaisesRegex(PoseUnclear, why):
                find_pose(corners, BED, SIZE)

    def test_corners_that_no_camera_could_see_there_are_not_believed(self) -> None:
        with self.assertRaisesRegex(PoseUnclear, "miss by .* 220 x 220 mm|No camera"):
            find_pose([(300, 600), (1200, 690), (1190, 90), (1100, 40)], BED, SIZE)

    def test_a_bent_lens_is_told_from_the_straight_edges_of_the_bed(self) -> None:
        for bend in (-0.12, -0.06):
            lens = Lens((-60, -190, 210), (112, 110, 0), 0.72, bend)
            picture = BedView(lens, Surroundings(wall=(20, 20, 22)), (30, 150, 140), Matter()).picture(None)
            grey = cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY)
            self.assertAlmostEqual(find_bend(grey, lens.corners(BED), BED), bend, delta=0.04)

    def test_without_edges_no_bend_is_made_up(self) -> None:
        self.assertEqual(find_bend(np.full((720, 1280), 60, np.uint8), LENSES[0].corners(BED), BED), 0.0)


if __name__ == "__main__":
    unittest.main()
