"""Which frames a film shows, for how long, and where in it is what."""

from __future__ import annotations

import itertools
import unittest
from datetime import UTC, datetime, timedelta

from hypothesis import given, settings
from hypothesis import strategies as st

from chronarch.core.control.film_taking import HeadAway
from chronarch.core.watching.film_plan import FilmFrame, Moment, plan_film
from chronarch.core.watching.film_settings import FilmSettings
from chronarch.core.watching.frame_keeping import FrameReason as R

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)
PLAIN = FilmSettings(hold_first_s=0, hold_last_s=0)


def frames(*of: tuple[int, R], every_s: float = 60) -> list[FilmFrame]:
    """One frame a minute; each is a layer and a reason."""
    return [FilmFrame(n, NINE + timedelta(seconds=n * every_s), why, layer) for n, (layer, why) in enumerate(of)]


def shown(plan_of: list[FilmFrame], how: FilmSettings) -> list[int]:
    return [shot.frame.number for shot in plan_film(plan_of, how).shots]


reasons = st.sampled_from([R.LAYER, R.TIME, R.PAUSE, R.FILM, R.END])
builds = st.lists(st.tuples(st.integers(0, 3), reasons), min_size=1, max_size=60).map(
    lambda steps: frames(*zip(itertools.accumulate(step for step, _ in steps), (why for _, why in steps), strict=True))
)
hows = st.builds(
    FilmSettings, by=st.sampled_from(["layer", "time"]), per_layer=st.integers(1, 5), every_s=st.floats(1, 600),
    fps=st.integers(1, 60), length_s=st.sampled_from([0.0, 12.0, 60.0]), hold_first_s=st.floats(0, 3),
    hold_last_s=st.floats(0, 3), first_layer=st.integers(1, 5),
)  # fmt: skip


class Plans(unittest.TestCase):
    @given(builds, hows)
    @settings(max_examples=300)
    def test_any_film_is_in_order_as_long_as_asked_and_says_where_its_layers_are(
        self, taken: list[FilmFrame], how: FilmSettings
    ) -> None:
        plan = plan_film(taken, how, [Moment(taken[len(taken) // 2].at, "failed", bad=True)])
        times = [(shot.frame.at, shot.frame.number) for shot in plan.shots]
        self.assertEqual(times, sorted(set(times)), "each frame once, in the order in which they were taken")
        self.assertTrue(all(shot.times > 0 for shot in plan.shots))
        self.assertTrue(all(shot.frame.layer >= how.first_layer for shot in plan.shots) or how.first_layer == 1)
        if not plan.shots:
            return
        if how.length_s:
            self.assertAlmostEqual(plan.seconds, how.length_s, delta=3 / how.fps)
        self.assertLessEqual(plan.seconds, 603)
        begins = [second for _, second in plan.layers]
        self.assertEqual(begins, sorted(begins))
        self.assertEqual({layer for layer, _ in plan.layers}, {shot.frame.layer for shot in plan.shots})
        self.assertTrue(all(0 <= mark.second <= plan.seconds for mark in plan.marks))
        self.assertEqual(sum(bool(shot.mark) for shot in plan.shots), 1)

    def test_by_layer_the_frame_of_the_layer_is_shown_and_the_last_of_all(self) -> None:
        taken = frames((0, R.START), (1, R.LAYER), (1, R.TIME), (2, R.PAUSE), (2, R.LAYER), (3, R.LAYER), (3, R.END))
        self.assertEqual(shown(taken, PLAIN), [1, 4, 5, 6])
        self.assertEqual(shown(taken, FilmSettings(first_layer=2, last_layer=2)), [4])

    def test_several_of_each_layer_are_spread_over_it(self) -> None:
        taken = frames(*((1, R.FILM) for _ in range(8)), (2, R.LAYER), (2, R.FILM))
        self.assertEqual(shown(taken, FilmSettings(per_layer=4)), [0, 2, 4, 6, 8, 9])

    def test_with_the_head_away_only_such_frames_are_shown_where_there_are_any(self) -> None:
        taken = frames((1, R.LAYER), (1, R.FILM), (2, R.LAYER), (3, R.LAYER), (3, R.FILM))
        self.assertEqual(shown(taken, FilmSettings(head_away=HeadAway())), [1, 2, 4])

    def test_by_time_one_is_shown_for_each_step_and_a_gap_is_not_made_up_for(self) -> None:
        taken = [f for f in frames(*((1, R.TIME) for _ in range(30))) if not 10 < f.number < 20]
        self.assertEqual(shown(taken, FilmSettings(by="time", every_s=180)), [0, 3, 6, 9, 20, 22, 25, 28, 29])

    def test_what_came_after_the_build_is_not_shown(self) -> None:
        taken = frames((1, R.LAYER), (2, R.LAYER), (2, R.END), (2, R.TIME), (2, R.VERDICT), every_s=300)
        plan = plan_film(taken, PLAIN, ended=taken[2].at)
        self.assertEqual([shot.frame.number for shot in plan.shots], [0, 1, 2])

    def test_a_failure_is_marked_on_its_frame_however_short_the_film(self) -> None:
        taken = frames(*((n, R.LAYER) for n in range(1, 200)))
        how = FilmSettings(length_s=2, fps=10, hold_first_s=0, hold_last_s=0)
        plan = plan_film(taken, how, [Moment(taken[101].at, "failed in layer 102", bad=True)])
        (marked,) = [shot for shot in plan.shots if shot.mark]
        self.assertEqual((marked.frame.layer, marked.mark), (102, "failed in layer 102"))

    def test_a_failure_before_the_first_layer_has_a_film_too(self) -> None:
        taken = frames((0, R.START), (0, R.TIME), (0, R.FAULT))
        self.assertEqual(shown(taken, PLAIN), [0, 2])


if __name__ == "__main__":
    unittest.main()
