"""What cameras are told of the build they look at: where it is, and which moments are worth a frame."""

from __future__ import annotations

import itertools
import unittest
from dataclasses import replace
from typing import Any

from chronarch.core.control.controlled_machine import BuildSpec
from chronarch.core.control.events import BuildEnded, ControlEvent, Noticed, StateChanged
from chronarch.core.control.film_taking import FilmTaking
from chronarch.core.machines.states import MachineState
from chronarch.core.watching.frame_keeping import FrameReason
from chronarch.tender.peripherals.camera_moments import TOLD_EVERY, CameraMoments
from tests.support.bench import Bench
from tests.support.gcode import squares

LAYERS = 6
Moment = tuple[FrameReason | None, int | None, int, bool]


class FilmedBench(Bench):
    """A bench whose builds have a film."""

    film: FilmTaking | None = None

    def spec(self) -> BuildSpec:
        return replace(super().spec(), film=self.film)


class Moments(unittest.TestCase):
    def setUp(self) -> None:
        self.bench = FilmedBench(text=squares(layers=LAYERS, rounds=2, nozzle=205, bed=60))
        self.said: list[dict[str, Any]] = []
        self.again: list[dict[str, Any]] = []
        self.moments = CameraMoments(self.tell)
        self.at: list[float] = []
        self.over = False

    def tell(self, said: dict[str, Any], again: dict[str, Any]) -> None:
        self.said.append(said)
        self.at.append(self.bench.real_s)
        self.again.append(again)

    def look(self, times: int = 1) -> None:
        for _ in range(times):
            self.moments.look("Anchor", self.bench.controller)

    def happens(self) -> None:
        """All that happened since the last time is heard, and then looked at."""
        told, self.bench.told = self.bench.told, []
        for event in told:
            self.moments.happened("Anchor", event, self.bench.controller)
            self.over |= isinstance(event, BuildEnded)
        self.look()

    def follow(self, each_s: float = 0.0) -> None:
        """The build to its end, a line at a time, with so many seconds between two."""
        for _ in range(3000):
            self.bench.real_s += each_s
            self.bench.run(lines=1, seconds=5)
            self.happens()
            if self.over:
                return
        self.fail("the build does not end")

    def moments_of(self, *whys: FrameReason) -> list[Moment]:
        return [(s["why"], s["build"], s["layer"], s["working"]) for s in self.said if s["why"] in whys]

    def test_a_build_has_a_start_its_layers_and_an_end(self) -> None:
        self.bench.begin()
        self.follow()
        (start,) = self.moments_of(FrameReason.START)
        self.assertEqual(start[:2], (FrameReason.START, 7))
        layers = [layer for _, _, layer, _ in self.moments_of(FrameReason.LAYER)]
        self.assertEqual(layers, list(range(1, LAYERS + 1)), "each once, in order")
        self.assertEqual(len(self.moments_of(FrameReason.END)), 1)
        self.assertEqual(self.moments_of(FrameReason.PAUSE, FrameReason.FAULT, FrameReason.FILM), [])
        commands = [s["command"] for s in self.said if s["build"] == 7]
        self.assertEqual(commands, sorted(commands))

    def test_a_process_that_is_started_anew_is_told_where_it_is_and_no_moment_twice(self) -> None:
        self.bench.begin()
        self.follow()
        self.assertEqual({s["why"] for s in self.again}, {None})
        self.assertEqual([{**s, "why": None} for s in self.said], self.again)
        self.assertEqual({s["name"] for s in self.said}, {"place Anchor"}, "the newest stands for those before")

    def test_a_pause_and_its_end_are_seen(self) -> None:
        self.bench.begin()
        self.bench.run(lines=20)
        self.happens()
        self.bench.controller.pause("look", self.bench.now())
        self.bench.run(seconds=3)
        self.happens()
        ((_, build, layer, _),) = self.moments_of(FrameReason.PAUSE)
        self.assertEqual(build, 7)
        self.assertGreaterEqual(layer, 1)

    def test_a_machine_that_goes_down_is_a_fault_with_its_build(self) -> None:
        self.bench.begin()
        self.bench.run(lines=20)
        self.happens()
        self.bench.say("!! kill() called")
        self.bench.run(seconds=1)
        self.happens()
        self.assertEqual(len(self.moments_of(FrameReason.FAULT)), 1)

    def test_the_verdict_is_a_frame_of_the_build_that_is_over(self) -> None:
        """The bed is cleared: the machine has no build any more, and what is seen is the build's last."""
        self.bench.begin()
        self.follow()
        self.bench.heat = (30.0, 0.0, 30.0, 0.0)
        self.bench.report()
        self.bench.run(seconds=1)
        self.happens()
        self.bench.controller.clear(self.bench.now())
        self.bench.run(seconds=1)
        self.happens()
        (verdict,) = self.moments_of(FrameReason.VERDICT)
        self.assertEqual(verdict[1], 7)

    def test_nothing_new_is_said_now_and_then_only(self) -> None:
        self.look(50)
        self.assertEqual(len(self.said), 1, "a machine that rests is told once")
        self.bench.begin()
        self.bench.run(lines=20)
        self.look()
        before = len(self.said)
        self.look(5 * TOLD_EVERY)
        self.assertEqual(len(self.said) - before, 5, "one that works, once in so many looks")

    def test_what_is_no_moment_says_nothing(self) -> None:
        self.look()
        events: list[ControlEvent] = [Noticed("the door is open"), StateChanged(MachineState.COOLING),
                                      StateChanged(MachineState.IDLE)]  # fmt: skip
        for event in events:
            self.moments.happened("Anchor", event, self.bench.controller)
        self.assertEqual(len(self.said), 1)

    # Films ---------------------------------------------------------------------------------------------------

    def films(self, film: FilmTaking, each_s: float = 0.0) -> list[Moment]:
        self.bench.film = film
        self.bench.begin()
        self.follow(each_s)
        return self.moments_of(FrameReason.FILM)

    def test_a_film_by_time_has_a_frame_in_each_of_its_spans(self) -> None:
        self.films(FilmTaking(every_s=10.0), each_s=0.5)
        times = [at for at, said in zip(self.at, self.said, strict=True) if said["why"] is FrameReason.FILM]
        self.assertGreater(len(times), 3)
        for before, after in itertools.pairwise(times):
            self.assertAlmostEqual(after - before, 10, delta=1)

    def test_a_film_of_several_frames_a_layer_has_them_in_each(self) -> None:
        found = self.films(FilmTaking(per_layer=2))
        of_layers = [layer for _, _, layer, _ in found]
        self.assertEqual(of_layers, sorted(of_layers))
        for layer in range(1, LAYERS):
            self.assertEqual(of_layers.count(layer), 2, f"layer {layer}")


if __name__ == "__main__":
    unittest.main()
