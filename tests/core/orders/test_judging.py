"""What a verdict makes of a build."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.orders.judging import BadVerdict, judged
from chronarch.core.orders.states import Verdict

GOOD, SCRAP = Verdict.GOOD, Verdict.SCRAP


class Judging(unittest.TestCase):
    def test_a_plain_verdict_is_for_all_pieces(self) -> None:
        self.assertEqual(judged(7, 4, GOOD, None, ""), (GOOD, 4))
        self.assertEqual(judged(7, 4, SCRAP, None, "warped corner"), (SCRAP, 0))

    def test_some_good_pieces_make_a_good_build_and_none_make_it_scrap(self) -> None:
        self.assertEqual(judged(7, 4, GOOD, 3, "one came loose"), (GOOD, 3))
        self.assertEqual(judged(7, 4, GOOD, 0, "all came loose"), (SCRAP, 0))

    def test_what_contradicts_itself_says_what_to_say_instead(self) -> None:
        for verdict, good, reason, words in (
            (GOOD, 5, "", "Build 7 yields 4; 5 of them cannot be good"),
            (SCRAP, 2, "loose", "is good; say how many are"),
            (GOOD, 3, "", "need a reason"),
            (SCRAP, None, "", "need a reason"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(BadVerdict, words):
                judged(7, 4, verdict, good, reason)

    @given(st.integers(1, 50), st.sampled_from(Verdict), st.none() | st.integers(0, 60), st.sampled_from(("", "why")))
    def test_a_build_is_good_when_a_piece_is_and_never_yields_more_than_it_has(
        self, pieces: int, verdict: Verdict, good: int | None, reason: str
    ) -> None:
        try:
            said, counted = judged(1, pieces, verdict, good, reason)
        except BadVerdict:
            return
        self.assertEqual(said is GOOD, counted > 0)
        self.assertLessEqual(counted, pieces)
        self.assertTrue(counted == pieces or reason, "what is not good has a reason")


if __name__ == "__main__":
    unittest.main()
