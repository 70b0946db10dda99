"""Second factors in a real browser: an app, recovery codes, a passkey of Chromium's virtual authenticator, and showing
again who one is."""

from __future__ import annotations

import pyotp
from playwright.sync_api import Page, expect

from chronarch.client import requests
from tests.support.browser import ConsoleCase
from tests.support.people import PASSWORD, let_in, role


class SecondFactorPages(ConsoleCase):
    def named(self, path: str = "/") -> Page:
        """A page at the service's name: passkeys have no bare addresses."""
        page = self.open("/help", signed_in=False)
        page.goto(f"http://localhost:{self.world.port}{path}")
        return page

    def enter(self, page: Page, login: str) -> None:
        page.get_by_label("Name", exact=True).fill(login)
        page.get_by_label("Password", exact=True).fill(PASSWORD)
        page.get_by_role("button", name="Sign in", exact=True).click()

    def test_an_app_is_added_and_asked_for(self) -> None:
        w = self.world
        let_in(w, "gina", role("technician"), role("viewer"))
        w.client.do(requests.guard_roles(["technician"]))
        self.addCleanup(w.client.do, requests.guard_roles([]))
        page = self.open("/", signed_in=False)
        self.enter(page, "gina")
        page.get_by_role("link", name="add one on your page").click()
        expect(page.get_by_text("Your role technician wants one.")).to_be_visible()
        page.get_by_role("button", name="Add an app…").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("button", name="Go on").click()
        drawn = dialog.get_by_alt_text("QR code for the app")
        expect(drawn).to_be_visible()
        self.assertGreater(drawn.evaluate("image => image.decode().then(() => image.naturalWidth)"), 100)
        secret = dialog.locator("p span.font-mono").inner_text().replace(" ", "")
        dialog.get_by_label("Code", exact=True).fill("000000")
        dialog.get_by_role("button", name="Add it").click()
        expect(dialog.get_by_text("This is not the code that the app shows now")).to_be_visible()
        dialog.get_by_label("Code", exact=True).fill(pyotp.TOTP(secret).at(self.world.clock.real_now()))
        dialog.get_by_role("button", name="Add it").click()
        codes = dialog.get_by_role("list", name="Recovery codes").get_by_role("listitem")
        expect(codes).to_have_count(10)
        recovery = codes.first.inner_text()
        dialog.get_by_role("button", name="I have them").click()
        expect(page.get_by_text("only with a second factor")).to_have_count(0)
        self.assert_fits(page)

        phone = self.open("/", width=390, height=844, signed_in=False)
        self.enter(phone, "gina")
        phone.get_by_label("Code", exact=True).fill(recovery)
        self.assert_fits(phone)
        phone.get_by_role("button", name="Sign in", exact=True).click()
        expect(phone.get_by_role("button", name="Signed in as Gina")).to_be_visible()
        expect(phone.get_by_text("only with a second factor")).to_have_count(0)

    def test_who_has_no_role_that_counts_hears_what_is_missing(self) -> None:
        w = self.world
        let_in(w, "idle", name="Ida Low")
        page = self.open("/", width=390, height=844, signed_in=False)
        self.enter(page, "idle")
        expect(page.get_by_text("You may do nothing here yet. Ask who manages people for a role.")).to_be_visible()
        expect(page.get_by_role("heading", name="You", exact=True, level=1)).to_be_visible()
        self.assert_fits(page)
        page.get_by_role("button", name="Sign out").click()
        expect(page.get_by_text("Sign in to see the shop.")).to_be_visible()

    def test_a_passkey_signs_in_by_itself(self) -> None:
        let_in(self.world, "hana", role("operator"))
        page = self.named("/")
        tools = page.context.new_cdp_session(page)
        tools.send("WebAuthn.enable")
        authenticator = {
            "protocol": "ctap2", "transport": "internal", "hasResidentKey": True, "hasUserVerification": True,
            "isUserVerified": True, "automaticPresenceSimulation": True,
        }  # fmt: skip
        tools.send("WebAuthn.addVirtualAuthenticator", {"options": authenticator})
        self.enter(page, "hana")
        expect(page.get_by_role("button", name="Signed in as Hana")).to_be_visible()
        page.goto(f"http://localhost:{self.world.port}/you")
        page.get_by_role("button", name="Add a passkey…").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("button", name="Make it").click()
        expect(dialog.get_by_role("list", name="Recovery codes")).to_be_visible()
        dialog.get_by_role("button", name="I have them").click()
        expect(page.get_by_role("button", name="Remove This device")).to_be_visible()
        page.get_by_role("button", name="Signed in as Hana").click()
        page.get_by_role("menuitem", name="Sign out").click()
        page.get_by_role("button", name="Sign in with a passkey").click()
        expect(page.get_by_role("button", name="Signed in as Hana")).to_be_visible()

        self.world.sql("update session set shown_at = '2020-01-01'")
        do = self.world.client.do
        do(requests.set_role("whatever", do(requests.roles())[0].rights))  # what is known of callers is forgotten
        page.goto(f"http://localhost:{self.world.port}/you")
        page.get_by_role("button", name="Add an app…").click()
        dialog.get_by_role("button", name="Go on").click()
        asking = page.get_by_role("dialog", name="Is it you?")
        asking.get_by_role("button", name="Use a passkey instead").click()
        expect(asking).to_have_count(0)
        expect(dialog.get_by_alt_text("QR code for the app")).to_be_visible()
        page.keyboard.press("Escape")

        page.get_by_role("button", name="Remove This device").click()
        expect(page.get_by_text("None yet.")).to_be_visible()
        page.get_by_role("button", name="Signed in as Hana").click()
        page.get_by_role("menuitem", name="Sign out").click()
        page.get_by_role("button", name="Sign in with a passkey").click()
        expect(page.get_by_text("This passkey is not known here any more")).to_be_visible()
