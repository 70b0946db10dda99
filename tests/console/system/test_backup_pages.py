"""Backups in a real browser: from a shop that has none to one that was taken and tried."""

from __future__ import annotations

from playwright.sync_api import Page, expect

from chronarch.client import requests
from chronarch.core.orders.states import Verdict
from chronarch.wire.system.backups import BackupSettingsChange
from tests.support.browser import ConsoleCase
from tests.support.gcode import squares
from tests.support.restoring import LATE_S, PASSPHRASE, ended
from tests.support.world import eventually


class BackupPages(ConsoleCase):
    own_database = True

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        cls.world.add_file("block.gcode", squares(layers=2))
        cls.world.made("block.gcode", "Anchor", Verdict.GOOD)

    def give(self, page: Page, address: str, again: str = PASSPHRASE) -> None:
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Where").fill(address)
        dialog.get_by_label("Passphrase", exact=True).fill(PASSPHRASE)
        dialog.get_by_label("The same again").fill(again)
        dialog.get_by_role("button", name="Keep backups there").click()

    def test_from_no_place_to_a_backup_that_was_tried(self) -> None:
        w = self.world
        folder = w.folder / "backups"
        page = self.open("/setup")
        expect(page.get_by_text("Nothing is backed up")).to_be_visible()
        page.get_by_role("button", name="Give a place for backups").click()
        self.give(page, str(folder))
        expect(page.get_by_text("is not there. Is its drive connected")).to_be_visible()
        folder.mkdir()
        self.give(page, str(folder), again="eleven brass escapement")
        expect(page.get_by_text("was not typed alike twice")).to_be_visible()
        self.assertEqual(w.client.do(requests.backups()).settings.address, "")
        self.give(page, str(folder))
        expect(page.get_by_role("dialog")).to_have_count(0)

        page.locator("section", has=page.locator("#backups")).get_by_role("button", name="Change", exact=True).click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("One is taken each day by itself").uncheck()
        dialog.get_by_label("Of weeks").fill("6")
        dialog.get_by_label("The newest is tried on").select_option("Wednesday")
        dialog.get_by_role("button", name="Set", exact=True).click()
        expect(page.get_by_text("Only when asked for; 7 kept of days, 6 of weeks")).to_be_visible()
        expect(page.get_by_text("Tried each Wednesday.")).to_be_visible()

        first = eventually(lambda: w.client.do(requests.backups()).backups, "one is taken by itself", LATE_S)[0]
        ended(w)
        page.get_by_role("button", name="Back up now").click()
        eventually(
            lambda: w.client.do(requests.backups()).backups[0].stamp != first.stamp, "another one is taken", LATE_S
        )
        self.assertEqual(len(ended(w).backups), 1, "of each day the newest is kept")
        expect(page.get_by_text("not tried yet")).to_be_visible()
        page.get_by_role("button", name="Try the newest").click()
        eventually(lambda: w.client.do(requests.backups()).backups[0].tried_at, "it is tried", LATE_S)
        expect(page.get_by_text("a restore takes")).to_have_count(1)
        self.assert_fits(page)
        self.assert_fits(self.open("/setup", width=390, height=844))

    def test_what_is_wrong_is_said_where_backups_are(self) -> None:
        w = self.world
        folder = w.folder / "stick"
        folder.mkdir()
        ended(w)
        page = self.open("/setup")
        page.get_by_role("button", name="Another place").or_(page.get_by_role("button", name="Give a place")).click()
        self.give(page, str(folder))
        expect(page.get_by_role("dialog")).to_have_count(0)
        ended(w)
        w.client.do(requests.change_backup_settings(BackupSettingsChange(on=False)))
        away = folder.rename(folder.with_name("unplugged"))
        self.addCleanup(away.rename, folder)
        ended(w)
        page.get_by_role("button", name="Back up now").click()
        ended(w)
        expect(page.get_by_role("alert").get_by_text("Is its drive connected").first).to_be_visible()
