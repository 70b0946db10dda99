"""A labelled set summed up: what was caught and how soon, what was raised for nothing."""

from __future__ import annotations

import unittest

from chronarch.core.watching.scoring import LabelScore, ScoredFrame, SetScore, score
from chronarch.core.watching.suspicion import FailureMode


def sequence(name: str, *said: tuple[str, FailureMode | None, float], every_s: float = 60.0) -> list[ScoredFrame]:
    return [ScoredFrame(name, n * every_s, label, kind, p, ms=10.0) for n, (label, kind, p) in enumerate(said)]


GOOD = ("fine", None, 0.0)


class Scoring(unittest.TestCase):
    def _of(self, result: SetScore, label: str, setting: int = 0) -> LabelScore:
        return next(one for one in result.settings[setting].labels if one.label == label)

    def test_a_failure_is_caught_by_the_first_alarm_after_it(self) -> None:
        frames = sequence(
            "a", *[GOOD] * 5, ("loose", None, 0.0), ("loose", FailureMode.LOOSE, 0.6), ("loose", FailureMode.LOOSE, 0.9)
        )
        frames += sequence("b", *[GOOD] * 5, *[("loose", FailureMode.TANGLE, 0.85)] * 3)
        frames += sequence("c", *[GOOD] * 5, *[("loose", FailureMode.LOOSE, 0.3)] * 20)
        result = score(frames, [])
        loose = self._of(result, "loose")
        self.assertEqual((loose.sequences, loose.recall, loose.in_time), (3, 2 / 3, 2 / 3))
        self.assertEqual((loose.named, loose.precision, loose.delay_s), (0.5, 1.0, 120.0))
        self.assertEqual(self._of(result, "tangle").precision, 0.0)
        self.assertEqual(result.confusion["loose"], {"loose": 1, "tangle": 1, "nothing": 1})
        self.assertEqual(result.settings[0].false_alarms, 0)

    def test_an_alarm_before_the_failure_is_false_and_one_that_lasts_counts_once(self) -> None:
        frames = sequence(
            "a",
            GOOD,
            ("fine", FailureMode.BLOB, 0.9),
            ("fine", FailureMode.BLOB, 0.95),
            *[GOOD] * 57,
            ("blob", FailureMode.BLOB, 0.9),
        )
        result = score(frames, [])
        self.assertEqual(result.settings[0].false_alarms, 1)
        self.assertAlmostEqual(result.good_h, 59 / 60)
        self.assertAlmostEqual(result.settings[0].false_per_h or 0, 60 / 59)

    def test_a_false_alarm_that_stands_when_the_failure_comes_has_caught_nothing(self) -> None:
        frames = sequence("a", *[GOOD] * 5, ("fine", FailureMode.LOOSE, 0.9), *[("loose", FailureMode.LOOSE, 0.9)] * 20)
        result = score(frames, [])
        self.assertEqual(self._of(result, "loose").recall, 0.0)
        self.assertEqual(result.settings[0].false_alarms, 1)
        self.assertEqual(result.confusion["loose"], {"nothing": 1})

    def test_the_rate_of_false_alarms_that_is_accepted_sets_the_threshold(self) -> None:
        frames: list[ScoredFrame] = []
        for n, top in enumerate((0.35, 0.55, 0.75, 0.95)):
            frames += sequence(f"good {n}", *[GOOD] * 30, ("fine", FailureMode.LOOSE, top), *[GOOD] * 30)
        frames += sequence("bad", *[GOOD] * 30, *[("loose", FailureMode.LOOSE, 0.6)] * 5)
        hours = score(frames, []).good_h
        result = score(frames, [0.0, 2 / hours])
        none, two = result.settings[1:]
        self.assertEqual((none.false_alarms, none.threshold), (0, 0.96))
        self.assertEqual((two.false_alarms, two.threshold), (2, 0.56))
        self.assertEqual(self._of(result, "loose", 1).recall, 0.0)
        self.assertEqual(self._of(result, "loose", 2).recall, 1.0)

    def test_frames_that_were_not_judged_raise_nothing_and_are_counted(self) -> None:
        hidden = [
            ScoredFrame("a", 60.0 * n, "cannot-judge", FailureMode.LOOSE, 0.9, unjudged="hands") for n in range(3)
        ]
        hidden.append(ScoredFrame("a", 180.0, "fine", FailureMode.LOOSE, 0.9, unjudged="hands"))
        result = score(hidden, [])
        self.assertEqual((result.rightly_unjudged, result.wrongly_unjudged, result.judged), (3, 1, 0))
        self.assertEqual(result.settings[0].false_alarms, 0)

    def test_the_calibration_error_is_what_probabilities_are_off(self) -> None:
        right = [("loose", FailureMode.LOOSE, 0.8)] * 8 + [("fine", FailureMode.LOOSE, 0.8)] * 2
        self.assertAlmostEqual(score(sequence("a", *right[::-1]), []).calibration_error, 0.0)
        wrong = [("fine", FailureMode.LOOSE, 0.9)] * 10
        self.assertAlmostEqual(score(sequence("a", *wrong), []).calibration_error, 0.9)

    def test_a_set_without_failures_says_nothing_of_them(self) -> None:
        result = score(sequence("a", *[GOOD] * 4), [1.0])
        self.assertIsNone(self._of(result, "shifted").recall)
        self.assertEqual(result.confusion, {"fine": {"nothing": 1}})


if __name__ == "__main__":
    unittest.main()
