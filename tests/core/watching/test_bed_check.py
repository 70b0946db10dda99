"""A bed before a start: what lies on it is told from the head, which stands elsewhere than in the clear bed's frame."""

from __future__ import annotations

import unittest

import numpy as np

from chronarch.core.watching.bed_check import BedCheck
from chronarch.core.watching.build_watch import CameraView, Seen
from chronarch.core.watching.frame_quality import Unjudged
from chronarch.core.watching.judgement import Judge
from chronarch.core.watching.learned import LEARNED
from chronarch.core.watching.suspicion import FailureMode
from chronarch.standins.picture import CameraPicture, lens_of

VOLUME = (220.0, 220.0, 250.0)
BED = VOLUME[:2]
CORNERS = [(float(u), float(v)) for u, v in lens_of(BED, "front").corners(BED)]
CLEAR_AT = (0.0, 0.0, 120.0)
ELSEWHERE = [(5.0, 200.0, 40.0), (110.0, 110.0, 150.0), (200.0, 215.0, 100.0), (110.0, 10.0, 80.0)]


class LookingAtBeds(unittest.TestCase):
    def setUp(self) -> None:
        self.picture = CameraPicture(VOLUME, "teal")
        self.view = CameraView.of(self.jpeg(CLEAR_AT), CORNERS, BED)

    def jpeg(self, head: tuple[float, float, float]) -> bytes:
        return self.picture.jpeg(head, "Anchor")

    def part(self, x: float, y: float, side: float, layers: int) -> None:
        for k in range(layers):
            for line in np.arange(y, y + side):
                self.picture.lay((x, line, 0.3 + 0.25 * k), (x + side, line, 0.3 + 0.25 * k), 2.0)

    def looked(self, head: tuple[float, float, float]) -> Seen:
        """What three frames come to with the head at a place."""
        check = BedCheck(self.view, CLEAR_AT, Judge(LEARNED))
        return [check.look(self.jpeg(head), head) for _ in range(3)][-1]

    def test_a_clear_bed_is_clear_wherever_the_head_stands(self) -> None:
        for head in (CLEAR_AT, *ELSEWHERE):
            with self.subTest(head=head):
                seen = self.looked(head)
                self.assertIsNone(seen.unjudged)
                self.assertLess(max((s.probability for s in seen.suspicions), default=0.0), 0.1)

    def test_what_was_left_on_the_bed_is_found_and_its_place_is_told(self) -> None:
        self.part(150, 140, 20, 8)
        for head in (CLEAR_AT, *ELSEWHERE):
            with self.subTest(head=head):
                (one,) = self.looked(head).suspicions
                self.assertIs(one.mode, FailureMode.NOT_CLEAR)
                self.assertGreater(one.probability, 0.9)
                assert one.place is not None
                left, top, wide, high = one.place
                u, v = lens_of(BED, "front").project(np.array([[160.0, 150.0, 1.0]]))[0] / (640, 480)
                self.assertTrue(left <= u <= left + wide and top <= v <= top + high, (one.place, u, v))

    def test_a_head_that_hides_the_bed_is_said(self) -> None:
        self.assertIs(self.looked((0.0, 0.0, 0.0)).unjudged, Unjudged.HEAD)


if __name__ == "__main__":
    unittest.main()
