"""The library from the shell: real processes, their output and exit codes."""

from __future__ import annotations

import json
import struct
import tempfile
from pathlib import Path
from typing import Any

from PIL import Image

from chronarch.client import requests
from chronarch.demo.library import stl
from chronarch.demo.shop import PARTS
from tests.support.gcode import squares, two_boxes, write
from tests.support.processes import run
from tests.support.world import MODEL, WorldCase


class Library(WorldCase):
    @classmethod
    def prepare(cls) -> None:
        cls.world.start_service()
        cls.world.add_machines()

    def chronarch(self, *arguments: str, code: int = 0, stdin: str = "") -> str:
        said = run(*arguments, env=self.world.environment, stdin=stdin)
        self.assertEqual(said.returncode, code, f"{arguments}: {said.stdout}{said.stderr}")
        return said.stdout if code == 0 else said.stderr

    def json(self, *arguments: str) -> Any:
        return json.loads(self.chronarch(*arguments, "--json"))

    def test_a_folder_is_added_queued_found_filed_away_and_thrown_away(self) -> None:
        shelf = self.world.folder / "shelf"
        (shelf / "small").mkdir(parents=True)
        write(shelf, "one.gcode", squares(layers=1))
        write(shelf / "small", "two.gcode", squares(layers=2))
        said = self.chronarch(
            "files", "add", str(shelf), "--queue", "--copies", "2", "--material", "PETG", "--once", "k1"
        )
        self.assertRegex(said, r"one\.gcode: file \d+, 1 layers, .*, queued as job \d+")
        again = self.chronarch("files", "add", str(shelf / "one.gcode"))
        self.assertIn("(was there already)", again)
        self.assertRegex(self.chronarch("files", "list", "--folder", "shelf"), r"two\.gcode +shelf/small +1")
        self.assertIn("Nothing fits", self.chronarch("files", "list", "--search", "no such"))
        self.assertIn("is queued", self.chronarch("files", "bin", "one.gcode", code=1))
        for job in self.world.client.do(requests.jobs()):
            self.chronarch("jobs", "withdraw", str(job.id))
        self.assertIn(
            "2 files in attic now", self.chronarch("files", "move", "one.gcode", "two.gcode", "--to", "attic")
        )
        self.chronarch("files", "tag", "one.gcode", "--add", "rush")
        self.assertIn("one.gcode", self.chronarch("files", "list", "--tag", "rush"))
        self.assertIn(
            "uno.gcode", self.chronarch("files", "change", "one.gcode", "--name", "uno.gcode", "--notes", "first")
        )
        self.assertIn("attic", self.chronarch("files", "folders"))
        self.chronarch("files", "make-folder", "attic/left")
        self.assertIn("loft now", self.chronarch("files", "move-folder", "attic", "loft"))
        self.assertIn("loft/left is gone", self.chronarch("files", "remove-folder", "loft/left"))
        self.assertIn("1 file queued", self.chronarch("files", "queue", "two.gcode", "--copies", "3"))
        self.assertIn("1 file in the bin", self.chronarch("files", "bin", "uno.gcode"))
        self.assertIn("uno.gcode", self.chronarch("files", "list", "--bin"))
        self.assertIn("1 file back", self.chronarch("files", "restore", "uno.gcode"))
        self.chronarch("files", "bin", "uno.gcode")
        self.assertIn("gone", self.chronarch("files", "empty-bin", "--yes"))
        self.assertIn("The bin is empty", self.chronarch("files", "list", "--bin"))

    def test_a_file_is_edited_compared_drawn_and_fetched(self) -> None:
        boxes = write(self.world.folder, "boxes.gcode", two_boxes())
        self.chronarch("files", "add", str(boxes))
        shown = self.chronarch("files", "show", "boxes.gcode", "--layers")
        for words in ("Planned time", "4 of 0.2 mm", "2: box 1, box 2", "never yet", "0.80 mm"):
            self.assertIn(words, shown)
        seen = self.chronarch("files", "edit", "skip", "boxes.gcode", "--object", "box 2")
        for words in ("1 of 2 objects remain", "Nothing is changed yet", "- G1 E"):
            self.assertIn(words, seen)
        self.assertIn(
            "revision 2", self.chronarch("files", "edit", "skip", "boxes.gcode", "--object", "box 2", "--apply")
        )
        wish = ("files", "edit", "set", "boxes.gcode", "--layer", "2", "--nozzle", "210", "--revision", "1", "--apply")
        self.assertIn("revision 3", self.chronarch(*wish))
        self.assertIn("has 4 layers", self.chronarch("files", "edit", "pause", "boxes.gcode", "--layer", "9", code=1))
        listed = self.chronarch("files", "revisions", "boxes.gcode")
        self.assertRegex(listed, r"3 +from revision 1: From layer 2 on: nozzle 210 °C\.")
        self.assertIn("+ M104 S210", self.chronarch("files", "compare", "boxes.gcode", "1", "3"))
        self.assertIn("revision 4 is what revision 1 was", self.chronarch("files", "revert", "boxes.gcode", "1"))
        out = self.world.folder / "out.gcode"
        self.chronarch("files", "get", "boxes.gcode", "--revision", "1", "--to", str(out))
        self.assertEqual(out.read_text(), two_boxes())
        for name, more in (("part.png", ()), ("layer.svg", ("--layer", "2"))):
            self.chronarch("files", "draw", "boxes.gcode", "--to", str(self.world.folder / name), *more)
        self.assertEqual(Image.open(self.world.folder / "part.png").format, "PNG")
        self.assertIn("layer 2 of 4", (self.world.folder / "layer.svg").read_text())
        self.assertIn("Nothing stands against it", self.chronarch("files", "preflight", "boxes.gcode", "Anchor"))

    def test_a_refused_file_is_overruled_and_a_job_is_pinned(self) -> None:
        far = write(self.world.folder, "far.gcode", squares().replace("G28", "G28\nG0 X230 F6000"))
        self.chronarch("files", "add", str(far))
        told = self.chronarch("files", "preflight", "far.gcode", "Anchor")
        self.assertRegex(told, r"refuse +\d+ +The file moves 10\.0 mm beyond 220 mm along x")
        self.chronarch(
            "files", "overrule", "far.gcode", "--rule", "outside-volume", "--model", MODEL, "--reason", "no clip"
        )
        self.assertIn("overruled", self.chronarch("files", "preflight", "far.gcode", "Anchor"))
        number = str(self.json("jobs", "submit", "far.gcode", "--held")["id"])
        self.assertIn("revision 1, pinned", self.chronarch("jobs", "pin", number, "1"))
        self.assertIn("follows the newest", self.chronarch("jobs", "pin", number, "0"))

    def test_parts_are_suggested_made_and_given_their_model(self) -> None:
        for name in ("cup-pla.gcode", "cup-petg.gcode"):
            self.chronarch("files", "add", str(write(self.world.folder, name, f"; {name}\n" + squares())))
        self.assertIn("cup-pla.gcode", self.chronarch("parts", "suggest"))
        self.assertIn("cup: done", self.chronarch("parts", "suggest", "--accept"))
        self.assertRegex(self.chronarch("parts", "list"), r"cup +2 +cup-")
        model = self.world.folder / "cup.stl"
        model.write_bytes(stl(PARTS[0]))
        self.assertRegex(self.chronarch("parts", "model", "cup", str(model)), r"cup: 38\.0 x 38\.0 x 6\.0 mm")
        model.write_bytes(b"\0" * 80 + struct.pack("<I", 5))
        self.assertIn("neither an STL nor a 3MF", self.chronarch("parts", "model", "cup", str(model), code=1))
        self.assertIn("Made by", self.chronarch("parts", "show", "cup"))
        self.assertIn("1 copy of cup", self.chronarch("jobs", "submit", "--part", "cup", "--held"))
        self.assertIn("either which file or which part", self.chronarch("jobs", "submit", code=2))

    def test_inspect_reads_by_a_model_draws_and_lists_layers_without_a_service(self) -> None:
        spec = self.chronarch("models", "show", MODEL, "--json")
        same = self.chronarch("models", "change", "-", stdin=spec)
        self.assertIn("has its new figures", same)
        self.assertIn(MODEL, self.chronarch("models", "list"))
        with tempfile.TemporaryDirectory() as home:
            folder = Path(home)
            (folder / "slow.json").write_text(
                json.dumps({**json.loads(spec), "name": "Slow", "acceleration_mm_s2": 100})
            )
            boxes = write(folder, "boxes.gcode", two_boxes())
            env = {**self.world.environment, "HOME": home, "CHRONARCH_ADDRESS": "http://127.0.0.1:9"}
            usual = json.loads(run("inspect", str(boxes), "--json", env=env).stdout)["reading"]
            slow = run("inspect", str(boxes), "--model", str(folder / "slow.json"), "--json", env=env)
            reading = json.loads(slow.stdout)["reading"]
            self.assertGreater(reading["planned_s"], usual["planned_s"] * 1.1)
            self.assertEqual(reading["model"], "Slow")
            said = run("inspect", str(boxes), "--layers", "--png", str(folder / "p.png"), "--layer", "3", env=env)
            self.assertEqual(said.returncode, 0, said.stderr)
            self.assertIn("0.60 mm", said.stdout)
            self.assertEqual(Image.open(folder / "p.png").size[0], 900)
            none = run("inspect", str(boxes), "--model", "Nobody", env=env)
            self.assertEqual(none.returncode, 3)
            bad = run("inspect", str(boxes), "--png", str(folder / "q.png"), "--layer", "9", env=env)
            self.assertEqual((bad.returncode, "layers 1 to 4" in bad.stderr), (2, True))

    def test_models_and_parts_are_changed_and_taken_away(self) -> None:
        spec = json.loads(self.chronarch("models", "show", MODEL, "--json"))
        spec["name"] = "Snail"
        self.assertIn("Snail is added", self.chronarch("models", "add", "-", stdin=json.dumps(spec)))
        self.assertIn("already", self.chronarch("models", "add", "-", stdin=json.dumps(spec), code=1))
        self.assertIn("rise c s", self.chronarch("models", "show", "snail"))
        self.assertIn("no model 'Nobody'", self.chronarch("models", "show", "Nobody", code=1))
        spec["volume_mm"] = [0, 1, 1]
        self.assertIn("greater than 0", self.chronarch("models", "change", "-", stdin=json.dumps(spec), code=2))
        for name in ("lid-a.gcode", "lid-b.gcode"):
            self.chronarch("files", "add", str(write(self.world.folder, name, f"; {name}\n" + squares(layers=1))))
        self.assertIn("made by 1 files", self.chronarch("parts", "add", "lid", "lid-a.gcode", "--notes", "round"))
        self.assertIn(
            "made by 2 files",
            self.chronarch("parts", "change", "lid", "--file", "lid-a.gcode", "--file", "lid-b.gcode"),
        )
        self.assertIn("round", self.chronarch("parts", "show", "lid"))
        self.assertEqual(len(self.json("parts", "show", "lid")["files"]), 2)
        self.assertIn("its files stay", self.chronarch("parts", "remove", "lid"))
        self.assertIn("no part 'lid'", self.chronarch("parts", "show", "lid", code=1))
