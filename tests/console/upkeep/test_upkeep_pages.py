"""Upkeep in the browser: tasks, checks, parts, firmware and the log; reports that come by themselves."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta

from playwright.sync_api import expect

from chronarch.client import requests
from chronarch.core.machines.states import Intake
from chronarch.core.orders.states import Verdict
from chronarch.wire.upkeep import tasks as w
from tests.support.browser import ConsoleCase
from tests.support.gcode import squares
from tests.support.past import put_build, put_interval
from tests.support.pictures import jpeg
from tests.support.world import eventually

START = datetime(2026, 10, 19, 8, tzinfo=UTC)
"""The machines' ledger begins after that."""
PHONE = {"width": 390, "height": 844}


class UpkeepPages(ConsoleCase):
    machines = ("Anchor", "Bezel")
    build: int

    @classmethod
    def prepare(cls) -> None:
        cls.world.setups["Bezel"] = {"firmware": "stand-in 4.1", "stored": {"M92 E": 97.5}}
        super().prepare()
        cls.world.add_file("square.gcode", squares(layers=2))
        cls.build = cls.world.made("square.gcode", "Anchor", Verdict.GOOD)
        cls.world.intake(Intake.CLOSED)

    def setUp(self) -> None:
        super().setUp()
        for one in self.world.client.do(requests.upkeep_tasks()):
            self.world.client.do(requests.drop_upkeep_task(one.id))

    def test_a_task_is_added_comes_due_is_kept_free_and_done(self) -> None:
        client = self.world.client
        page = self.open("/upkeep")
        expect(page.get_by_text("There are no tasks")).to_be_visible()
        page.get_by_role("button", name="Add a task").click()
        page.get_by_label("What is done").fill("wipe the rods")
        page.get_by_role("button", name="Add it").click()
        expect(page.get_by_role("alert")).to_contain_text("say after how much it is due")
        page.get_by_label("At", exact=True).select_option("Anchor")
        page.get_by_label("Builds", exact=True).fill("2")
        page.get_by_label("Needs").fill("a cloth, oil")
        page.get_by_label("What to do").fill("Wipe, then oil.")
        shown = {"name": "how.jpg", "mimeType": "image/jpeg", "buffer": jpeg(120)}
        page.get_by_label("Pictures that show it").set_input_files(shown)  # type: ignore[arg-type]
        page.get_by_role("button", name="Add it").click()
        expect(page.get_by_text("after 2 builds")).to_be_visible()
        for n in range(2):
            put_build(self.world, self.build, client.do(requests.shop()).now - timedelta(minutes=2 - n))
        eventually(lambda: client.do(requests.upkeep_due("Anchor"))[0].due, "two builds make it due")
        expect(page.get_by_text("Due now, 1")).to_be_visible(timeout=30_000)
        page.get_by_role("button", name=re.compile("Keep .* free")).click()
        expect(page.get_by_text(re.compile("kept free"))).to_be_visible()
        page.get_by_role("button", name="Done…").click()
        expect(page.get_by_text("Wipe, then oil.")).to_be_visible()
        expect(page.get_by_role("img", name="What to do")).to_be_visible()
        page.get_by_label("oil", exact=True).check()
        page.get_by_label("Note").fill("was dry")
        page.get_by_label("Photo").set_input_files({"name": "rods.jpg", "mimeType": "image/jpeg", "buffer": jpeg(80)})
        page.get_by_role("button", name="Done", exact=True).click()
        expect(page.get_by_text("Nothing is due.")).to_be_visible()
        page.get_by_role("link", name="Log").click()
        page.get_by_label("Machine").select_option("Anchor")
        expect(page.get_by_text("was dry")).to_be_visible()
        expect(page.get_by_text(re.compile("used oil"))).to_be_visible()
        expect(page.get_by_role("link", name="photo")).to_be_visible()
        self.assertEqual(client.do(requests.upkeep_windows()), [])

    def test_a_check_out_of_tolerance_closes_the_machine_and_is_measured_in_the_rounds(self) -> None:
        client = self.world.client
        page = self.open("/upkeep/calibration")
        page.get_by_role("button", name="Add a check").click()
        page.get_by_label("What is measured").fill("cube, X")
        page.get_by_label("At", exact=True).select_option("Bezel")
        page.get_by_label("Should be").fill("20")
        page.get_by_label("±").fill("0,2")
        page.get_by_label("Days", exact=True).fill("30")
        page.get_by_label("When due or out of tolerance").select_option("closes")
        page.get_by_role("button", name="Add it").click()
        expect(page.get_by_text("never measured")).to_be_visible()
        check = next(one for one in client.do(requests.upkeep_tasks()) if one.name == "cube, X")
        for value in (20.0, 20.02, 19.99, 20.01, 20.0, 20.4):
            client.do(requests.upkeep_done(w.NewUpkeepDone(machine="Bezel", task=check.id, value=value)))
        expect(page.get_by_text("out of tolerance")).to_be_visible()
        expect(page.get_by_role("img", name=re.compile("cube, X at Bezel: 20 mm"))).to_be_visible()
        page.goto(f"{self.world.address}/machines/Bezel")
        expect(page.get_by_text("takes no work until upkeep is done")).to_be_visible()
        page.set_viewport_size(PHONE)  # type: ignore[arg-type]
        page.goto(f"{self.world.address}/rounds")
        self.assert_fits(page)
        page.get_by_role("button", name="Measured…").click()
        page.get_by_label("Measured, mm").fill("20,05")
        page.get_by_role("button", name="Measured", exact=True).click()
        expect(page.get_by_role("button", name="Measured…")).to_have_count(0)
        eventually(lambda: not self.world.machine("Bezel").held, "it takes work again")

    def test_parts_firmware_and_settings_stand_side_by_side(self) -> None:
        world, client = self.world, self.world.client
        at = START - timedelta(days=200)
        for hours in (1, 300, 340, 380):
            put_interval(world, "Bezel", "building", at, at + timedelta(hours=hours))
            at += timedelta(hours=hours)
            client.do(requests.upkeep_done(w.NewUpkeepDone(machine="Bezel", name="new", part="nozzle", at=at)))
        page = self.open("/upkeep/parts")
        expect(page.get_by_text(re.compile(r"usually lasts 2\d\d to 3\d\d h"))).to_be_visible()
        page.get_by_role("link", name="Firmware and settings").click()
        expect(page.get_by_text("stand-in 4.1")).to_be_visible()
        page.get_by_role("button", name="Change").click()
        page.get_by_label("Wanted").fill("stand-in 4.2")
        page.get_by_role("button", name="Keep it").click()
        expect(page.get_by_text("1 is behind")).to_be_visible()
        page.get_by_role("button", name="Ask what they have stored").click()
        expect(page.get_by_text("1 stored value is not the same on all")).to_be_visible()
        expect(page.get_by_role("cell", name="97.5")).to_be_visible()
        for path in ("/upkeep", "/upkeep/calibration", "/upkeep/parts", "/upkeep/fleet", "/upkeep/log"):
            page.set_viewport_size(PHONE)  # type: ignore[arg-type]
            page.goto(f"{world.address}{path}")
            expect(page.get_by_role("heading", name="Upkeep").first).to_be_visible()
            self.assert_fits(page)

    def test_a_report_is_set_up_looked_at_and_kept(self) -> None:
        page = self.open("/records/reports")
        page.get_by_role("button", name="Add a report").click()
        page.get_by_label("Name").fill("Every week")
        page.get_by_label("To", exact=True).fill("nobody-of-that-name")
        page.get_by_role("button", name="Add it").click()
        expect(page.get_by_role("alert")).to_contain_text("There is nobody called nobody-of-that-name")
        page.get_by_label("To", exact=True).fill("")
        page.get_by_role("button", name="Add it").click()
        page.get_by_role("button", name="Preview").click()
        expect(page.frame_locator("iframe").get_by_role("heading", name="Every week")).to_be_visible()
        page.get_by_role("button", name="Keep it now").click()
        page.get_by_role("button", name=re.compile("Every week, Mon")).click()
        expect(page.frame_locator("iframe").get_by_text("Productive share by machine")).to_be_visible()
        page.get_by_role("button", name="Close").click()
        page.set_viewport_size(PHONE)  # type: ignore[arg-type]
        self.assert_fits(page)

    def test_is_it_worth_a_machine(self) -> None:
        page = self.open("/records/worth")
        expect(page.get_by_role("heading", name="What work waited for")).to_be_visible()
        expect(page.get_by_role("cell", name="one more Lantern 220")).to_be_visible()
        page.get_by_role("button", name="last 7 days").click()
        expect(page.get_by_role("cell", name="as it was")).to_be_visible()
        page.set_viewport_size(PHONE)  # type: ignore[arg-type]
        self.assert_fits(page)
