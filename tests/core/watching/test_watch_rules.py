"""What follows of a suspicion, and how careful the watch is."""

from __future__ import annotations

import itertools
import unittest

from chronarch.core.watching.carefulness import CatchRate, choose
from chronarch.core.watching.measured import MEASURED
from chronarch.core.watching.suspicion import FailureMode
from chronarch.core.watching.watch_rules import Follow, WatchRule, what_is_done


class Rules(unittest.TestCase):
    def test_what_no_rule_names_is_told_and_a_watch_that_is_off_takes_no_notice(self) -> None:
        rule = WatchRule(follow={FailureMode.TANGLE: Follow.PAUSE})
        self.assertIs(rule.follows(FailureMode.TANGLE), Follow.PAUSE)
        self.assertIs(rule.follows(FailureMode.BLOB), Follow.TELL)
        off = WatchRule(on=False, follow=rule.follow)
        self.assertEqual({off.follows(mode) for mode in FailureMode}, {Follow.NOTHING})

    def test_an_object_is_left_out_where_it_has_a_name_and_others_go_on(self) -> None:
        for follow, name, others, done in (
            (Follow.LEAVE_OUT, "clip 1", 2, Follow.LEAVE_OUT),
            (Follow.LEAVE_OUT, "clip 1", 0, Follow.PAUSE),
            (Follow.LEAVE_OUT, "", 3, Follow.PAUSE),
            (Follow.TELL, "clip 1", 2, Follow.TELL),
            (Follow.PAUSE, "", 0, Follow.PAUSE),
        ):
            with self.subTest(follow=follow, name=name, others=others):
                self.assertIs(what_is_done(follow, name, others), done)

    def test_no_object_can_be_left_out_for_what_befalls_a_whole_build(self) -> None:
        for mode in (FailureMode.SHIFTED, FailureMode.NOT_GROWING, FailureMode.BLOB, FailureMode.NOT_CLEAR):
            with self.subTest(mode), self.assertRaisesRegex(ValueError, "whole build"):
                WatchRule(follow={mode: Follow.LEAVE_OUT})


class Carefulness(unittest.TestCase):
    CURVE = (
        CatchRate(0.6, 0.1, 0.9, 0.8, 100.0),
        CatchRate(0.8, 0.02, 0.85, 0.7, 150.0),
        CatchRate(0.9, 0.02, 0.8, 0.7, 200.0),
        CatchRate(0.97, 0.005, 0.6, 0.4, 300.0),
    )

    def test_the_point_that_catches_most_within_what_is_put_up_with_is_chosen(self) -> None:
        for accepted, threshold in ((1.0, 0.6), (0.1, 0.6), (0.05, 0.8), (0.006, 0.97), (0.0001, 0.97)):
            with self.subTest(accepted):
                self.assertEqual(choose(self.CURVE, accepted).threshold, threshold)

    def test_the_measured_curve_rises_in_thresholds_and_falls_in_what_is_caught(self) -> None:
        for a, b in itertools.pairwise(MEASURED):
            self.assertLess(a.threshold, b.threshold)
            self.assertGreaterEqual(a.caught, b.caught)
        for point in MEASURED:
            self.assertTrue(0 < point.threshold < 1 and 0 <= point.in_time <= point.caught <= 1, point)


if __name__ == "__main__":
    unittest.main()
