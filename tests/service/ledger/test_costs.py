"""What builds, parts and orders cost: by prices that hold from a day on, each sum equal to its parts."""

from __future__ import annotations

import json
from datetime import datetime, timedelta
from decimal import Decimal

from chronarch.client import RefusedByService, requests
from chronarch.core.ledger.costs import CostPart, RateKind
from chronarch.core.orders.states import Verdict
from chronarch.wire.ledger.costs import CostSettings, HoursPrice, NewRate
from chronarch.wire.ledger.figures import FiguresAsked
from chronarch.wire.library import NewPart
from chronarch.wire.machines.spools import NewSpool, SpoolUpdate
from chronarch.wire.orders.orders import NewOrder, NewOrderLine
from tests.support.gcode import squares
from tests.support.processes import run
from tests.support.world import WorldCase, eventually

D = Decimal
MONTH = timedelta(days=30)


class Costs(WorldCase):
    machines = ("Anchor", "Bezel")
    spool: int
    since: datetime
    good: int
    scrap: int

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        w = cls.world
        client = w.client
        w.add_file("square.gcode", squares(layers=3))
        client.do(requests.add_part(NewPart(name="square", files=[client.do(requests.file("square.gcode")).id])))
        cls.spool = client.do(requests.add_spool(NewSpool(material="PLA", colour="teal"))).id
        client.do(requests.load_spool(cls.spool, "Anchor", 0))
        cls.since = client.do(requests.shop()).now - MONTH
        for kind, price in (
            (RateKind.MATERIAL, "200"), (RateKind.ENERGY, "0.3"), (RateKind.MACHINE, "20"), (RateKind.HANDS, "0.5"),
            (RateKind.OVERHEAD, "0.1"),
        ):  # fmt: skip
            hours = [HoursPrice(begin=22, end=6, price=D("0.2"))] if kind is RateKind.ENERGY else []
            client.do(requests.set_cost_rate(NewRate(kind=kind, price=D(price), since=cls.since, hours=hours)))
        cls.good = w.made("square.gcode", "Anchor", Verdict.GOOD)
        cls.scrap = w.made("square.gcode", "Bezel", Verdict.SCRAP, "warped corner")

    def kept(self, measure: str, by: str = "machine") -> dict[str, float]:
        asked = FiguresAsked.model_validate({"measure": measure, "by": by})
        rows = self.world.client.do(requests.figures(asked)).rows
        return {" ".join(row.key): figure.value if (figure := row.figures[measure]) else 0.0 for row in rows}

    def test_a_build_says_what_it_cost_part_by_part(self) -> None:
        client = self.world.client
        build, found = client.do(requests.build(self.good)), client.do(requests.build_cost(self.good))
        assert build.started_at and build.ended_at
        parts = found.cost.parts
        hours = (build.ended_at - build.started_at) / timedelta(hours=1)
        self.assertAlmostEqual(float(parts[CostPart.MACHINE]), 20 * hours, delta=0.02)
        self.assertAlmostEqual(float(parts[CostPart.MATERIAL]), build.grams / 1000 * 200, delta=0.02)
        hands = D("0.5") * D(str(client.do(requests.planning()).clear_min))
        self.assertAlmostEqual(float(parts[CostPart.HANDS]), float(hands), delta=0.02)
        self.assertEqual(sum(parts.values()), found.cost.total)
        self.assertAlmostEqual(float(parts[CostPart.OVERHEAD]), float(found.cost.total) / 11, delta=0.02)
        self.assertEqual((found.currency, found.good_pieces, found.cost.unpriced), ("EUR", 1, [CostPart.ENERGY]))
        scrap = client.do(requests.build_cost(self.scrap))
        self.assertEqual((scrap.good_pieces, scrap.per_good_piece), (0, None))

    def test_figures_add_up_what_builds_cost_and_follow_the_prices(self) -> None:
        w = self.world
        one = float(w.client.do(requests.build_cost(self.good)).cost.total)
        eventually(lambda: all(self.kept("cost").get(name) for name in ("Anchor", "Bezel")), "both are worked out", 120)
        self.assertAlmostEqual(self.kept("cost")["Anchor"], one, delta=0.01)
        self.assertEqual(self.kept("scrap_cost")["Anchor"], 0)
        self.assertEqual(self.kept("scrap_cost")["Bezel"], self.kept("cost")["Bezel"])

        before = w.client.do(requests.build_cost(self.good)).cost.parts[CostPart.MATERIAL]
        w.client.do(requests.change_spool(self.spool, SpoolUpdate(price=D(2000))))

        def material() -> Decimal:
            return w.client.do(requests.build_cost(self.good)).cost.parts[CostPart.MATERIAL]

        eventually(lambda: abs(material() - before * 10) < D("0.1"), "the spool's own price counts", 120)
        rate = w.client.do(
            requests.set_cost_rate(NewRate(kind=RateKind.MACHINE, price=D(0), since=self.since + MONTH / 2))
        )
        free = eventually(
            lambda: w.client.do(requests.build_cost(self.good)).cost.parts.get(CostPart.MACHINE, D(0)) == 0,
            "the later price counts", 120,
        )  # fmt: skip
        self.assertTrue(free)
        w.client.do(requests.forget_cost_rate(rate.id))
        eventually(
            lambda: w.client.do(requests.build_cost(self.good)).cost.parts.get(CostPart.MACHINE, D(0)) > 0,
            "the price before holds on", 120,
        )  # fmt: skip

    def test_an_order_is_quoted_before_it_is_released_and_its_sums_are_its_parts(self) -> None:
        client = self.world.client
        lines = [NewOrderLine(part="square", quantity=3), NewOrderLine(file="square.gcode", quantity=7)]
        order = client.do(requests.make_order(NewOrder(customer="Loomfield", held=True, lines=lines)))
        found = client.do(requests.order_cost(order.id))
        quoted = [line.quoted for line in found.lines]
        assert quoted[0] and quoted[1] and found.ready
        self.assertEqual(sum(one.total for one in quoted if one), found.quoted.total)
        for part in CostPart:
            whole = found.quoted.parts.get(part, D(0))
            self.assertEqual(sum(one.parts.get(part, D(0)) for one in quoted if one), whole)
        self.assertAlmostEqual(float(quoted[1].total / quoted[0].total), 7 / 3, delta=0.05)
        self.assertEqual(found.price, (found.quoted.total / (1 - D("0.4"))).quantize(D("0.01")))
        self.assertEqual(sum(line.price or D(0) for line in found.lines), found.price)
        self.assertEqual((found.real.total, found.scrap), (0, 0))
        self.assertGreater(found.ready.late, client.do(requests.shop()).now)
        client.do(requests.set_cost_settings(CostSettings(margin=D("0.5"), step=D(1))))
        try:
            dearer = client.do(requests.order_cost(order.id))
            self.assertEqual(dearer.price, 2 * dearer.quoted.total)
            self.assertEqual(dearer.price % 1, 0)
        finally:
            client.do(requests.set_cost_settings(CostSettings()))

    def test_the_ways_to_make_a_part_stand_the_cheapest_first(self) -> None:
        found = self.world.client.do(requests.part_cost("square"))
        self.assertEqual([(way.file, way.pieces) for way in found.ways], [("square.gcode", 1)])
        self.assertEqual(found.ways[0].judged, 2)
        self.assertEqual(found.ways[0].each.total, sum(found.ways[0].each.parts.values()))

    def test_the_shell_sets_prices_and_says_what_things_cost(self) -> None:
        env = self.world.environment
        set_price = run("costs", "set", "material", "TPU", "31.5", "--since", "2026-10-01", env=env)
        self.assertRegex(set_price.stdout, r"Material of TPU: 31\.5 EUR a kg, from .*1 Oct")
        worked_out = run(
            "costs",
            "set",
            "machine",
            "Kiln 250",
            "--purchase",
            "4200",
            "--life-h",
            "9000",
            "--upkeep-h",
            "0.2",
            env=env,
        )
        self.assertIn("0.6667 EUR an hour (4200 / 9000 h + 0.2)", worked_out.stdout)
        rates = run("costs", "rates", env=env).stdout
        self.assertIn("0.3 EUR a kWh, 22-06 h 0.2", rates)
        self.assertIn("10.0% of all the rest", rates)
        self.assertRegex(run("costs", "build", str(self.good), env=env).stdout, r"Material +\d+\.\d\d EUR")
        ways = json.loads(run("costs", "part", "square", "--json", env=env).stdout)
        self.assertEqual(ways["ways"][0]["file"], "square.gcode")
        self.assertIn("Margin", run("costs", "settings", env=env).stdout)

    def test_what_cannot_be_is_said(self) -> None:
        env = self.world.environment
        for words, said in (
            (("energy", "cheap"), "'cheap' is no amount; write it like 24.90."),
            (("hands", "Maud", "1"), "hands has one price for the whole shop"),
            (("overhead", "15"), "write 0.15 for 15 %"),
            (("material", "PLA", "20", "--hours", "1-2=3"), "does not depend on the hour"),
            (("energy", "1", "--hours", "night"), "write hours like 22-6=0.22"),
        ):
            done = run("costs", "set", *words, env=env)
            self.assertEqual(done.returncode, 2, words)
            self.assertIn(said, done.stderr)
        for call, said in (
            (requests.order_cost(99), "There is no order 99"),
            (requests.build_cost(99), "There is no build 99"),
            (requests.forget_cost_rate(99), "There is no price 99"),
            (requests.part_cost("nothing"), "nothing"),
        ):
            with self.assertRaisesRegex(RefusedByService, said):
                self.world.client.do(call)
