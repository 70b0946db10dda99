"""`chronarch plugs`, and turning machines off and on, as a person at a terminal has it."""

from __future__ import annotations

import json
import unittest

from chronarch.client import requests
from chronarch.core.machines.states import MachineState
from chronarch.wire.machines.power import plug_profile
from tests.support.processes import run
from tests.support.sockets import ASKED
from tests.support.world import WorldCase, eventually


class PlugCommands(WorldCase):
    machines = ("Anchor",)
    rate = 100.0

    @classmethod
    def prepare(cls) -> None:
        cls.world.setups = {"Anchor": {"plug": "http", "plug_login": "shop:a word"}}
        cls.world.start()

    def chronarch(self, *words: str, stdin: str = "", status: int = 0) -> str:
        said = run(*words, env=self.world.environment, stdin=stdin)
        self.assertEqual(said.returncode, status, said.stderr + said.stdout)
        return said.stdout if status == 0 else said.stderr

    def test_a_plug_is_described_added_turned_changed_and_removed(self) -> None:
        w = self.world
        file = w.folder / "profile.json"
        file.write_text(json.dumps({**plug_profile.dump_python(ASKED, mode="json"), "is_on": "nowhere"}))
        self.assertIn("JSON Pointer", self.chronarch("plugs", "profile", str(file), status=2))
        file.write_bytes(plug_profile.dump_json(ASKED))
        self.chronarch("plugs", "profile", str(file))
        self.assertIn("/meter/now_mw", self.chronarch("plugs", "profiles"))
        address = f"http://127.0.0.1:{w.standins_port}/Anchor"
        said = self.chronarch("plugs", "add", "Anchor", address, "--profile", "bench socket", "--off-after", "600")
        self.assertIn("off by itself after 600 min; on 60 s before its next build; never above 50 °C", said)
        eventually(lambda: "401" in self.chronarch("plugs", "list"), "it is said that it wants a password")
        self.chronarch("plugs", "change", "Anchor", "--login", "shop", "--password-stdin", stdin="a word\n")
        eventually(lambda: "on, 6 W" in self.chronarch("plugs", "list"), "it says what the machine draws")
        self.assertIn("Anchor is off, 0 W", self.chronarch("machines", "off", "Anchor"))
        w.until("Anchor", MachineState.OFFLINE)
        self.assertIn("Anchor is on", self.chronarch("machines", "on", "Anchor"))
        w.until("Anchor", MachineState.IDLE)
        w.fault("Anchor", "drift", part="bed", value=5)
        eventually(self.seems_hot, "its bed seems hot")
        self.assertRegex(self.chronarch("machines", "off", "Anchor", status=1), r"a heater is at \d+ °C")
        self.assertIn("is off", self.chronarch("machines", "off", "Anchor", "--force", "the sensor is loose"))
        notices = [notice.text for notice in w.client.do(requests.notices())]
        self.assertTrue(any("the sensor is loose" in text for text in notices), notices)
        eventually(lambda: "kWh" in self.chronarch("report", "energy", "--by", "machine,state"), "what it drew is told")
        self.assertIn("machine,day,state", self.chronarch("report", "energy", "--csv"))
        self.assertIn("hangs on no plug any more", self.chronarch("plugs", "remove", "Anchor"))
        self.assertIn("is removed", self.chronarch("plugs", "forget", "bench socket"))

    def seems_hot(self) -> bool:
        reading = self.world.machine("Anchor").reading
        return reading is not None and (reading.bed.measured_c or 0) > 60


if __name__ == "__main__":
    unittest.main()
