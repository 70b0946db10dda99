"""Films: made of each build by itself, as the rule that holds for it says; found, played, kept and removed."""

from __future__ import annotations

import io
import unittest
from fractions import Fraction
from typing import Any

import av
import httpx
import numpy as np
from PIL import Image

from chronarch.client import RefusedByService, requests
from chronarch.core.control.film_taking import HeadAway
from chronarch.core.machines.states import MachineState, Outcome
from chronarch.core.watching.film_settings import FilmScope, FilmSettings
from chronarch.core.watching.frame_keeping import FrameReason
from chronarch.wire.orders.builds import Build
from chronarch.wire.watching import films as w
from chronarch.wire.watching.frames import KeptFrame
from chronarch.wire.watching.settings import WatchingUpdate
from tests.support.gcode import executed_sha256, squares
from tests.support.world import WorldCase, eventually

LAYERS = 6
TEXT = squares(layers=LAYERS, rounds=20, side=50, feed=1500)


def played(data: bytes) -> tuple[str, int, float, tuple[int, int]]:
    """What a film's file holds: codec, pictures, seconds, size; every picture of it is decoded."""
    with av.open(io.BytesIO(data)) as container:
        stream = container.streams.video[0]
        pictures = [(frame.pts, frame.width, frame.height) for frame in container.decode(stream)]
        tick = stream.time_base or Fraction(0)
        step = float(1 / stream.average_rate) if stream.average_rate else 0.0
        seconds = float((pictures[-1][0] or 0) * tick) + step
        return stream.codec_context.name, len(pictures), seconds, pictures[0][1:]


def head_at(jpeg: bytes) -> float:
    """Where in a stand-in's picture the head is, pixels from the left."""
    with Image.open(io.BytesIO(jpeg)) as image:
        pixels = np.asarray(image.convert("RGB"), dtype=int)[: 480 - 30]
    head = (abs(pixels - (120, 122, 126)) < 7).all(axis=2)
    return float(np.nonzero(head)[1].mean())


class FilmCase(WorldCase):
    machines = ("Anchor",)
    cameras = True
    rate = 100.0

    @classmethod
    def prepare(cls) -> None:
        cls.world.start()
        cls.world.add_file("seen.gcode", TEXT)

    def setUp(self) -> None:
        eventually(lambda: self.world.client.do(requests.camera("Anchor")).frame_at, "the camera gives pictures")

    def begin(self) -> Build:
        self.clear("Anchor")
        build = self.world.build_of(self.world.submit("seen.gcode", machine="Anchor"))
        self.world.until("Anchor", MachineState.BUILDING)
        return build

    def built(self) -> Build:
        """A build that was completed."""
        build = self.begin()
        self.world.until("Anchor", MachineState.UNCLEARED, 120)
        return self.world.client.do(requests.build(build.id))

    def film(self, build: Build, *, own: bool = True) -> w.FilmDetail:
        """The newest film of a build, once it is made."""

        def made() -> w.Film | None:
            found = [f for f in self.world.client.do(requests.films(build=build.id)) if f.by_itself is own]
            self.assertFalse(found and found[0].state == "failed", found and found[0].problem)
            return found[0] if found and found[0].state == "done" else None

        return self.world.client.do(requests.film(eventually(made, "the film is made", 120).number))

    def rule(self, scope: FilmScope, subject: str, settings: FilmSettings) -> None:
        self.world.client.do(requests.set_film_rule(scope, subject, settings))
        self.addCleanup(lambda: self.world.client.do(requests.drop_film_rule(scope, subject)))


