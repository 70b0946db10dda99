"""The history of builds in the browser: narrowed, saved as a view, made again; and a build's own page."""

from __future__ import annotations

import re
import unittest

from playwright.sync_api import Page, expect

from chronarch.client import requests
from chronarch.core.machines.states import MachineState
from chronarch.core.orders.states import Verdict
from chronarch.wire.ledger import history as h
from tests.support.browser import ConsoleCase
from tests.support.gcode import squares
from tests.support.world import eventually


class History(ConsoleCase):
    machines = ("Anchor", "Bezel")
    good: int
    scrap: int

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        w = cls.world
        w.add_file("little.gcode", squares(layers=3))
        w.add_file("more.gcode", squares(layers=5))
        cls.good = w.made("little.gcode", "Anchor", Verdict.GOOD)
        cls.scrap = w.made("more.gcode", "Bezel", Verdict.SCRAP, "warped corner")

    def rows(self, page: Page, *texts: str) -> None:
        """The list shows builds of these files and of no other."""
        rows = page.locator("tbody tr")
        for text in texts:
            expect(rows.filter(has_text=text).first).to_be_visible()
        expect(rows.filter(has_not_text=re.compile("|".join(texts)))).to_have_count(0)

    def test_the_list_is_narrowed_and_the_view_is_saved_under_a_name(self) -> None:
        page = self.open("/records")
        page.get_by_role("link", name="All builds").click()
        self.rows(page, "more.gcode", "little.gcode")
        page.get_by_label("Verdict").select_option("scrap")
        self.rows(page, "more.gcode")
        self.assertIn("verdict=scrap", page.url)
        page.get_by_role("button", name="Save this view").click()
        page.get_by_label("Its name").fill("All scrap")
        page.get_by_role("button", name="Save", exact=True).click()
        saved = page.get_by_role("button", name="All scrap", exact=True)
        expect(saved).to_have_attribute("aria-pressed", "true")
        page.get_by_role("button", name="All builds").click()
        self.rows(page, "more.gcode", "little.gcode")
        saved.click()
        self.rows(page, "more.gcode")
        (view,) = self.world.client.do(requests.saved_views())
        self.assertEqual(view.asked, h.BuildSearch(verdict=h.BuildVerdict.SCRAP))
        page.get_by_label("Forget the view All scrap").click()
        expect(saved).to_have_count(0)
        self.assertEqual(self.world.client.do(requests.saved_views()), [])
        page.get_by_label("Period").select_option("dates")
        page.get_by_label("Began before").fill("1 Jan 2020, 12:00")
        expect(page.get_by_text("No build is like that")).to_be_visible()
        page.get_by_label("Period").select_option("7")
        self.rows(page, "more.gcode")

    def test_one_is_chosen_and_made_again(self) -> None:
        page = self.open("/records/builds?file=little.gcode&machine=Anchor")
        page.get_by_label(f"Choose build {self.good}").check()
        page.get_by_role("button", name="Make it again").click()
        said = page.get_by_text(re.compile(r"Queued as job \d+"))
        expect(said).to_be_visible()
        eventually(lambda: self.world.state("Anchor") is not MachineState.IDLE, "it is made")
        self.clear("Anchor")

    def test_a_builds_page_tells_its_life_its_layers_and_what_is_written_beside_it(self) -> None:
        page = self.open(f"/builds/{self.scrap}")
        life = page.locator("section", has=page.get_by_role("heading", name="Its life"))
        for state in ("warming", "building", "uncleared"):
            expect(life.get_by_text(state, exact=True)).to_be_visible()
        plan = page.locator("section", has=page.get_by_role("heading", name="Against its plan"))
        expect(plan.get_by_role("img", name="How long each layer took")).to_be_visible()
        expect(plan).to_contain_text("were planned")
        expect(page.get_by_text("scrap: warped corner")).to_be_visible()
        page.get_by_role("button", name="Write one").click()
        page.get_by_label("Note").fill("The bed was cold.")
        page.get_by_label("Tags").fill("winter, #bed")
        page.get_by_role("button", name="Keep", exact=True).click()
        expect(page.get_by_text("The bed was cold.")).to_be_visible()
        page.get_by_role("link", name="#winter").click()
        self.rows(page, "more.gcode")
        build = self.world.client.do(requests.build(self.scrap))
        self.assertEqual((build.note, build.tags), ("The bed was cold.", ["bed", "winter"]))


if __name__ == "__main__":
    unittest.main()
