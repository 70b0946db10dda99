"""`chronarch films` as a person at a terminal has it."""

from __future__ import annotations

import json
import unittest

from chronarch.client import requests
from chronarch.core.machines.states import MachineState
from tests.support.gcode import squares
from tests.support.processes import run
from tests.support.world import WorldCase, eventually


class FilmCommands(WorldCase):
    machines = ("Anchor",)
    cameras = True
    rate = 100.0

    @classmethod
    def prepare(cls) -> None:
        w = cls.world
        w.start()
        w.add_file("filmed.gcode", squares(layers=5, rounds=15, side=50, feed=1500))
        eventually(lambda: w.client.do(requests.camera("Anchor")).frame_at, "the camera gives pictures")

    def chronarch(self, *words: str, status: int = 0) -> str:
        said = run("films", *words, env=self.world.environment)
        self.assertEqual(said.returncode, status, said.stderr + said.stdout)
        return said.stdout if status == 0 else said.stderr

    def test_a_film_is_made_as_its_rule_says_found_saved_kept_and_removed(self) -> None:
        w = self.world
        self.assertIn("There are no films of that", self.chronarch("list"))
        self.assertIn("As for the shop: one frame a layer, 25 a second", self.chronarch("rule", "machine", "Anchor"))
        said = self.chronarch("rule", "machine", "Anchor", "--form", "mp4", "--length", "3", "--width", "320")
        self.assertEqual(said, "machine Anchor: one frame a layer, made 3 s long, 320 px at most, mp4.\n")
        self.assertIn("machine Anchor", self.chronarch("rules"))
        build = w.build_of(w.submit("filmed.gcode", machine="Anchor"))
        w.until("Anchor", MachineState.UNCLEARED, 120)
        own = lambda: w.client.do(requests.films(build=build.id))  # noqa: E731
        eventually(lambda: own() and own()[0].state == "done", "its film is made", 60)
        said = self.chronarch("make", str(build.id), "--by", "time", "--every", "5", "--form", "webm", "--wait")
        self.assertRegex(said, r"Film \d+ of build \d+: 3\.0 s, 320 x 240, webm\.")
        number = str(json.loads(self.chronarch("list", "--search", "filmed", "--json"))[0]["number"])
        path = w.folder / "taken away.webm"
        self.assertIn("3.0 s", self.chronarch("save", number, "-o", str(path)))
        self.assertEqual(path.read_bytes()[:4], b"\x1a\x45\xdf\xa3")
        self.assertIn("is kept", self.chronarch("keep", number))
        shown = self.chronarch("show", number)
        for words in (f"build {build.id}, filmed.gcode on Anchor, completed", "a frame every 5 s", "Kept"):
            self.assertIn(words, shown)
        self.assertIn("Films may take 4 GB", self.chronarch("disk", "4"))
        self.assertIn("2 films take 0.00 of 4 GB", self.chronarch("list"))
        self.assertIn("is removed", self.chronarch("remove", number))
        self.assertIn("There is no film", self.chronarch("show", number, status=1))
        self.assertIn("As for the shop", self.chronarch("rule", "machine", "Anchor", "--forget"))

    def test_a_dry_run_says_what_the_head_out_of_the_picture_costs(self) -> None:
        said = self.chronarch("dry-run", "filmed.gcode", "--least-layer", "0")
        self.assertRegex(said, r"4 times, to x 5 y \d+, \d+ mm up; 0 layers are too short\.\nIt adds about \d+ s")
        self.assertIn("ooze", said)

    def test_what_cannot_be_is_said(self) -> None:
        self.assertIn("Say of which machine", self.chronarch("rule", "machine", status=2))
        said = self.chronarch("rule", "shop", "--first-layer", "9", "--last-layer", "3", status=2)
        self.assertIn("comes before the first", said)


if __name__ == "__main__":
    unittest.main()
