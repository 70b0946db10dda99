"""Frames that cannot be judged are known for that, and for why."""

from __future__ import annotations

import unittest

import numpy as np

from chronarch.core.watching.frame_quality import WORDS, ClearView, Unjudged
from chronarch.core.watching.opencv import cv2
from chronarch.standins.scene.drawing import BedView, Surroundings
from chronarch.standins.scene.exposure import Exposure, expose
from chronarch.standins.scene.lens import Lens
from chronarch.standins.scene.matter import Matter

HEAD = (5.0, 210.0, 60.0)


class FrameQuality(unittest.TestCase):
    picture: np.ndarray
    view: ClearView

    @classmethod
    def setUpClass(cls) -> None:
        lens = Lens((110, -250, 230), (110, 105, 5), 0.78, -0.05)
        cls.picture = BedView(lens, Surroundings(), (204, 146, 48), Matter()).picture(HEAD)
        cls.view = ClearView(cls._frame(Exposure()))

    @classmethod
    def _frame(cls, how: Exposure) -> np.ndarray:
        image = cv2.cvtColor(expose(cls.picture, how), cv2.COLOR_RGB2BGR)
        small: np.ndarray = cv2.resize(image, (960, 540), interpolation=cv2.INTER_AREA)
        return small

    def _why(self, how: Exposure) -> Unjudged | None:
        return self.view.unjudged(self._frame(how), np.zeros((540, 960), np.uint8))

    def test_lamps_that_change_and_noise_do_not_keep_a_frame_from_being_judged(self) -> None:
        for how in (
            Exposure((0.45, 0.42, 0.36)),
            Exposure((1.5, 1.45, 1.3), slope=(0.2, -0.15)),
            Exposure(band=0.06, phase=2.0, noise=5.0, seed=9),
            Exposure(blur=1.2),
        ):
            self.assertIsNone(self._why(how), how)

    def test_dark_blurred_covered_and_knocked_are_told_apart(self) -> None:
        for how, why in (
            (Exposure((0.02, 0.02, 0.02)), Unjudged.DARK),
            (Exposure(blur=8.0), Unjudged.BLURRED),
            (Exposure(covered=1.05), Unjudged.COVERED),
            (Exposure(knocked=(24.0, -18.0, 0.0)), Unjudged.KNOCKED),
            (Exposure(knocked=(40.0, 10.0, 1.0)), Unjudged.KNOCKED),
        ):
            self.assertIs(self._why(how), why, how)

    def test_each_says_what_to_do(self) -> None:
        self.assertEqual(set(WORDS), set(Unjudged))
        for words in WORDS.values():
            self.assertGreaterEqual(words.count("."), 2)


if __name__ == "__main__":
    unittest.main()
