"""Figures in the browser: asked, drawn, opened down to the builds, taken away."""

from __future__ import annotations

import re
import unittest
from pathlib import Path

from playwright.sync_api import expect

from chronarch.core.orders.states import Verdict
from tests.support.browser import ConsoleCase
from tests.support.gcode import squares


class FiguresPage(ConsoleCase):
    machines = ("Anchor", "Bezel")

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        w = cls.world
        w.add_file("little.gcode", squares(layers=3))
        w.made("little.gcode", "Anchor", Verdict.GOOD)
        w.made("little.gcode", "Bezel", Verdict.SCRAP, "warped corner")

    def test_a_question_is_drawn_and_opens_down_to_its_builds(self) -> None:
        page = self.open("/records")
        page.get_by_role("link", name="Figures", exact=True).click()
        expect(page.get_by_role("heading", name="Productive share by machine")).to_be_visible()
        page.get_by_role("button", name="Which machine is worse").click()
        heading = page.get_by_role("heading", name="Scrap share by machine")
        expect(heading).to_be_visible()
        expect(page.get_by_text("50.0 %", exact=True).first).to_be_visible()
        chart = page.get_by_role("img", name="Scrap share; the table below has the same figures")
        expect(chart.get_by_text("Bezel", exact=True)).to_be_visible()
        self.assertIn("measure=scrap_share", page.url)
        row = page.locator("tbody tr").filter(has_text="Bezel")
        expect(row).to_contain_text("100.0 %")
        expect(row).to_contain_text("scrap 1 · judged 1")
        self.assert_fits(self.open(page.url.removeprefix(self.world.address), 390, 844))
        chart.locator("a").first.click()
        expect(page).to_have_url(re.compile(r"/records/builds\?.*machine=(Anchor|Bezel)"))
        expect(page.locator("tbody tr").filter(has_text="little.gcode")).to_have_count(1)
        self.assertEqual(self.faults, [])

    def test_measures_parts_and_charts_are_chosen(self) -> None:
        page = self.open("/records/figures?days=7")
        page.get_by_label("Measure").select_option(label="Builds")
        page.get_by_label("By", exact=True).select_option(label="scrap reason")
        expect(page.get_by_role("heading", name="Builds by scrap reason")).to_be_visible()
        page.get_by_role("button", name="Bars").click()
        expect(page.get_by_role("img", name="Builds; the table")).to_contain_text("warped corner")
        page.get_by_label("And by").select_option(label="machine")
        expect(page.locator("tbody tr").filter(has_text="warped corner")).to_contain_text("Bezel")
        page.get_by_label("beside the time before").click()
        expect(page.get_by_text("0 in the time before")).to_be_visible()
        page.get_by_label("Measure").select_option(label="OEE")  # of machines' time: what was built goes
        expect(page.get_by_role("heading", name="OEE by machine")).to_be_visible()
        expect(page.get_by_text("availability × effectiveness × quality rate")).to_be_visible()

    def test_a_chart_is_taken_away(self) -> None:
        page = self.open("/records/figures?measure=builds&by=machine&chart=bars")
        expect(page.get_by_role("img", name="Builds; the table")).to_be_visible()
        for name, begins in (("SVG", b"<svg"), ("PNG", b"\x89PNG"), ("CSV", b"machine,builds")):
            with page.expect_download() as got:
                page.get_by_text(name, exact=True).click()
            self.assertEqual(got.value.suggested_filename, f"builds-by-machine.{name.lower()}")
            content = Path(got.value.path()).read_bytes()
            self.assertTrue(content.startswith(begins), content[:60])
            if name == "SVG":
                self.assertNotIn(b"var(--", content)
                self.assertIn(b"Anchor", content)


if __name__ == "__main__":
    unittest.main()
