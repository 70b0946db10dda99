"""People in a real browser: what is kept of somebody is taken, and they are removed."""

from __future__ import annotations

import json
from pathlib import Path

from playwright.sync_api import expect

from chronarch.client import requests
from tests.support import processes
from tests.support.browser import ConsoleCase
from tests.support.world import PASSWORD


class PeoplePages(ConsoleCase):
    def test_somebody_is_removed_once_all_that_is_kept_of_them_was_taken(self) -> None:
        w = self.world
        words = ("add-person", "wilf", "--name", "Wilf", "--scope", "operate", "--password-stdin")
        self.assertEqual(processes.run("service", *words, env=w.environment, stdin=PASSWORD + "\n").returncode, 0)
        page = self.open("/setup")
        row = page.get_by_role("listitem").filter(has_text="Wilf")
        expect(row.get_by_text("signs in as wilf")).to_be_visible()
        with page.expect_download() as taken:
            row.get_by_role("link", name="All that is kept").click()
        rows = [json.loads(line) for line in Path(taken.value.path()).read_text().splitlines()]
        self.assertEqual([(one["table"], one["login"]) for one in rows], [("person", "wilf")])
        row.get_by_role("button", name="Remove…").click()
        page.get_by_role("dialog").get_by_role("button", name="Remove").click()
        expect(page.get_by_role("dialog")).to_have_count(0)
        expect(row).to_have_count(0)
        page.get_by_role("listitem").filter(has_text="Maud").get_by_role("button", name="Remove…").click()
        page.get_by_role("dialog").get_by_role("button", name="Remove").click()
        expect(page.get_by_text("Maud is the last who may maintain")).to_be_visible()
        self.assertEqual([one.login for one in w.client.do(requests.people())], ["maud"])
        page.keyboard.press("Escape")
        self.assert_fits(page)
