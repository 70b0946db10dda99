"""People in a real browser: invited, given roles, shown what they may not do and why, and removed."""

from __future__ import annotations

import io
import json
import re
from pathlib import Path

from PIL import Image
from playwright.sync_api import Locator, Page, expect

from chronarch.client import requests
from tests.support.browser import ConsoleCase
from tests.support.people import PASSWORD, let_in, role, signed_in
from tests.support.world import PERSON, eventually

NEW_PASSWORD = "nine copper kettles"


class PeoplePages(ConsoleCase):
    def enter(self, page: Page, login: str, password: str = PASSWORD) -> None:
        page.get_by_label("Name", exact=True).fill(login)
        page.get_by_label("Password", exact=True).fill(password)
        page.get_by_role("button", name="Sign in", exact=True).click()

    def test_somebody_is_invited_joins_and_sees_what_they_may_not_do_and_why(self) -> None:
        w = self.world
        page = self.open("/setup/people")
        page.get_by_role("button", name="Invite somebody…").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Their name").fill("Tilda Moss")
        dialog.get_by_label("Role 1", exact=True).select_option("viewer")
        dialog.get_by_role("button", name="Add a role").click()
        dialog.get_by_label("Role 2", exact=True).select_option("office")
        dialog.get_by_role("button", name="Take viewer away").click()
        dialog.get_by_role("button", name="Make the link").click()
        address = dialog.get_by_label("Hand this address on").input_value()
        dialog.get_by_role("button", name="Done").click()
        expect(page.get_by_role("button", name="Take the invite for Tilda Moss back")).to_be_visible()

        phone = self.open(address.removeprefix(w.address), width=390, height=844, signed_in=False)
        expect(phone.get_by_role("heading", name="Join A shop for tests")).to_be_visible()
        expect(phone.get_by_text("Maud has invited you, Tilda Moss, as office.")).to_be_visible()
        self.assert_fits(phone)
        phone.get_by_label("Sign in as").fill("tilda")
        phone.get_by_label("Password").fill("password1")
        phone.get_by_role("button", name="Join").click()
        expect(phone.get_by_text("This is a very common password.")).to_be_visible()
        phone.get_by_label("Password").fill(PASSWORD)
        phone.get_by_role("button", name="Join").click()
        expect(phone.get_by_role("button", name="Signed in as Tilda Moss")).to_be_visible()

        phone.goto(f"{w.address}/machines/Anchor")
        held = phone.get_by_role("button", name="Take out", exact=False)
        expect(held).to_have_attribute("aria-disabled", "true")
        expect(held).to_have_attribute("title", "This needs the right to operate machines.")
        held.click(force=True)
        expect(phone.get_by_text("This needs the right to operate machines.").first).to_be_visible()
        phone.goto(f"{w.address}/setup")
        expect(phone.get_by_text("This needs the right to set up the shop. You see it as it is.")).to_be_visible()
        self.assertNotEqual(w.state("Anchor"), "service")
        phone.goto(f"{w.address}/setup/people")
        expect(phone.get_by_text("This needs the right to manage people.")).to_be_visible()

        row = page.get_by_role("listitem").filter(has_text="signs in as tilda")
        expect(row.get_by_text("office")).to_be_visible()
        row.get_by_role("button", name="Roles of Tilda Moss").click()
        dialog.get_by_label("Role 1", exact=True).select_option("operator")
        dialog.get_by_role("button", name="Set").click()
        expect(dialog).to_have_count(0)
        phone.goto(f"{w.address}/machines/Anchor")
        expect(held).not_to_have_attribute("aria-disabled", "true")

        gone = self.open(address.removeprefix(w.address), signed_in=False)
        expect(gone.get_by_role("heading", name="This link opens nothing")).to_be_visible()

    def test_roles_and_teams_are_made_and_taken_away(self) -> None:
        let_in(self.world, "bert", role("viewer"))
        page = self.open("/setup/people")
        page.get_by_role("button", name="Make a role…").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Name").fill("filing")
        dialog.get_by_label("change files").check()
        dialog.get_by_role("button", name="Set").click()
        made = page.get_by_role("listitem").filter(has_text="may look, change files").filter(has_text="filing")
        expect(made.get_by_text("held by nobody")).to_be_visible()
        page.get_by_role("button", name="Make a team…").click()
        dialog.get_by_label("Name").fill("Filers")
        dialog.get_by_role("button", name="Add a role").click()
        dialog.get_by_label("Role 1", exact=True).select_option("filing")
        dialog.get_by_label("Bert").check()
        dialog.get_by_role("button", name="Set").click()
        expect(dialog).to_have_count(0)
        expect(made.get_by_text("held by 1")).to_be_visible()
        row = page.get_by_role("listitem").filter(has_text="signs in as bert")
        expect(row.get_by_text("in Filers")).to_be_visible()
        page.get_by_role("button", name="Remove filing").click()
        expect(page.get_by_text("Take it from them first.")).to_be_visible()
        page.get_by_role("button", name="Remove Filers").click()
        expect(made.get_by_text("held by nobody")).to_be_visible()
        page.get_by_role("button", name="Remove filing").click()
        expect(made).to_have_count(0)
        self.assert_fits(page)

    def ahead_h(self, clock: Locator) -> float:
        """How many hours the page's clock is ahead of the shop's, which tells UTC, to the quarter of an hour."""
        shown = re.search(r"(\d\d):(\d\d)", clock.inner_text())
        told = self.world.client.do(requests.shop()).now
        assert shown is not None
        minutes = int(shown[1]) * 60 + int(shown[2]) - told.hour * 60 - told.minute
        return round(minutes % (24 * 60) / 15) / 4

    def test_one_sets_what_is_ones_own(self) -> None:
        w = self.world
        let_in(w, "edna", role("technician"))
        signed_in(w, "edna", agent="Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0").close()
        page = self.open("/", signed_in=False)
        page.get_by_label("This device is my own: stay signed in").check()
        self.enter(page, "edna")
        page.get_by_role("button", name="Signed in as Edna").click()
        page.get_by_role("menuitem", name="Your page").click()
        expect(page.get_by_role("heading", name="You", exact=True, level=1)).to_be_visible()
        clock = page.get_by_label("Shop time")
        page.get_by_label("Time zone").select_option("Asia/Tokyo")
        page.get_by_label("Mail").fill("edna@shop.example")
        page.get_by_role("button", name="Set", exact=True).click()
        eventually(lambda: self.ahead_h(clock) == 9, "the clock shows the time of Tokyo")
        photo = io.BytesIO()
        Image.new("RGB", (300, 200), "teal").save(photo, "PNG")
        picture = {"name": "me.png", "mimeType": "image/png", "buffer": photo.getvalue()}
        page.get_by_label("Picture", exact=True).set_input_files(picture)
        expect(page.get_by_role("button", name="Another picture…")).to_be_visible()
        page.get_by_role("button", name="End the session on Firefox on Linux").click()
        expect(page.get_by_text("Firefox on Linux")).to_have_count(0)
        page.get_by_label("The one you have").fill(PASSWORD)
        page.get_by_label("The new one").fill(NEW_PASSWORD)
        page.get_by_role("button", name="Change the password").click()
        expect(page.get_by_text("Changed; your other sessions are ended.")).to_be_visible()
        page.get_by_role("button", name="Make a key…").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("What it is for").fill("evening script")
        dialog.get_by_role("button", name="Make it").click()
        self.assertTrue(dialog.get_by_label("Give it to the program").input_value().startswith("chronarch_"))
        dialog.get_by_role("button", name="Done").click()
        page.get_by_role("button", name="Revoke evening script").click()
        dialog.get_by_role("button", name="Revoke").click()
        expect(page.get_by_text("evening script")).to_have_count(0)
        self.assert_fits(page)
        (edna,) = [one for one in w.client.do(requests.people()) if one.login == "edna"]
        self.assertEqual((edna.mail, edna.pictured_at is not None), ("edna@shop.example", True))

    def test_somebody_is_removed_once_all_that_is_kept_of_them_was_taken(self) -> None:
        w = self.world
        let_in(w, "wilf", role("operator"))
        page = self.open("/setup/people")
        row = page.get_by_role("listitem").filter(has_text="signs in as wilf")
        row.get_by_role("button", name="More about Wilf").click()
        with page.expect_download() as taken:
            page.get_by_role("menuitem", name="All that is kept").click()
        rows = [json.loads(line) for line in Path(taken.value.path()).read_text().splitlines()]
        self.assertLessEqual({"person", "role_held", "session"}, {one["table"] for one in rows})
        dialog = page.get_by_role("dialog")
        row.get_by_role("button", name="More about Wilf").click()
        page.get_by_role("menuitem", name="Remove…").click()
        dialog.get_by_role("button", name="Remove").click()
        expect(dialog).to_have_count(0)
        expect(row).to_have_count(0)
        page.get_by_role("button", name="More about Maud").click()
        page.get_by_role("menuitem", name="Remove…").click()
        dialog.get_by_role("button", name="Remove").click()
        expect(page.get_by_text("Maud is the last who may manage people")).to_be_visible()
        self.assertIn(PERSON, [one.login for one in w.client.do(requests.people())])
        page.keyboard.press("Escape")
        self.assert_fits(page)
