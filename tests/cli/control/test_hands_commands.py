"""Hands on from the command line: real processes, at rest and in mid-build; a probe of a machine."""

from __future__ import annotations

import json
import re

from chronarch.client import requests
from chronarch.core.machines.states import MachineState
from tests.support.gcode import two_boxes
from tests.support.processes import run
from tests.support.world import WorldCase, eventually


class HandsCommands(WorldCase):
    machines = ("Anchor",)
    rate = 60.0

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        cls.world.add_file("boxes.gcode", two_boxes(layers=240))

    def chronarch(self, *arguments: str, code: int = 0, stdin: str = "") -> str:
        said = run(*arguments, env=self.world.environment, stdin=stdin)
        self.assertEqual(said.returncode, code, said.stdout + said.stderr)
        return said.stdout if code == 0 else said.stderr

    def test_a_machine_at_rest_is_moved_heated_measured_and_spoken_to(self) -> None:
        self.clear("Anchor")
        self.assertEqual(self.chronarch("machines", "home", "Anchor"), "Anchor: homed all axes.\n")
        self.assertEqual(self.chronarch("machines", "move", "Anchor", "--x", "20"), "Anchor: moved x +20 mm.\n")
        self.assertIn("heat for PLA", self.chronarch("machines", "heat", "Anchor", "--for", "PLA"))
        self.assertIn("heaters off", self.chronarch("machines", "heat", "Anchor", "--off"))
        self.assertIn("Say one of", self.chronarch("machines", "heat", "Anchor", code=2))
        self.assertIn("fan 40 %", self.chronarch("machines", "fan", "Anchor", "40"))
        self.assertIn("has no switch", self.chronarch("machines", "switch", "Anchor", "horn", "on", code=1))
        self.assertIn("write PARAMETER=VALUE", self.chronarch("machines", "run", "Anchor", "x", "--set", "a", code=2))
        table = self.chronarch("machines", "level-map", "Anchor", "--measure")
        self.assertEqual(
            len(re.findall(r"[+-]0\.\d{3}", table.split("Bed level")[1])), 50, "as printed, and as a table"
        )
        self.assertIn("from lowest to highest", table)
        self.assertIn("no map before it", self.chronarch("machines", "level-map", "Anchor", "--moved"))
        self.chronarch("machines", "level-map", "Anchor", "--measure")
        self.assertIn("+0.000", self.chronarch("machines", "level-map", "Anchor", "--moved"))
        self.assertIn("FIRMWARE_NAME:stand-in", self.chronarch("machines", "send", "Anchor", "M115"))
        self.assertIn("Aborted", self.chronarch("machines", "send", "Anchor", "M500", stdin="n\n", code=1))
        self.chronarch("machines", "send", "Anchor", "M500", "--yes")
        log = self.chronarch("machines", "log", "Anchor", "--kind", "own", "--lines", "3")
        self.assertRegex(log, r"\d\d:\d\d:\d\d\.\d{3} > N\d+ M500\*\d+")
        self.assertIn(
            "M115", json.loads(self.chronarch("machines", "log", "Anchor", "--search", "M115", "--json"))[0]["text"]
        )
        self.chronarch("machines", "motors-off", "Anchor")

    def test_a_build_is_adjusted_paused_before_a_layer_and_left_without_an_object(self) -> None:
        w = self.world
        self.clear("Anchor")
        build = w.build_of(w.submit("boxes.gcode"))
        w.until("Anchor", MachineState.BUILDING)
        self.assertEqual(self.chronarch("builds", "changes", "Anchor"), "Nobody has changed anything of this build.\n")
        self.assertIn(
            "speed 120 %", self.chronarch("builds", "adjust", "Anchor", "--speed", "120", "--z-offset", "0.02")
        )
        self.assertIn("out of bounds", self.chronarch("builds", "adjust", "Anchor", "--bed", "900", code=1))
        self.assertIn("pauses before layer 230", self.chronarch("builds", "pause-before", "Anchor", "230"))
        self.assertIn("does not pause", self.chronarch("builds", "pause-before", "Anchor", "230", "--cancel"))
        said = self.chronarch("builds", "leave-out", "Anchor", "box 2", stdin="y\n")
        self.assertRegex(said, r"1 remain: box 1\.\nEnds .* earlier than now expected\.")
        self.assertIn("Left out", self.chronarch("builds", "show", "Anchor"))
        self.assertIn("no object", self.chronarch("builds", "leave-out", "Anchor", "mug", "--yes", code=1))
        self.assertRegex(self.chronarch("builds", "pause-after-layer", "Anchor"), "pauses after this layer")
        w.until("Anchor", MachineState.PAUSED)
        eventually(lambda: w.machine("Anchor").hands.moment == "paused", "the head is parked")
        self.assertIn("is parked. Next:", self.chronarch("builds", "change-filament", "Anchor"))
        self.assertIn("filament: unload", self.chronarch("builds", "change-filament", "Anchor", "unload"))
        changes = self.chronarch("builds", "changes", str(build.id))
        for words in ("speed 120 %, z offset +0.020 mm", "left out box 2", "filament: unload", "tests"):
            self.assertIn(words, changes)
        w.client.do(requests.stop(build.id))
        eventually(lambda: w.client.do(requests.build(build.id)).has_log, "the log is handed over")
        path = w.folder / "build.log"
        self.assertRegex(self.chronarch("builds", "log", str(build.id), "--out", str(path)), r"\d+ lines")
        self.assertIn(" > N1 M486 T2*", path.read_text())

    def test_a_probe_talks_to_a_free_machine_and_is_told_who_holds_a_taken_one(self) -> None:
        said = self.chronarch("links", "probe", f"tcp://127.0.0.1:{self.world.ports['Anchor']}", code=1)
        self.assertIn("is held by Anchor of tender", said)
        self.assertIn("no link's address", self.chronarch("links", "probe", "printer", code=2))
        self.assertIn("cannot be reached", self.chronarch("links", "probe", "tcp://127.0.0.1:9", code=3))
        self.world.kill("tender")
        try:
            said = self.chronarch("links", "probe", f"tcp://127.0.0.1:{self.world.ports['Anchor']}")
        finally:
            self.world.start_tender()
        for words in ("> M115", "Firmware", "stand-in 4.2", "AUTOREPORT_TEMP", "Wants line"):
            self.assertIn(words, said)
