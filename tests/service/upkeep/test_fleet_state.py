"""Firmware and stored settings of all machines, as they tell them themselves."""

from __future__ import annotations

from chronarch.client import RefusedByService, requests
from chronarch.core.control.actions import SendLine
from chronarch.wire.upkeep.fleet_state import FirmwareWish, FleetOfModel, MachineTells
from tests.support.gcode import squares
from tests.support.processes import run
from tests.support.world import WorldCase, eventually


class FleetState(WorldCase):
    machines = ("Anchor", "Bezel", "Crown")

    @classmethod
    def prepare(cls) -> None:
        cls.world.setups["Crown"] = {"firmware": "stand-in 4.1"}
        super().prepare()

    def state(self) -> FleetOfModel:
        return self.world.client.do(requests.fleet_state())[0]

    def machine(self, name: str) -> MachineTells:
        return next(one for one in self.state().machines if one.machine == name)

    def shell(self, *arguments: str) -> str:
        return run("fleet", *arguments, env=self.world.environment).stdout

    def test_each_says_its_firmware_and_who_is_behind_is_seen(self) -> None:
        client = self.world.client
        eventually(lambda: all(one.firmware for one in self.state().machines), "all have said what they are")
        self.assertEqual(self.machine("Crown").firmware, "stand-in 4.1")
        self.assertIn("LEVELING", self.machine("Anchor").can)
        self.assertIn("stand-in 4.2 is wanted", self.shell("want", "Lantern 220", "stand-in 4.2"))
        self.assertEqual([one.machine for one in self.state().machines if one.behind], ["Crown"])
        self.assertRegex(self.shell(), r"Crown +stand-in 4\.1 .*behind: stand-in 4\.2")
        client.do(requests.want_firmware(FirmwareWish(model="Lantern 220", firmware="")))
        self.assertFalse(self.machine("Crown").behind)
        with self.assertRaisesRegex(RefusedByService, "There is no model None such"):
            client.do(requests.want_firmware(FirmwareWish(model="None such", firmware="1")))

    def test_stored_values_that_differ_stand_side_by_side_since_when(self) -> None:
        world, client = self.world, self.world.client
        self.assertIn("Anchor, Bezel, Crown told", self.shell("ask"))
        self.assertEqual((self.state().different, self.state().same), ([], 21))
        before = self.machine("Bezel").settings_since
        client.do(requests.act("Bezel", SendLine(text="M92 X80.4", sure=True)))
        client.do(requests.ask_settings())
        found = self.state().different
        self.assertEqual([(one.name, one.usual, one.meaning) for one in found],
                         [("M92 X", 80.0, "sets the steps per millimetre")])  # fmt: skip
        values = {one.machine: one for one in found[0].values}
        self.assertEqual((values["Bezel"].value, values["Anchor"].value), (80.4, 80.0))
        assert before is not None
        self.assertGreater(values["Bezel"].since, before)
        self.assertEqual(self.machine("Anchor").settings_since, values["Anchor"].since)
        self.assertRegex(self.shell("settings"), r"M92 X +sets the steps per millimetre +80 +80\.4 since .* 80")
        world.add_file("tall.gcode", squares(layers=400))
        job = world.submit("tall.gcode", machine="Anchor")
        eventually(lambda: world.builds(job), "Anchor builds")
        told = client.do(requests.ask_settings(machine="Anchor"))
        self.assertEqual((told.told, [one.machine for one in told.not_asked]), ([], ["Anchor"]))
        self.assertIn("it is asked when it is idle", told.not_asked[0].why)
        self.clear("Anchor")
