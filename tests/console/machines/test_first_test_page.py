"""A machine that has joined is tried step by step, in a real browser."""

from __future__ import annotations

from playwright.sync_api import Locator, Page, expect

from chronarch.client import requests
from tests.support.browser import ConsoleCase
from tests.support.pictures import jpeg
from tests.support.world import eventually


class FirstTest(ConsoleCase):
    cameras = True
    rate = 20.0
    """What is warm is turned off by itself after a quarter of an hour: not before it was seen."""

    def step(self, page: Page, title: str) -> Locator:
        return page.locator("section", has=page.get_by_role("heading", name=title, exact=True))

    def test_it_heats_homes_and_goes_the_right_way(self) -> None:
        w = self.world
        page = self.open("/machines/Anchor/first-test", width=390, height=844)
        heat = self.step(page, "It heats")
        heat.get_by_role("button", name="Heat to 40 °C").click()
        expect(heat).to_contain_text("Both are warm")
        heat.get_by_role("button", name="Turn it off").click()
        expect(heat).to_contain_text("to 40 °C, and off again")
        eventually(lambda: w.standin("Anchor")["nozzle_asked_c"] == 0, "it is off")
        self.step(page, "It finds its home").get_by_role("button", name="Home it").click()
        x, y = self.step(page, "It moves along x"), self.step(page, "It moves along y")
        x.get_by_role("button", name="Move x").click()
        x.get_by_role("button", name="To the right").click()
        expect(x).to_contain_text("to the right")
        before = w.standin("Anchor")["position_mm"][1]
        y.get_by_role("button", name="Move y").click()
        y.get_by_role("button", name="Towards me").click()
        expect(y).to_contain_text("turned round: away from me from now on")
        self.assertEqual(w.client.do(requests.machine("Anchor")).model_detail.reversed_axes, "y")
        self.assertGreater(w.standin("Anchor")["position_mm"][1], before)
        y.get_by_role("button", name="Move y").click()
        expect(y.get_by_text("Which way did it go?")).to_be_visible()
        self.assertEqual(w.standin("Anchor")["position_mm"][1], before, "the other way round now")
        expect(self.step(page, "It is seen")).to_contain_text("by the camera Anchor")
        self.assert_fits(page)

    def test_its_photo_is_taken_on_its_page(self) -> None:
        page = self.open("/machines/Anchor")
        picture = {"name": "anchor.jpg", "mimeType": "image/jpeg", "buffer": jpeg(90)}
        page.get_by_label("A photo of Anchor").set_input_files([picture])
        expect(page.get_by_text("Another photo")).to_be_visible()
        self.assertTrue(self.world.client.do(requests.machine("Anchor")).photo)
