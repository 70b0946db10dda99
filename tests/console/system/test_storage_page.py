"""What takes the disk, in a real browser."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from chronarch.client import requests
from tests.support.browser import ConsoleCase
from tests.support.gcode import squares


class StoragePages(ConsoleCase):
    def test_what_takes_it_when_it_is_full_and_what_can_go(self) -> None:
        w = self.world
        for layers in (3, 4):
            w.add_file("clip.gcode", squares(layers=layers))
        shown = w.client.do(requests.storage())
        today = w.client.do(requests.shop()).now.date()
        w.sql("delete from storage_day")
        for back, size in ((20, 0), (10, shown.free // 2)):
            w.sql(
                "insert into storage_day (day, part, size) values (date_sub(:day, interval :back day), 'logs', :size)",
                day=today, back=back, size=size,
            )  # fmt: skip
        page = self.open("/setup", width=390, height=844)
        sheet = page.get_by_role("link", name="What takes it")
        sheet.click()
        expect(page.get_by_role("heading", name="Storage", exact=True)).to_be_visible()
        expect(page.get_by_text(re.compile(r"are free\. As it grows now, it is full in \d+ days"))).to_be_visible()
        self.assert_fits(page)
        row = page.get_by_role("listitem").filter(has_text="Earlier revisions")
        expect(row).to_contain_text("kB")
        row.get_by_role("button", name="Give up…").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("button", name="Give them up").click()
        expect(dialog.get_by_role("status")).to_contain_text("No earlier revision is 90 days old")
        dialog.get_by_label("Older than, days").fill("0")
        dialog.get_by_role("button", name="Give them up").click()
        expect(dialog).to_be_hidden()
        expect(row).to_have_count(0)
        self.assertEqual([one.number for one in w.client.do(requests.revisions("clip.gcode"))], [2])
