"""A new shop, from an empty database to its first finished build, in a real browser and on stand-ins."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from chronarch.client import requests
from chronarch.core.machines.states import MachineState
from chronarch.wire.system.backups import BackupSettingsChange
from tests.support.browser import ConsoleCase
from tests.support.emptied import without_people
from tests.support.gcode import squares, write
from tests.support.restoring import ended
from tests.support.world import MAIL_LOGIN, eventually


class FirstHour(ConsoleCase):
    own_database = True
    new_shop = True

    @classmethod
    def prepare(cls) -> None:
        cls.world.setups = {"Anchor": {"announces": True, "model": "Lantern 220"}}
        super().prepare()

    def test_from_nothing_to_the_first_finished_build(self) -> None:
        w = self.world
        self.addCleanup(self.no_more_backups)
        code = without_people(w)
        page = self.open("/", signed_in=False)
        for label, text in (
            ("Code", code.lower()),
            ("Your name", "Tilda Moss"),
            ("Sign in as", "tilda"),
            ("Password", "a fine long one"),
        ):
            page.get_by_label(label).fill(text)
        page.get_by_role("button", name="Begin").click()

        self.shop(page)
        self.hours(page)
        self.machine(page)
        self.spool(page)
        self.message(page)
        self.backups(page)
        expect(page.get_by_role("heading", name="The shop is set up")).to_be_visible()
        self.assertEqual([one.standing for one in w.client.do(requests.first_steps()).steps], ["done"] * 6)
        page.get_by_role("button", name="That will do: to the board").click()
        expect(page.get_by_role("heading", level=1, name="Board")).to_be_visible()
        page.goto(f"{w.address}/setup")
        expect(page.get_by_role("heading", name="The set-up as a file")).to_be_visible()
        expect(page.get_by_text("First steps.")).to_have_count(0)
        self.file(page)
        self.first_build(page)

    def file(self, page: Page) -> None:
        """The set-up is taken away as a file, edited, and applied."""
        with page.expect_download() as began:
            page.get_by_role("link", name="All of it, TOML").click()
        text = began.value.path().read_text()
        self.assertIn('name = "Marrow Lane"', text)
        for new, title in (
            (text, "Nothing would change"),
            (text.replace('place = "A2"', 'place = "B7"'), "1 thing would change"),
        ):
            path = write(self.world.folder, "shop.toml", new)
            page.get_by_label("A set-up file").set_input_files([path])
            expect(page.get_by_role("heading", name=title)).to_be_visible()
            if "B7" not in new:
                page.get_by_role("button", name="Close").click()
                expect(page.get_by_role("dialog")).to_be_hidden()
        expect(page.get_by_role("dialog")).to_contain_text("place: A2 → B7")
        page.get_by_role("button", name="Change it").click()
        expect(page.get_by_role("dialog")).to_be_hidden()
        self.assertEqual(self.world.client.do(requests.machine("Anchor")).place, "B7")
        page.get_by_label("A set-up file").set_input_files([write(self.world.folder, "wrong.toml", "[shop\n")])
        expect(page.get_by_text("The file is not TOML")).to_be_visible()

    def no_more_backups(self) -> None:
        """What begins by itself once there is a place has ended before the world goes."""
        if ended(self.world).settings.address:
            self.world.client.do(requests.change_backup_settings(BackupSettingsChange(on=False)))
            ended(self.world)

    def next(self, page: Page, name: str) -> None:
        page.get_by_role("button", name=f"Next: {name}").click()
        expect(page.get_by_role("heading", name=name, exact=True, level=2).first).to_be_visible()

    def shop(self, page: Page) -> None:
        page.get_by_label("What the shop is called").fill("Marrow Lane")
        page.get_by_label("Time zone").fill("Europe/Lisbon")
        page.get_by_label("Currency").fill("chf")
        page.get_by_label("Days and months are written as in").select_option("de-DE")
        expect(page.get_by_text(re.compile("23. Okt"))).to_be_visible()
        page.get_by_role("button", name="Set, and go on").click()
        expect(page.get_by_role("heading", name="Hands", exact=True)).to_be_visible()
        expect(page.get_by_role("banner")).to_contain_text("Marrow Lane")
        do = self.world.client.do
        self.assertEqual((do(requests.shop()).dates, do(requests.cost_settings()).currency), ("de-DE", "CHF"))
        self.assertTrue(
            all(day for day in do(requests.hours())[0].week), "until hours are set somebody is always there"
        )

    def hours(self, page: Page) -> None:
        for day in ("Monday", "Saturday"):
            page.get_by_label(f"{day}, until").fill("23:59")
        page.get_by_role("button", name="Set the hours").click()
        expect(page.get_by_role("listitem").filter(has_text="Hands")).to_contain_text("done")
        self.next(page, "Machines")

    def machine(self, page: Page) -> None:
        page.get_by_role("link", name="Find machines").click()
        row = page.get_by_role("main").get_by_role("listitem").filter(has_text=f":{self.world.ports['Anchor']}")
        expect(row).to_contain_text("on the network")
        row.get_by_role("button", name="Join…").click()
        page.get_by_label("Name").fill("Anchor")  # another world on this computer may announce one, too
        page.get_by_label("Model").select_option("a new model…")
        dialog = page.get_by_role("dialog", name="A new model")
        dialog.get_by_label("What it is").select_option(label="The head moves; two tools")
        dialog.get_by_label("What it is").select_option(index=0)
        dialog.get_by_label("Name of the model").fill("Lantern 220")
        dialog.get_by_label("Height (z), mm").fill("240")
        dialog.get_by_role("button", name="Add the model").click()
        expect(dialog).to_be_hidden()
        page.get_by_role("dialog").get_by_label("Place").fill("A2")
        page.get_by_role("button", name="Show a code on it").click()
        expect(page.get_by_role("heading", name="The code on Anchor")).to_be_visible()
        shown = str(self.world.standin("Anchor")["display"]).removeprefix("Code ")
        page.get_by_label("Code", exact=True).fill(f"{(int(shown) + 1) % 10_000:04}")
        page.get_by_role("button", name="It joins").click()
        expect(page.get_by_role("alert")).to_contain_text("not the code on the machine's display")
        page.get_by_label("Code", exact=True).fill(shown)
        page.get_by_role("button", name="It joins").click()
        expect(page.get_by_role("dialog")).to_be_hidden()
        expect(row).to_contain_text("is here already")
        page.goto(f"{self.world.address}/first-steps/machines")
        row = page.get_by_role("main").get_by_role("listitem").filter(has_text="Lantern 220")
        expect(row).to_contain_text("idle")
        self.next(page, "Spools")

    def spool(self, page: Page) -> None:
        page.get_by_role("button", name="Add a spool").click()
        page.get_by_label("Colour").fill("teal")
        page.get_by_role("button", name="Add it").click()
        page.get_by_role("button", name="Load").click()
        page.get_by_role("button", name="It is loaded").click()
        expect(page.get_by_text("on Anchor")).to_be_visible()
        self.next(page, "A message")

    def message(self, page: Page) -> None:
        login, password = MAIL_LOGIN.split(":")
        page.get_by_label("Mail server").fill("127.0.0.1")
        page.get_by_label("Port").fill(str(self.world.smtp_port))
        page.get_by_label("Kept secret by").select_option("none")
        page.get_by_label("Sender").fill("prints@shop.example")
        page.get_by_label("Signs in as").fill(login)
        page.get_by_label("Password").fill(password)
        page.get_by_role("button", name="Set", exact=True).click()
        page.get_by_role("button", name="Add a mail address…").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Address").fill("tilda@shop.example")
        dialog.get_by_role("button", name="Add").click()
        expect(dialog).to_be_hidden()
        expect(page.get_by_role("listitem").filter(has_text="A message: open")).to_be_visible()
        page.get_by_role("button", name="Test").click()
        expect(page.get_by_text("The test arrived")).to_be_visible()
        expect(page.get_by_role("listitem").filter(has_text="A message: done")).to_be_visible()
        self.next(page, "Backups")

    def backups(self, page: Page) -> None:
        page.get_by_role("button", name="Skip this").click()
        expect(page.get_by_role("heading", name="What is open")).to_be_visible()
        expect(page.get_by_role("listitem").filter(has_text="Backups skipped")).to_be_visible()
        page.get_by_role("link", name="Do it now").click()
        place = self.world.folder / "kept elsewhere"
        place.mkdir()
        page.get_by_role("button", name="Give a place for backups").click()
        page.get_by_label("Where").fill(str(place))
        for label in ("Passphrase", "The same again"):
            page.get_by_label(label, exact=True).fill("eleven brass escapements")
        page.get_by_role("button", name="Keep backups there").click()
        expect(page.get_by_role("dialog")).to_be_hidden()
        page.get_by_role("button", name="What is open").click()

    def first_build(self, page: Page) -> None:
        w = self.world
        path = write(w.folder, "first-piece.gcode", squares(layers=3, nozzle=205))
        page.goto(f"{w.address}/library")
        page.get_by_test_id("files").set_input_files([path])
        row = page.get_by_role("row", name=re.compile("first-piece"))
        row.get_by_role("button", name="Queue").click()
        page.get_by_role("button", name="Queue 1 copy").click()
        expect(page.get_by_role("heading", level=1, name="Queue")).to_be_visible()
        w.until("Anchor", MachineState.UNCLEARED)
        page.goto(w.address)
        hands = page.get_by_role("region", name="Next hands")
        hands.get_by_role("listitem").filter(has_text="Anchor").get_by_role("button", name="Clear").click()
        page.get_by_role("dialog").get_by_role("button", name="Clear, part is good").click()
        expect(page.get_by_role("dialog")).to_be_hidden()
        build = eventually(lambda: w.client.do(requests.builds(machine="Anchor")), "it is kept")[0]
        self.assertEqual((build.outcome, build.verdict, build.judged_by), ("completed", "good", "Tilda Moss"))
