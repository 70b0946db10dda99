"""`chronarch cameras` as a person at a terminal has it."""

from __future__ import annotations

import io
import json
import os
import pty
import re
import subprocess
import sys
import unittest

from PIL import Image

from chronarch.cli.watching.picture import half_blocks
from chronarch.client import requests
from tests.support.gcode import squares
from tests.support.processes import run
from tests.support.world import WorldCase, eventually


class CameraCommands(WorldCase):
    machines = ("Anchor", "Bezel")
    cameras = True

    @classmethod
    def prepare(cls) -> None:
        cls.world.setups = {"Bezel": {"camera_login": "shop:a word"}}
        cls.world.start()
        eventually(lambda: cls.world.client.do(requests.camera_work()), "the cameras are connected")

    def chronarch(self, *words: str, stdin: str = "", status: int = 0) -> str:
        said = run("cameras", *words, env=self.world.environment, stdin=stdin)
        self.assertEqual(said.returncode, status, said.stderr + said.stdout)
        return said.stdout if status == 0 else said.stderr

    def test_a_camera_is_added_shown_changed_tried_and_removed(self) -> None:
        w = self.world
        refused = self.chronarch("test", "Bezel", status=1)
        self.assertRegex(
            refused, r"^http://127.*frame\.jpg: it answers 401: it wants a login and a password; give them\n$"
        )
        self.chronarch("change", "Bezel", "--login", "shop", "--password-stdin", stdin="a word\n")
        self.assertIn("640 x 480", self.chronarch("test", "Bezel"))
        said = self.chronarch(
            "add", "Bezel side", w.camera_address("Anchor", "side.jpg"), "--machine", "Bezel", "--turn", "90",
            "--crop", "0,0,0,25", "--width", "200", "--fps", "2",
        )  # fmt: skip
        self.assertIn("Bezel side is added; it looks at Bezel", said)
        shown = self.chronarch("show", "Bezel side")
        for words in ("Turned", "90°", "bottom 25%", "200 px", "2 a second"):
            self.assertIn(words, shown)
        self.chronarch("change", "Bezel side", "--turn", "0", "--name", "Bezel low", "--first")
        picture = w.folder / "tried.jpg"
        self.chronarch("test", "Bezel low", "-o", str(picture))
        with Image.open(picture) as image:
            self.assertEqual(image.size, (200, 112))
        listed = self.chronarch("list")
        self.assertIn("Bezel low", listed)
        self.assertIn("tender: ", listed)
        told = json.loads(self.chronarch("list", "--json"))
        self.assertEqual([c["name"] for c in told if c["machine"] == "Bezel" and c["first"]], ["Bezel low"])
        self.assertIn("removed", self.chronarch("remove", "Bezel low"))
        self.assertIn("There is no camera named", self.chronarch("show", "Bezel low", status=1))
        self.assertIn("60%", self.chronarch("budget", "0.6"))
        self.assertIn("No camera is plugged in", self.chronarch("local"))

    def test_frames_of_a_build_are_listed_and_saved_and_what_they_cost_is_told(self) -> None:
        w = self.world
        w.add_file("piece.gcode", squares(layers=4, rounds=10, feed=1500))
        build = w.build_of(w.submit("piece.gcode", machine="Anchor"))
        kept = lambda: {f.why for f in w.client.all(requests.frames_of_build(build.id))}  # noqa: E731
        eventually(lambda: {"start", "end"} <= kept(), "its start and end are kept", 90)
        said = run("builds", "frames", str(build.id), env=w.environment)
        self.assertIn("start", said.stdout)
        self.assertIn("Anchor", said.stdout)
        folder = w.folder / "saved"
        said = run("builds", "frames", str(build.id), "-o", str(folder), env=w.environment)
        self.assertRegex(said.stdout, r"^\d+ frames are in ")
        pictures = sorted(folder.iterdir())
        self.assertTrue(pictures[0].name.startswith("00000-Anchor-layer-"))
        with Image.open(pictures[-1]) as image:
            self.assertEqual(image.size, (640, 480))
        self.assertIn("GB once a month has passed", self.chronarch("keep"))
        self.chronarch("keep", "--every", "45", stdin="n\n", status=2)
        self.assertIn(
            "every 45 s; frames may take 3 GB", self.chronarch("keep", "--every", "45", "--disk", "3", "--yes")
        )

    def test_wrong_use_is_said_before_anything_is_asked(self) -> None:
        self.assertIn("four percentages", self.chronarch("change", "Anchor", "--crop", "1,2", status=2))
        self.assertIn("Say what is to change", self.chronarch("change", "Anchor", status=2))
        self.assertIn(
            "is no camera's address", self.chronarch("add", "x", "ftp://a/b", "--machine", "Anchor", status=2)
        )

    def test_a_frame_goes_into_a_file_or_a_pipe_and_is_drawn_on_a_terminal(self) -> None:
        w = self.world
        path = w.folder / "frame.jpg"
        eventually(
            lambda: run("cameras", "frame", "Anchor", "-o", str(path), env=w.environment).returncode == 0, "a frame"
        )
        with Image.open(path) as image:
            self.assertEqual(image.size, (640, 480))
        command = [sys.executable, "-m", "chronarch", "cameras", "frame", "Anchor"]
        piped = subprocess.run([*command, "-o", "-", "--small"], env=w.environment, capture_output=True, check=True)
        with Image.open(io.BytesIO(piped.stdout)) as image:
            self.assertEqual(image.size, (480, 360))
        ours, theirs = pty.openpty()
        environment = {
            **w.environment,
            "TERM": "xterm-256color",
            "PYTHONIOENCODING": "utf-8",
            "LINES": "30",
            "COLUMNS": "80",
        }
        with subprocess.Popen(command, env=environment, stdout=theirs, cwd=w.folder) as process:
            os.close(theirs)
            drawn = b""
            while True:
                try:
                    drawn += os.read(ours, 65536)
                except OSError:
                    break
            self.assertEqual(process.wait(60), 0)
        os.close(ours)
        text = drawn.decode()
        self.assertGreater(text.count("▀"), 1000)
        self.assertRegex(text, re.escape("\x1b[38;2;"))
        self.assertFalse((w.folder / "Anchor.jpg").exists())


class HalfBlocks(unittest.TestCase):
    def test_a_picture_keeps_its_form_and_its_colours(self) -> None:
        out = io.BytesIO()
        image = Image.new("RGB", (400, 300), (200, 30, 30))
        image.paste((20, 30, 200), (0, 150, 400, 300))
        image.save(out, "JPEG", quality=95)
        lines = half_blocks(out.getvalue(), 60, 40)
        self.assertEqual((len(lines), lines[0].count("▀")), (22, 60))
        red, blue = (re.findall(r"38;2;(\d+);(\d+);(\d+)", line)[0] for line in (lines[1], lines[-2]))
        self.assertGreater(int(red[0]), 180)
        self.assertGreater(int(blue[2]), 180)
        self.assertEqual(half_blocks(out.getvalue(), 10, 40)[0].count("▀"), 10)


if __name__ == "__main__":
    unittest.main()