class Films(FilmCase):
    def test_each_build_has_a_film_with_a_frame_of_each_layer(self) -> None:
        client = self.world.client
        build = self.built()
        film = self.film(build)
        data = client.do(requests.film_file(film.number))
        codec, pictures, seconds, size = played(data)
        self.assertIn("vp9", codec)
        self.assertEqual(size, (film.width, film.height))
        self.assertEqual(pictures, round(film.seconds * film.settings.fps))
        self.assertAlmostEqual(seconds, film.seconds, delta=0.05)
        self.assertGreaterEqual(len(film.layers), LAYERS - 1)
        self.assertEqual([layer for layer, _ in film.layers], sorted({layer for layer, _ in film.layers}))
        self.assertEqual(film.outcome, Outcome.COMPLETED)
        self.assertTrue(client.do(requests.film_picture(film.number)).startswith(b"\xff\xd8"))
        url = f"{self.world.address}/api/films/{film.number}/file"
        headers = {"Authorization": f"Bearer {self.world.key}", "Range": "bytes=100-199"}
        some = httpx.get(url, headers=headers)
        self.assertEqual((some.status_code, some.content), (206, data[100:200]), "who scrubs gets parts of it")
        for search in ("seen", "anchor seen", "completed"):
            self.assertIn(film.number, [f.number for f in client.do(requests.films(search))], search)
        self.assertEqual(client.do(requests.films("nobody")), [])

    def test_the_most_particular_rule_says_how_a_film_is_made(self) -> None:
        w_ = self.world
        client = w_.client
        self.rule(FilmScope.SHOP, "0", FilmSettings(make=False))
        self.rule(
            FilmScope.MACHINE, "Anchor", FilmSettings(form="mp4", length_s=4, fps=10, width_px=320, first_layer=2)
        )
        self.assertEqual(client.do(requests.film_rule(FilmScope.MACHINE, "anchor")).settings.form, "mp4")
        film = self.film(self.built())
        codec, pictures, seconds, size = played(client.do(requests.film_file(film.number)))
        self.assertEqual((codec, pictures, size), ("h264", 40, (320, 240)))
        self.assertAlmostEqual(seconds, 4, delta=0.05)
        self.assertEqual(film.layers[0][0], 2)
        file = client.do(requests.files())[0].id
        self.rule(FilmScope.FILE, str(file), FilmSettings(make=False))
        none = self.built()
        self.clear("Anchor")
        self.assertEqual(client.do(requests.films(build=none.id)), [], "the file's rule comes before the machine's")
        self.assertEqual([rule.scope for rule in client.do(requests.film_rules())], ["shop", "machine", "file"])

    def test_the_frames_that_a_film_needs_are_taken_for_it_and_go_when_it_is_made(self) -> None:
        self.rule(FilmScope.SHOP, "0", FilmSettings(per_layer=4, stamp=False))
        build = self.begin()
        frames: dict[int, Any] = {}

        def see() -> bool:
            frames.update({f.number: f for f in self.world.client.all(requests.frames_of_build(build.id))})
            return self.world.state("Anchor") is MachineState.UNCLEARED

        eventually(see, "the build ends", 120)
        film = self.film(build)
        taken = [f for f in frames.values() if f.why is FrameReason.FILM]
        self.assertGreater(len(taken), LAYERS)
        self.assertGreater(round(film.seconds * film.settings.fps), 2 * LAYERS + 60)
        lasting = "select count(*) from frame where why = 'film' and keep_until > timestampadd(hour, 2, at)"
        eventually(lambda: self.world.rows(lasting) == [(0,)], "they may go")

    def test_with_the_head_out_of_the_picture_the_machine_runs_the_same_file(self) -> None:
        away = HeadAway(least_layer_s=1, settle_s=0)
        self.rule(FilmScope.SHOP, "0", FilmSettings(head_away=away))
        w_ = self.world
        content = w_.client.do(requests.files())[0].sha256
        run = w_.client.do(requests.head_away(content, away))
        self.assertEqual([pose.layer for pose in run.poses], list(range(1, LAYERS)))
        self.assertIn("ooze", run.risk)
        build = self.built()
        self.assertEqual(w_.standin("Anchor")["sha256"], executed_sha256(TEXT))
        self.assertGreaterEqual(len([f for f in self.frames(build) if f.why is FrameReason.FILM]), LAYERS - 2)
        heads = [
            head_at(w_.client.do(requests.kept_frame(f.number)))
            for f in self.frames(build)
            if f.why is FrameReason.FILM
        ]
        self.assertLess(max(heads) - min(heads), 4, "the head is at its place in every one of them")
        others = [head_at(w_.client.do(requests.kept_frame(f.number))) for f in self.frames(build) if f.layer > 1]
        self.assertGreater(max(others) - min(others), 20, "and elsewhere in others")
        self.assertGreaterEqual(len(self.film(build).layers), LAYERS - 1)

    def frames(self, build: Build) -> list[KeptFrame]:
        return self.world.client.all(requests.frames_of_build(build.id))

    def test_the_film_of_a_failed_build_is_marked_where_it_failed(self) -> None:
        build = self.begin()
        eventually(lambda: len(self.world.client.all(requests.frames_of_build(build.id))) > 3, "frames are kept")
        self.world.client.do(requests.stop(build.id, "it came loose"))
        self.world.until("Anchor", MachineState.UNCLEARED, 120)
        film = self.film(build)
        mark = film.marks[-1]
        self.assertTrue(mark.bad)
        self.assertIn("it came loose", mark.text)
        self.assertLess(mark.second, film.seconds)

    def test_further_films_are_asked_for_kept_and_removed(self) -> None:
        client = self.world.client
        build = self.built()
        first = self.film(build)
        asked = w.NewFilm(settings=FilmSettings(by="time", every_s=5, fps=5, form="mp4"))
        client.do(requests.ask_for_film(build.id, asked))
        second = self.film(build, own=False)
        self.assertEqual((second.settings.form, second.asked_by != ""), ("mp4", True))
        self.world.sql("update film set size = 300000000")
        client.do(requests.keep_film(first.number, kept=True))
        client.do(requests.change_watching(WatchingUpdate(films_gb=0.4)))
        self.addCleanup(lambda: client.do(requests.change_watching(WatchingUpdate(films_gb=10))))
        third = client.do(requests.ask_for_film(build.id, asked))
        eventually(lambda: client.do(requests.film(third.number)).state == "done", "it is made", 60)
        left = lambda: {f.number for f in client.do(requests.films(build=build.id))}  # noqa: E731
        eventually(lambda: left() == {first.number, third.number}, "the oldest that need not be kept goes", 60)
        client.do(requests.remove_film(first.number))
        with self.assertRaises(RefusedByService):
            client.do(requests.film_file(first.number))

    def test_what_cannot_be_is_refused_with_its_reason(self) -> None:
        client = self.world.client
        with self.assertRaisesRegex(RefusedByService, "no build 9999"):
            client.do(requests.ask_for_film(9999, w.NewFilm()))
        with self.assertRaisesRegex(RefusedByService, "no film 9999"):
            client.do(requests.film(9999))
        with self.assertRaisesRegex(RefusedByService, "no job '7777'"):
            client.do(requests.film_rule(FilmScope.JOB, "7777"))
        url = f"{self.world.address}/api/film-rules/shop/0"
        headers = {"Authorization": f"Bearer {self.world.key}"}
        for wrong in ({"fps": 900}, {"last_layer": 3, "first_layer": 9}, {"length_s": 1, "hold_last_s": 9}):
            self.assertEqual(httpx.put(url, headers=headers, json=wrong).status_code, 422, wrong)


if __name__ == "__main__":
    unittest.main()
