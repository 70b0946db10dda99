"""The first person of a new shop, in a real browser."""

from __future__ import annotations

from playwright.sync_api import expect

from tests.support.browser import ConsoleCase
from tests.support.emptied import without_people


class FirstPersonPage(ConsoleCase):
    own_database = True

    def test_a_new_shop_lets_its_first_person_in(self) -> None:
        code = without_people(self.world)
        page = self.open("/", width=390, height=844, signed_in=False)
        expect(page.get_by_role("heading", name="A new shop")).to_be_visible()
        self.assert_fits(page)
        page.get_by_label("Code").fill("AAAA-AAAA-AAAA")
        page.get_by_label("Your name").fill("Tilda Moss")
        page.get_by_label("Sign in as").fill("tilda")
        page.get_by_label("Password").fill("a fine long one")
        page.get_by_role("button", name="Begin").click()
        expect(page.get_by_text("That is not the code")).to_be_visible()
        page.get_by_label("Code").fill(code.lower())
        page.get_by_role("button", name="Begin").click()
        expect(page.get_by_role("heading", name="First steps")).to_be_visible()
        other = self.open("/", signed_in=False)
        expect(other.get_by_text("Sign in to see the shop.")).to_be_visible()
