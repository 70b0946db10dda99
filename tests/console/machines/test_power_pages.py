"""Power in a real browser: what a machine draws, turning it off with its guards, and the plug that it hangs on."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from chronarch.client import requests
from chronarch.core.machines.states import Intake, MachineState
from chronarch.wire.machines.power import NewPlug
from tests.support.browser import ConsoleCase
from tests.support.gcode import squares
from tests.support.sockets import ASKED
from tests.support.world import eventually

WARM = "M104 S150\nM109 S150\n" + squares(layers=4, rounds=60, side=50, feed=1200)


class PowerPages(ConsoleCase):
    machines = ("Anchor", "Bezel")
    rate = 60.0

    @classmethod
    def prepare(cls) -> None:
        w = cls.world
        w.setups = {name: {"plug": "http"} for name in cls.machines}
        super().prepare()
        w.client.do(requests.set_plug_profile(ASKED))
        address = f"http://127.0.0.1:{w.standins_port}/Anchor"
        w.client.do(requests.add_plug(NewPlug(machine="Anchor", address=address, profile="bench socket")))
        w.add_file("warm.gcode", WARM)

    def test_a_machine_that_builds_is_turned_off_only_with_a_reason(self) -> None:
        w = self.world
        self.clear("Anchor")
        w.intake(Intake.OPEN, "Anchor")
        w.build_of(w.submit("warm.gcode", machine="Anchor"))
        w.until("Anchor", MachineState.BUILDING)
        page = self.open("/machines/Anchor")
        expect(page.get_by_text(re.compile(r"^\d+ W$")).first).to_be_visible()
        expect(page.get_by_role("img", name="power and part fan over time")).to_be_visible()
        page.get_by_role("button", name="Turn off", exact=True).click()
        expect(page.get_by_text("not turned off: it builds")).to_be_visible()
        page.get_by_role("button", name="Turn it off all the same…").click()
        page.get_by_label("Why").fill("it smells burnt")
        page.get_by_role("button", name="Turn it off", exact=True).click()
        w.until("Anchor", MachineState.OFFLINE)
        expect(page.get_by_text("offline: it is turned off.")).to_be_visible()
        self.assertTrue(any("it smells burnt" in notice.text for notice in w.client.do(requests.notices())))
        board = self.open("/")
        expect(board.get_by_text("0 W")).to_be_visible()
        page.get_by_role("button", name="Turn on").click()
        eventually(lambda: w.state("Anchor") is not MachineState.OFFLINE, "it is back", 60)
        records = self.open("/records")
        expect(records.get_by_role("heading", name="Energy")).to_be_visible()
        self.assert_fits(records)

    def test_a_machine_is_hung_on_a_plug_and_its_rules_are_set(self) -> None:
        w = self.world
        page = self.open("/setup")
        page.get_by_role("button", name="Add a plug").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Machine").select_option("Bezel")
        dialog.get_by_label("Profile").select_option("bench socket")
        dialog.get_by_label("Address").fill("mqtt://127.0.0.1/Bezel")
        dialog.get_by_role("button", name="Add", exact=True).click()
        expect(dialog.get_by_text("is for http")).to_be_visible()
        dialog.get_by_label("Address").fill(f"http://127.0.0.1:{w.standins_port}/Bezel")
        dialog.get_by_label("Off by itself after, min").fill("90")
        dialog.get_by_role("button", name="Add", exact=True).click()
        expect(page.get_by_text("off after 90 min without work")).to_be_visible()
        self.assertEqual(w.client.do(requests.plug("Bezel")).rules.off_after_min, 90)
        self.assert_fits(page)
        page = self.open("/machines/Bezel", width=390, height=844)
        page.get_by_role("button", name="Plug", exact=True).click()
        page.get_by_role("button", name="It hangs on no plug").click()
        eventually(lambda: [p.machine for p in w.client.do(requests.plugs())] == ["Anchor"], "it hangs on none")
