"""Adding files in a real browser: from this device, an address and a drive; what follows; hot folders."""

from __future__ import annotations

import re
from pathlib import Path

from playwright.sync_api import expect

from chronarch.client import requests
from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.orders.states import Verdict
from tests.support.browser import ConsoleCase
from tests.support.file_host import FileHost
from tests.support.gcode import squares


class AddFiles(ConsoleCase):
    @classmethod
    def prepare(cls) -> None:
        cls.drive = cls.world.folder / "drive"
        (cls.drive / "looms").mkdir(parents=True)
        (cls.drive / "looms" / "heddle.gcode").write_text(squares(layers=4))
        (cls.drive / "shuttle.gcode").write_text(squares(layers=5))
        cls.world.environment["CHRONARCH_FOLDERS"] = str(cls.drive)
        super().prepare()
        cls.world.intake(Intake.MANUAL)
        cls.host = FileHost({"/clip.gcode": (200, {}, squares(layers=3).encode())})
        cls.addClassCleanup(cls.host.close)

    def test_from_an_address_and_it_begins_at_once(self) -> None:
        w = self.world
        page = self.open("/library", width=390, height=844)
        page.get_by_role("button", name="Add files").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("button", name="An address").click()
        dialog.get_by_label("Address", exact=True).fill(self.host.at("/none"))
        dialog.get_by_role("button", name="Add", exact=True).click()
        expect(dialog.get_by_role("alert")).to_contain_text("answers 404")
        dialog.get_by_label("Address", exact=True).fill(self.host.at("/clip.gcode"))
        dialog.get_by_label("Add and begin now").check()
        self.assert_fits(page)
        dialog.get_by_role("button", name="Add, and begin on Anchor").click()
        expect(dialog).to_be_hidden()
        build = w.machine("Anchor").build
        assert build is not None
        self.assertEqual(build.file, "clip.gcode")
        w.until("Anchor", MachineState.UNCLEARED)
        w.client.do(requests.verdict(build.id, Verdict.GOOD))
        w.until("Anchor", MachineState.IDLE)

    def test_from_a_drive_with_its_folders_and_queued(self) -> None:
        page = self.open("/library")
        page.get_by_role("button", name="Add files").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("button", name="The shop's computer").click()
        dialog.get_by_role("button", name=str(self.drive)).click()
        dialog.get_by_label("Take looms").check()
        expect(dialog).to_contain_text("folders with all that is in them")
        expect(dialog.get_by_label("Add and begin now")).to_be_disabled()
        dialog.get_by_role("button", name="looms").click()
        expect(dialog).to_contain_text("heddle.gcode")
        dialog.get_by_role("button", name="Up").click()
        dialog.get_by_label("Take shuttle.gcode").check()
        dialog.get_by_label("Add and queue").check()
        dialog.get_by_label("Copies of each").fill("2")
        dialog.get_by_role("button", name="Add and queue", exact=True).click()
        expect(dialog).to_be_hidden()
        expect(page.get_by_role("row", name=re.compile("heddle"))).to_contain_text("looms")
        expect(page.get_by_role("row", name=re.compile("shuttle"))).to_be_visible()
        jobs = [job for job in self.world.client.do(requests.jobs()) if job.file in ("heddle.gcode", "shuttle.gcode")]
        self.assertEqual([job.copies for job in jobs], [2, 2])
        for job in jobs:
            self.world.client.do(requests.act_on_job(job.id, "withdraw"))

    def test_from_this_device_then_queued_to_begin_now(self) -> None:
        w = self.world
        page = self.open("/library")
        page.get_by_role("button", name="Add files").click()
        dialog = page.get_by_role("dialog")
        text = squares(layers=6).encode()
        given = {"name": "treadle.gcode", "mimeType": "text/x.gcode", "buffer": text}
        dialog.get_by_label("Files to add").set_input_files([given])
        expect(dialog).to_contain_text("treadle.gcode")
        dialog.get_by_role("button", name="Add", exact=True).click()
        expect(dialog).to_be_hidden()
        row = page.get_by_role("row", name=re.compile("treadle"))
        row.get_by_role("button", name="Queue").click()
        page.get_by_label("The first begins").select_option("now, on Anchor")
        page.get_by_role("button", name="Queue 1 copy").click()
        expect(page.get_by_role("heading", level=1, name="Anchor")).to_be_visible()
        build = w.machine("Anchor").build
        assert build is not None
        w.until("Anchor", MachineState.UNCLEARED)
        w.client.do(requests.verdict(build.id, Verdict.GOOD))
        w.until("Anchor", MachineState.IDLE)

    def test_a_hot_folder_is_set_up(self) -> None:
        hot = self.drive.parent / "drive" / "inbox"
        hot.mkdir()
        page = self.open("/setup")
        page.get_by_role("button", name="Add a hot folder…").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Folder on the service's computer").fill("/etc")
        dialog.get_by_role("button", name="Look into it").click()
        expect(dialog.get_by_role("alert")).to_contain_text("may be looked into")
        dialog.get_by_label("Folder on the service's computer").fill(str(hot))
        dialog.get_by_role("button", name="Look into it").click()
        expect(dialog).to_be_hidden()
        row = page.get_by_role("listitem").filter(has_text=str(hot))
        expect(row).to_contain_text("to the library · only added")
        row.get_by_role("button", name="Turn off").click()
        expect(row).to_contain_text("off")
        row.get_by_role("button", name="Remove").click()
        expect(row).to_have_count(0)

    drive: Path
    host: FileHost
