"""From evidence to a suspicion: added up over frames, calibrated, and moved by what people answer."""

from __future__ import annotations

import math
import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from chronarch.core.watching.answers import learn_from_answers
from chronarch.core.watching.evidence import FrameEvidence, ObjectEvidence
from chronarch.core.watching.judgement import FEATURES, Judge, features
from chronarch.core.watching.learned import LEARNED
from chronarch.core.watching.suspicion import KINDS, OF_OBJECT, FailureMode

FINE = ObjectEvidence(1, 900, 0.0, 0.0, 0.0, 0.0, 0.0, 200, 0.0, 0.0, (0.0, 0.0), 0.6, None)
AWAY = replace(FINE, extra_mm2=420.0, spread_mm=24.0, lost=0.1, rough=1.4, push_mm=(22.0, 6.0), place=(40, 60, 30, 20))
NAMES = {1: "hook 1", 2: "hook 2"}


def frame(*objects: ObjectEvidence, **more: object) -> FrameEvidence:
    return replace(FrameEvidence(objects, 0.0, None), **more)


class Judging(unittest.TestCase):
    def _hear(self, judge: Judge, frames: list[FrameEvidence], every_s: float = 20.0) -> list[float]:
        """The highest probability after each frame."""
        said = [judge.hear(one, NAMES, n * every_s) for n, one in enumerate(frames)]
        return [max((s.probability for s in now), default=0.0) for now in said]

    def test_one_odd_frame_is_no_failure_and_three_are(self) -> None:
        good, odd = frame(FINE, replace(FINE, number=2)), frame(AWAY, replace(FINE, number=2))
        once = self._hear(Judge(LEARNED), [good] * 5 + [odd] + [good] * 4)
        self.assertLess(max(once), 0.8)
        self.assertLess(once[-1], 0.5)
        three = self._hear(Judge(LEARNED), [good] * 5 + [odd] * 4)
        self.assertGreater(three[-1], 0.8)

    def test_a_suspicion_names_the_object_the_place_and_since_when(self) -> None:
        judge = Judge(LEARNED)
        self._hear(judge, [frame(FINE, replace(FINE, number=2))] * 3 + [frame(AWAY, replace(FINE, number=2))] * 6)
        first = judge.now()[0]
        self.assertIn(first.mode, OF_OBJECT)
        self.assertEqual((first.object, first.number, first.place), ("hook 1", 1, (40, 60, 30, 20)))
        self.assertIn("hook 1", first.sentence)
        assert first.since_s is not None
        self.assertTrue(60 <= first.since_s <= 120, first.since_s)

    def test_frames_that_come_quickly_say_less_each(self) -> None:
        odd = [frame(AWAY)] * 4
        slow = self._hear(Judge(LEARNED), odd, every_s=20.0)
        quick = self._hear(Judge(LEARNED), odd, every_s=0.5)
        self.assertLess(quick[-1], slow[-1])

    def test_what_is_no_longer_seen_is_no_longer_suspected(self) -> None:
        judge = Judge(LEARNED)
        self._hear(judge, [frame(AWAY)] * 8)
        for n in range(40):
            judge.hear(frame(FINE), NAMES, 1000 + 20.0 * n)
        self.assertLess(max((s.probability for s in judge.now()), default=0.0), 0.5)

    def test_what_lies_on_a_bed_before_a_start_is_not_clear(self) -> None:
        judge = Judge(LEARNED)
        for n in range(4):
            judge.hear(frame(stray_mm2=900.0, tip=(3, 4, 5, 6)), {}, 20.0 * n)
        self.assertEqual(judge.now()[0].mode, FailureMode.NOT_CLEAR)
        self.assertGreater(judge.now()[0].probability, 0.8)
        empty = Judge(LEARNED)
        for n in range(3):
            empty.hear(frame(stray_mm2=0.0), {}, 20.0 * n)
        self.assertLess(max((s.probability for s in empty.now()), default=0.0), 0.5)

    def test_every_feature_has_a_weight_for_every_kind(self) -> None:
        self.assertEqual(LEARNED.weights.shape, (len(FEATURES), len(KINDS)))
        self.assertEqual(features(AWAY, frame(AWAY)).shape, (len(FEATURES),))

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.tuples(st.floats(0, 5000), st.floats(0, 1), st.floats(0, 1), st.floats(0, 3)), max_size=30))
    def test_whatever_is_seen_a_probability_stays_one(self, seen: list[tuple[float, float, float, float]]) -> None:
        judge = Judge(LEARNED)
        for n, (extra, lost, stunted, fits) in enumerate(seen):
            one = replace(FINE, extra_mm2=extra, lost=lost, stunted=stunted, fits=fits)
            for suspicion in judge.hear(frame(one), NAMES, 5.0 * n):
                self.assertTrue(0 <= suspicion.probability <= 1)
                self.assertFalse(math.isnan(suspicion.probability))


class Answers(unittest.TestCase):
    def test_false_alarms_make_a_camera_more_careful_and_misses_less(self) -> None:
        self.assertEqual(learn_from_answers([]), 0.0)
        careful = learn_from_answers([(0.9, False)] * 5)
        bold = learn_from_answers([(0.2, True)] * 5)
        self.assertLess(careful, -0.5)
        self.assertGreater(bold, 0.5)
        self.assertLess(learn_from_answers([(0.9, False)] * 50), careful)
        self.assertGreaterEqual(learn_from_answers([(0.99, False)] * 5000), -4.0)

    def test_answers_as_often_right_as_was_said_change_little(self) -> None:
        self.assertAlmostEqual(learn_from_answers([(0.8, True)] * 8 + [(0.8, False)] * 2), 0.0, delta=0.05)

    def test_what_was_learned_moves_what_is_said(self) -> None:
        odd = frame(AWAY)
        plain, moved = Judge(LEARNED), Judge(LEARNED, dict.fromkeys(FailureMode, -3.0))
        for n in range(4):
            plain.hear(odd, NAMES, 20.0 * n)
            moved.hear(odd, NAMES, 20.0 * n)
        self.assertLess(moved.now()[0].probability, plain.now()[0].probability)


class Weights(unittest.TestCase):
    def test_they_are_numbers(self) -> None:
        self.assertTrue(np.isfinite(LEARNED.weights).all())
        self.assertGreater(LEARNED.of_build.slope, 0)
        self.assertGreater(LEARNED.of_bed.slope, 0)


if __name__ == "__main__":
    unittest.main()
