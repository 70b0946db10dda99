"""Prices, costs and what has changed, in the browser."""

from __future__ import annotations

import re
import unittest
from datetime import UTC, datetime, timedelta

from playwright.sync_api import expect

from chronarch.client import requests
from chronarch.core.orders.states import Verdict
from chronarch.wire.orders.orders import NewOrder, NewOrderLine
from tests.support.browser import ConsoleCase
from tests.support.gcode import squares
from tests.support.past import put_build

MONDAY = datetime(2026, 9, 21, tzinfo=UTC)


class CostPages(ConsoleCase):
    machines = ("Anchor", "Bezel")

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        w = cls.world
        w.add_file("square.gcode", squares(layers=3))
        numbers = {machine: w.made("square.gcode", machine, Verdict.GOOD) for machine in cls.machines}
        for build in range(60):
            for machine, number in numbers.items():
                scrap = build % 10 == 0 or (machine == "Bezel" and build >= 40)
                ended = MONDAY + timedelta(days=build // 3, hours=8 + 3 * (build % 3))
                put_build(w, number, ended, "stringing" if scrap else "")

    def test_prices_are_set_and_an_order_is_quoted_and_released(self) -> None:
        client = self.world.client
        line = NewOrderLine(file="square.gcode", quantity=100)
        order = client.do(requests.make_order(NewOrder(customer="Loomfield", held=True, lines=[line])))
        page = self.open(f"/orders/{order.id}")
        expect(page.get_by_text(re.compile("Left out, because there is no price"))).to_be_visible()
        page.get_by_role("link", name="Prices").click()
        for of, price, said in (
            ("material", "500,5", "500.5 EUR a kg"), ("hands", "0.5", "0.5 EUR a minute"),
            ("overhead", "10", "10.0 % of all"),
        ):  # fmt: skip
            page.get_by_role("button", name="Set a price").click()
            page.get_by_label("Of", exact=True).select_option(of)
            page.get_by_label("Percent" if of == "overhead" else "Price", exact=True).fill(price)
            page.get_by_role("button", name="Set it").click()
            expect(page.get_by_text(said)).to_be_visible()
        page.get_by_role("button", name="Set a price").click()
        page.get_by_label("Of", exact=True).select_option("machine")
        page.get_by_label("from purchase, life and upkeep").check()
        page.get_by_label("Purchase", exact=True).fill("6000")
        page.get_by_label("Hours of its life").fill("0")
        page.get_by_role("button", name="Set it").click()
        expect(page.get_by_role("alert")).to_contain_text("greater than 0")
        page.get_by_label("Hours of its life").fill("3000")
        page.get_by_role("button", name="Set it").click()
        expect(page.get_by_text("2 EUR an hour")).to_be_visible()

        page.goto(f"{self.world.address}/orders/{order.id}")
        cost = client.do(requests.order_cost(order.id))
        expect(page.get_by_text(f"€{cost.price:,.2f}")).to_be_visible()
        expect(page.get_by_text("release it once it is accepted")).to_be_visible()
        page.get_by_role("link", name="Quote to print").click()
        expect(page.get_by_role("heading", name=f"Quote for order {order.id}")).to_be_visible()
        expect(page.get_by_text(f"€{cost.price:,.2f}").last).to_be_visible()
        expect(page.get_by_text(re.compile("Ready by .* if it is ordered now"))).to_be_visible()
        page.emulate_media(media="print")
        expect(page.get_by_role("button", name="Print")).to_be_hidden()
        expect(page.get_by_role("link", name="Orders")).to_be_hidden()

    def test_what_has_changed_is_shown_and_somebody_says_what_it_is(self) -> None:
        page = self.open("/records")
        expect(page.get_by_text("Nobody has looked yet")).to_be_visible()
        page.get_by_role("button", name="look now").click()
        expect(page.get_by_text(re.compile(r"Bezel: scrap rose from .* to "))).to_be_visible()
        page.get_by_role("button", name="seen", exact=True).click()
        page.get_by_label("What it is").fill("worn nozzle")
        page.get_by_role("button", name="Seen", exact=True).click()
        expect(page.get_by_text(re.compile("Seen by .*: worn nozzle"))).to_be_visible()
        page.get_by_role("link", name="the builds since").click()
        expect(page.get_by_role("cell", name=re.compile("scrap: stringing")).first).to_be_visible()
        self.assertIn("machine=Bezel", page.url)


if __name__ == "__main__":
    unittest.main()
