"""`chronarch watch` with a service: corners, rules, carefulness, what was missed."""

from __future__ import annotations

import json
import subprocess
import unittest

from chronarch.client import requests
from chronarch.core.watching.watch_rules import WatchScope
from tests.support import processes
from tests.support.watched import CORNERS, WatchedCase, come_to, show_bed
from tests.support.world import eventually


class WatchCommands(WatchedCase):
    def run_(self, *arguments: str) -> subprocess.CompletedProcess[str]:
        return processes.run("watch", *arguments, env=self.world.environment, within_s=120)

    def says(self, *arguments: str) -> str:
        done = self.run_(*arguments)
        self.assertEqual(done.returncode, 0, done.stderr)
        return done.stdout

    def refuses(self, *arguments: str) -> str:
        done = self.run_(*arguments)
        self.assertNotEqual(done.returncode, 0, done.stdout)
        return done.stderr

    def test_the_corners_are_shown_checked_and_marked(self) -> None:
        shown = self.says("corners", "Anchor")
        for words in ("640 x 480 px", "They miss by", "The camera is at", "by tests"):
            self.assertIn(words, shown)
        said = [f"{u},{v}" for u, v in CORNERS]
        self.assertIn("not kept", self.says("corners", "Anchor", *said, "--check"))
        self.assertIn("Four corners are wanted; there are 3", self.refuses("corners", "Anchor", *said[:3]))
        self.assertIn("write its pixels as 120,344", self.refuses("corners", "Anchor", "somewhere", *said[1:]))
        show_bed(self.world)
        self.assertIn("not kept", self.says("corners", "Anchor", "--find"))
        self.assertIn("not both", self.refuses("corners", "Anchor", *said, "--find"))
        crossed = [said[0], said[2], said[1], said[3]]
        self.assertIn("cross over", self.refuses("corners", "Anchor", *crossed))

    def test_a_rule_is_set_shown_and_forgotten(self) -> None:
        said = self.says("follow", "machine", "Anchor", "--pause", "tangle", "--pause", "blob", "--leave-out", "loose")
        self.assertIn("For machine Anchor the watch is on.", said)
        for words in ("tangle: pause", "blob: pause", "loose: leave-out", "fallen: tell"):
            self.assertIn(words, said)
        self.assertIn("machine Anchor", self.says("rules"))
        self.assertIn("off: it is new", self.says("follow", "machine", "Anchor", "--off", "--reason", "it is new"))
        why = "the watch is off: it is new"
        eventually(lambda: why in self.says("status"), "the status says so")
        rule = self.world.client.do(requests.watch_rule(WatchScope.MACHINE, "Anchor")).rule
        self.assertEqual(len(rule.follow), 3, "turning it off forgets nothing")
        self.assertIn("what holds for the shop holds", self.says("follow", "machine", "Anchor", "--forget"))
        self.assertIn("No rule was set", self.says("rules"))
        self.assertIn("no one object can be left out", self.refuses("follow", "shop", "--leave-out", "shifted"))

    def test_how_careful_it_is_is_seen_and_set(self) -> None:
        said = self.says("careful", "3")
        for words in ("Raised from", "chosen", "The shop puts up with 3 false alarms a week", "Answered here"):
            self.assertIn(words, said)
        found = json.loads(self.says("careful", "1000", "--json"))
        self.assertGreater(len(found["points"]), 0)
        self.assertIn("greater than or equal", self.refuses("careful", "0"))

    def test_a_failure_that_it_missed_is_told(self) -> None:
        w = self.world
        self.addCleanup(self.clear, "Anchor")
        build = w.build_of(w.submit("block.gcode"))
        come_to(w, 4)
        frame = str(w.client.do(requests.frames_of_build(build.id))[-1].number)
        said = self.says("missed", str(build.id), "fallen", "--frame", frame, "--object", "block 2")
        self.assertIn("block 2 has fallen over.", said)
        number = said.split("suspicion ")[1].split(":")[0]
        self.assertIn("missed", self.says("suspicions", "--build", str(build.id)))
        out = w.folder / "seen.jpg"
        shown = self.says("show", number, "-o", str(out))
        self.assertIn("a person told of it", shown)
        self.assertTrue(out.read_bytes().startswith(b"\xff\xd8\xff"))
        folder = w.folder / "labelled"
        self.assertIn("labelled builds: 1", self.says("labels", str(folder)))
        rows = [json.loads(line) for line in (folder / "frames.jsonl").read_text().splitlines()]
        self.assertEqual(rows[0]["label"], "fine")
        self.assertEqual((rows[-1]["label"], rows[-1]["object"]), ("fallen", "block 2"))
        self.assertIn("1 sequences", self.says("score", str(folder)))
        self.assertIn("is not empty", self.refuses("labels", str(folder)))
        self.assertIn("was a false alarm", self.says("answer", number, "false"))
        self.assertIn("no kept frame 99999", self.refuses("missed", str(build.id), "fallen", "--frame", "99999"))


if __name__ == "__main__":
    unittest.main()
