"""Finding machines in a real browser: what is there, what it is, and its own click."""

from __future__ import annotations

from playwright.sync_api import Page, expect

from chronarch.client import requests
from chronarch.core.machines.model import MachineModel
from tests.support.browser import ConsoleCase
from tests.support.world import eventually


class FindingPages(ConsoleCase):
    machines = ("Anchor", "Bezel")
    new_shop = True

    @classmethod
    def prepare(cls) -> None:
        cls.world.setups = {"Anchor": {"announces": True, "model": "Lantern 220"}}
        super().prepare()
        cls.world.client.do(requests.add_model(MachineModel(name="Lantern 220", cold_extrusion_c=0)))

    def test_one_joins_by_its_own_button(self) -> None:
        page = self.open("/setup/finding", width=390, height=844)
        row = page.get_by_role("main").get_by_role("listitem").filter(has_text="Anchor")
        expect(row).to_contain_text("Lantern 220")
        self.assert_fits(page)
        row.get_by_role("button", name="Ask what it is").click()
        expect(row.get_by_role("button", name="Ask what it is")).to_have_count(0)
        row.get_by_role("button", name="Join…").click()
        expect(page.get_by_label("Name")).to_have_value("Anchor")
        page.get_by_role("button", name="By its button").click()
        expect(page.get_by_text("Nobody has clicked yet")).to_be_visible()
        self.click(page)
        expect(row).to_contain_text("is here already")

    def click(self, page: Page) -> None:
        """Press the machine's button until it is heard: it may not wait for it yet."""

        def gone() -> bool:
            self.world.fault("Anchor", "click")
            page.wait_for_timeout(300)
            return page.get_by_role("dialog").count() == 0

        eventually(gone, "it joins")

    def test_one_that_says_nothing_of_itself_is_asked_at_its_address(self) -> None:
        page = self.open("/setup/finding")
        page.get_by_label("Address").fill("tcp://127.0.0.1:9")
        page.get_by_role("button", name="Ask what it is").last.click()
        expect(page.get_by_role("alert")).to_contain_text("cannot be reached")
        page.get_by_label("Address").fill(f"tcp://127.0.0.1:{self.world.ports['Bezel']}")
        page.get_by_role("button", name="Ask what it is").last.click()
        row = page.get_by_role("main").get_by_role("listitem").filter(has_text=str(self.world.ports["Bezel"]))
        expect(row).to_contain_text("at its address")
        self.assertFalse(any(m.name == "Bezel" for m in self.world.client.do(requests.machines())))
