"""`chronarch watch score` and `chronarch demo labelled-frames`, as a person at a terminal has them."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path

from chronarch.demo.labelled_sets import SetMaker
from tests.support import processes


def run(*arguments: str) -> subprocess.CompletedProcess[str]:
    return processes.run(*arguments, env=dict(os.environ), within_s=180)


class ScoreCommand(unittest.TestCase):
    folder: Path

    @classmethod
    def setUpClass(cls) -> None:
        scratch = tempfile.TemporaryDirectory()
        cls.addClassCleanup(scratch.cleanup)
        cls.folder = Path(scratch.name) / "set"
        cls.folder.mkdir()
        maker = SetMaker(cls.folder, "tuning", seed=3)
        maker.failing("fallen-0", "fallen")
        maker.before_start("left-0", clear=False)
        maker.before_start("start-0", clear=True)
        maker.good("good-0", 0.3)
        maker.close()

    def _rows(self) -> list[dict[str, object]]:
        return [json.loads(line) for line in (self.folder / "frames.jsonl").read_text().splitlines()]

    def test_a_person_reads_what_was_caught_and_a_program_every_score(self) -> None:
        said = run("watch", "score", str(self.folder))
        self.assertEqual(said.returncode, 0, said.stderr)
        for words in ("4 sequences", "Calibration error", "Default setting", "At most 7 a week", "fallen", "Recall"):
            self.assertIn(words, said.stdout)
        told = run("watch", "score", str(self.folder), "--json", "--accept", "2", "--workers", "2")
        found = json.loads(told.stdout)
        self.assertEqual(len(found["frames"]), len(self._rows()))
        self.assertEqual([s["accepted_per_h"] for s in found["score"]["settings"]], [None, 2 / 168])
        for row in found["frames"]:
            self.assertTrue(all(0 <= p <= 1 for p in row["scores"].values()))
            self.assertGreater(row["ms"], 0)
        self.assertGreater(found["score"]["good_h"], 0.2)

    def test_the_same_set_is_scored_the_same_again(self) -> None:
        def scores() -> list[object]:
            found = json.loads(run("watch", "score", str(self.folder), "--json").stdout)
            return [(row["image"], row["scores"], row["unjudged"]) for row in found["frames"]]

        self.assertEqual(scores(), scores())

    def test_a_set_with_something_wrong_says_which_line_and_what(self) -> None:
        first, other = self._rows()[0], self.folder.with_name("other")
        shutil.copytree(self.folder, other)
        for change, why in (
            ({"label": "odd"}, "line 1: the label 'odd' is none of fine, loose"),
            ({"camera": [[1, 2]]}, "line 1: camera"),
            ({"taken": -1}, "line 1: taken"),
            ({"gcode": None}, "line 1: the line: it names no gcode"),
            ({"head": [1, 2, 3]}, "head and clear_head come together"),
            ({"image": "frames/none.jpg"}, "frames/none.jpg cannot be read"),
            ({"image": "../../etc/passwd"}, "lies outside the folder"),
            ({"clear": "frames.jsonl"}, "no JPEG"),
            ({"gcode": "frames.jsonl"}, "frames.jsonl: "),
            ({"camera": [[1, 1], [5, 1], [5, 5], [1, 5]]}, "too small"),
            ({"bed_mm": [0, 10]}, "line 1: bed_mm"),
        ):
            with self.subTest(why):
                (other / "frames.jsonl").write_text(json.dumps({**first, **change}) + "\n")
                said = run("watch", "score", str(other))
                self.assertEqual(said.returncode, 1, said.stdout)
                self.assertIn(why, said.stderr)
                self.assertNotIn("Traceback", said.stderr)

    def test_a_folder_that_is_no_set_is_refused(self) -> None:
        with tempfile.TemporaryDirectory() as scratch:
            said = run("watch", "score", scratch)
            self.assertIn("has no frames.jsonl", said.stderr)
            (Path(scratch) / "frames.jsonl").write_text("not json\n")
            said = run("watch", "score", scratch)
            self.assertIn("line 1 is no JSON", said.stderr)
            (Path(scratch) / "frames.jsonl").write_text("\n")
            self.assertIn("holds no frame", run("watch", "score", scratch).stderr)

    def test_labelled_frames_are_drawn_into_an_empty_folder_alone(self) -> None:
        said = run("demo", "labelled-frames", str(self.folder))
        self.assertEqual(said.returncode, 1)
        self.assertIn("is not empty", said.stderr)


if __name__ == "__main__":
    unittest.main()
