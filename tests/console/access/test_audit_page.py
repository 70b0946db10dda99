"""The audit in a real browser: read, chosen from, opened, checked, kept as long as said."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from chronarch.client import requests
from tests.support.browser import ConsoleCase
from tests.support.people import let_in, role, signed_in


class AuditPage(ConsoleCase):
    def test_who_did_what_is_found_opened_and_checked(self) -> None:
        w = self.world
        w.client.do(requests.change_machine("Anchor", place="by the door"))
        w.client.do(requests.change_machine("Anchor", place="at the window"))
        let_in(w, "ned", role("viewer"))
        refused = signed_in(w, "ned", place="127.0.7.1").post("/folders", json={"path": "Ned's"})
        self.assertEqual(refused.status_code, 403)

        page = self.open("/setup/audit")
        page.get_by_label("Search").fill("at the window")
        rows = page.get_by_role("listitem")
        expect(rows).to_have_count(1)
        expect(rows).to_contain_text("machines/Anchor")
        expect(rows).to_contain_text("127.0.0.1")
        opened = rows.get_by_role("button", name="place: by the door → at the window")
        opened.click()
        table = rows.get_by_role("table", name="machine Anchor")
        expect(table.get_by_role("row").last).to_have_text(re.compile("place.*by the door.*at the window"))
        self.assertIn("text=at+the+window", page.url)
        page.get_by_label("Search").fill("")
        page.get_by_label("only what was refused").check()
        page.get_by_label("Who", exact=True).select_option("ned")
        expect(rows).to_have_count(1)
        expect(rows).to_contain_text("refused")
        with page.expect_download() as taken:
            page.get_by_role("link", name="As CSV").click()
        text = taken.value.path().read_text()
        self.assertEqual([line.split(",")[4] for line in text.splitlines()[1:]], ["POST /folders"])
        page.get_by_label("Search").fill("nothing like it")
        expect(page.get_by_text("Nothing that was done fits.")).to_be_visible()

        page.get_by_role("button", name="Check", exact=True).click()
        expect(page.get_by_text(re.compile(r"Whole: \d+ entries"))).to_be_visible()
        page.get_by_role("button", name="Change", exact=True).click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Kept for").select_option("for ever")
        dialog.get_by_role("button", name="Keep it so").click()
        expect(page.get_by_text("For ever", exact=True)).to_be_visible()
        w.sql("update audit_entry set who = 'person 99' where number = 2")
        page.get_by_role("button", name="Check again").click()
        expect(page.get_by_text("Entry 2 was changed")).to_be_visible()
        self.assert_fits(self.open("/setup/audit", width=390, height=844))


if __name__ == "__main__":
    import unittest

    unittest.main()
