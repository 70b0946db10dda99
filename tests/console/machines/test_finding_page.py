"""Finding machines in a real browser: what is there, what it is, and its own click."""

from __future__ import annotations

import re

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
        row = page.get_by_role("main").get_by_role("listitem").filter(has_text=f":{self.world.ports['Anchor']}")
        expect(row).to_contain_text("Lantern 220")
        self.assert_fits(page)
        row.get_by_role("button", name="Ask what it is").click()
        expect(row.get_by_role("button", name="Ask what it is")).to_have_count(0)
        row.get_by_role("button", name="Join…").click()
        expect(page.get_by_label("Name")).to_have_value(re.compile(r"Anchor(-\d+)?"))
        page.get_by_label("Name").fill("Anchor")
        page.get_by_role("button", name="By its button").click()
        expect(page.get_by_text("Nobody has clicked yet")).to_be_visible()
        self.click(page)
        expect(row).to_contain_text("is here already")

    def test_many_come_from_a_table_once_it_was_shown_what_would_change(self) -> None:
        do = self.world.client.do
        page = self.open("/setup")
        twice = "name;place\nCrown;C1\ncrown;C2\n"
        table = "name;model;link;place\nCrown;Lantern 220;tcp://127.0.0.1:7201;C1\nDial;Lantern 220;tcp://127.0.0.1:7202;C2\n"
        picker = page.get_by_label("A table of machines")
        picker.set_input_files([{"name": "many.csv", "mimeType": "text/csv", "buffer": twice.encode()}])
        expect(page.get_by_role("alert")).to_contain_text("Crown: model: Field required")
        picker.set_input_files([{"name": "many.csv", "mimeType": "text/csv", "buffer": table.encode()}])
        dialog = page.get_by_role("dialog", name="2 things would change")
        expect(dialog).to_contain_text("machine Dial")
        dialog.get_by_role("button", name="Change them").click()
        expect(dialog).to_be_hidden()
        expect(page.get_by_role("main").get_by_role("listitem").filter(has_text="Dial")).to_contain_text("C2")
        self.assertEqual(do(requests.machine("Crown")).place, "C1")
        page.get_by_role("button", name="Change Crown").click()
        dialog = page.get_by_role("dialog", name="Crown")
        dialog.get_by_label("Address").fill("tcp://127.0.0.1:7202")
        dialog.get_by_role("button", name="Change it").click()
        expect(dialog.get_by_role("alert")).to_contain_text("is Dial's link already")
        dialog.get_by_label("Address").fill("tcp://127.0.0.1:7203")
        dialog.get_by_label("Place").fill("C9")
        dialog.get_by_role("button", name="Change it").click()
        expect(dialog).to_be_hidden()
        crown = do(requests.machine("Crown"))
        self.assertEqual((crown.link, crown.place), ("tcp://127.0.0.1:7203", "C9"))
        page.get_by_role("button", name="Add a material…").click()
        page.get_by_label("Name", exact=True).fill("PA-CF")
        page.get_by_label("Density, g/cm³").fill("1.22")
        page.get_by_role("button", name="Add it").click()
        row = page.get_by_role("listitem").filter(has_text="PA-CF")
        expect(row).to_contain_text("1.22 g/cm³ · nozzle 210 °C · bed 60 °C · your own")
        page.get_by_role("button", name="Change PA-CF").click()
        page.get_by_role("button", name="Forget your own figures").click()
        expect(row).to_have_count(0)

    def test_a_model_just_made_can_be_chosen_before_the_list_is_read_again(self) -> None:
        page = self.open("/setup")
        page.get_by_role("button", name="Add one by its address…").click()
        page.get_by_label("Model").select_option("a new model…")
        made = page.get_by_role("dialog", name="A new model")
        made.get_by_label("Name of the model").fill("Mantel 180")
        page.route("**/api/models", lambda r: r.continue_() if r.request.method == "POST" else r.abort())
        made.get_by_role("button", name="Add the model").click()
        expect(made).to_be_hidden()
        expect(page.get_by_label("Model")).to_have_value("Mantel 180")
        page.unroute("**/api/models")

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
