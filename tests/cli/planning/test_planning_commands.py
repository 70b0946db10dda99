"""Orders, plan, what-if, rounds, spools and hours on the command line, as processes."""

from __future__ import annotations

import json
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path

import click

from chronarch.cli.when import parse_when
from chronarch.client import requests
from chronarch.core.machines.states import Intake
from chronarch.wire import library as wl
from chronarch.wire.planning import settings as ws
from tests.support.gcode import squares
from tests.support.processes import run
from tests.support.world import WorldCase

MONDAY = datetime(2026, 10, 19, 9, 12, tzinfo=UTC)


class Commands(WorldCase):
    machines = ("Anchor",)

    @classmethod
    def prepare(cls) -> None:
        w = cls.world
        w.start_standins()
        w.start_service()
        w.add_machines()
        w.client.do(requests.change_machine("Anchor", intake=Intake.MANUAL))
        w.start_tender()
        w.add_file("gauge.gcode", squares(layers=2))
        file = w.client.do(requests.change_file("gauge.gcode", wl.FileChange(pieces=4)))
        w.client.do(requests.add_part(wl.NewPart(name="ring gauge", files=[file.id])))

    def run_(self, *arguments: str, code: int = 0) -> str:
        done = run(*arguments, env=self.world.environment)
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        return done.stdout + done.stderr

    def test_an_order_from_its_making_to_its_end(self) -> None:
        made = self.run_("orders", "add", "Tern Island", "ring gauge=10,material=PLA,note=plug", "--due", "fri 12:00")
        self.assertRegex(
            made, r"Order \d+ for Tern Island: 0 of 10 good, 10 waiting; complete .* due Fri 12:00: in time"
        )
        number = made.split()[1]
        self.assertIn("Tern Island", self.run_("orders", "list"))
        shown = self.run_("orders", "show", number)
        self.assertIn("ring gauge", shown)
        self.assertIn("Anchor is idle: It waits for somebody to start it", self.run_("plan"))
        job = json.loads(self.run_("orders", "show", number, "--json"))["lines"][0]["id"]
        self.assertIn("start it on Anchor", self.run_("jobs", "why", str(job)))
        self.assertIn("start ring gauge", self.run_("rounds"))
        asked = self.run_("what-if", "--order", number, "--by", "mon 9:20", "--more", "2", "Anchor")
        self.assertIn("As it is", asked)
        self.assertIn("2 more like Anchor", asked)
        self.assertRegex(asked, r"asked for Mon \d\d Oct 09:20")
        self.assertIn("0 of 10 good", self.run_("orders", "change", number, "--priority", "1", "--due", "none"))
        self.assertIn("is cancelled", self.run_("orders", "cancel", number, "--yes"))
        self.assertIn("Order", self.run_("orders", "repeat", number))
        path = Path(self.world.folder) / "orders.csv"
        path.write_text("customer,part,quantity\nLoomfield,ring gauge,4\n")
        self.assertIn("Loomfield", self.run_("orders", "add-csv", str(path)))
        path.write_text("customer,part\nLoomfield,no such part\n")
        self.assertIn("no such part", self.run_("orders", "add-csv", str(path), code=1))

    def test_spools_hours_strategy_stock_and_links(self) -> None:
        number = self.run_("spools", "add", "PLA", "ochre", "--left", "300").split()[1].rstrip(":")
        self.assertIn("Anchor has ochre PLA, 300 g", self.run_("spools", "load", number, "Anchor"))
        self.assertIn("280 g", self.run_("spools", "weigh", number, "280"))
        self.assertIn("weighed", self.run_("spools", "history", number))
        self.assertIn("on Anchor", self.run_("spools", "list"))
        self.run_("hours", "set", "mon-fri", "8:00-12:00", "13:00-17:00")
        self.run_("hours", "set", "2026-10-21")
        shown = self.run_("hours", "show")
        self.assertIn("08:00 to 12:00, 13:00 to 17:00", shown)
        self.assertIn("differs", shown)
        self.assertIn("* hands-aware", self.run_("plan", "strategy", "hands-aware"))
        self.run_("stock", "count", "ring gauge", "7")
        self.assertIn("7", self.run_("stock", "list"))
        self.assertIn("/help#", self.run_("rounds", "help-link", "Saturday help"))
        self.assertIn("Saturday help", self.run_("rounds", "help-links"))
        self.assertIn("revoked", self.run_("rounds", "revoke-link", "1"))
        self.assertIn("No build followed", self.run_("report", "turnaround"))

    def test_what_hands_take_and_have_is_set(self) -> None:
        before = self.world.client.do(requests.planning())
        as_it_was = ws.PlanningUpdate(**before.model_dump())
        self.addCleanup(lambda: self.world.client.do(requests.change_planning(as_it_was)))
        self.assertRegex(
            self.run_("plan", "settings"), r"to change a nozzle +15 min\s+.*\s+nozzles in the drawer +none"
        )
        said = self.run_(
            "plan",
            "settings",
            "--nozzle",
            "8.5",
            "--spare",
            "0.6",
            "--spare",
            "0.4 hardened",
            "--scrap-reason",
            "split",
        )
        self.assertRegex(said, r"nozzle +8.5 min[^~]+drawer +0.6 mm, hardened 0.4 mm\s+reasons for scrap +split\s")
        now = json.loads(self.run_("plan", "settings", "--spare", "none", "--json"))
        self.assertEqual((now["spare_nozzles"], now["nozzle_min"], now["clear_min"]), ([], 8.5, before.clear_min))
        self.assertIn("'0.4 golden' is no nozzle", self.run_("plan", "settings", "--spare", "0.4 golden", code=2))
        self.assertIn("less than or equal to 600", self.run_("plan", "settings", "--walk", "601", code=2))

    def test_a_machine_is_given_its_place_pools_and_tags(self) -> None:
        said = self.run_(
            "machines", "change", "Anchor", "--site", "Quay", "--place", "B1", "--pool", "small", "--tag", "loud"
        )
        self.assertEqual(said, "Anchor: at Quay B1; in small; tagged loud.\n")
        self.assertRegex(self.run_("machines", "show", "Anchor"), r"Place +Quay B1\s+Pools +small\s+Tags +loud")
        job = self.run_("jobs", "submit", "gauge.gcode", "--tags", "not loud").split()[1].rstrip(":,")
        self.assertIn("loud", self.run_("jobs", "why", job))
        self.run_("jobs", "withdraw", job)
        self.assertEqual(self.run_("machines", "change", "Anchor", "--no-tags"), "Anchor: at Quay B1; in small.\n")
        said = self.run_("machines", "change", "Anchor", "--site", "", "--place", "", "--no-pools")
        self.assertEqual(said, "Anchor: no place, pool or tag.\n")

    def test_wrong_use_says_what_to_do(self) -> None:
        for arguments, words in (
            (("orders", "add", "x", "ring gauge"), "does not say how many"),
            (("orders", "add", "x", "ring gauge=2,size=3"), "is not understood"),
            (("what-if",), "Say what would be otherwise"),
            (("what-if", "--order", "1"), "--by when"),
            (("what-if", "--more", "two", "Anchor"), "is no number"),
            (("orders", "add", "x", "ring gauge=2", "--due", "someday"), "is no time"),
        ):
            with self.subTest(arguments=arguments):
                self.assertIn(words, self.run_(*arguments, code=2))


class Times(unittest.TestCase):
    def test_times_as_people_type_them(self) -> None:
        local = MONDAY.astimezone()
        noon = local.replace(hour=12, minute=0)
        for text, wanted in (
            ("12:00", noon),
            ("08:00", local.replace(hour=8, minute=0) + timedelta(days=1)),
            ("fri noon", noon + timedelta(days=4)),
            ("Tuesday 7", local.replace(hour=7, minute=0) + timedelta(days=1)),
            ("tomorrow", local.replace(hour=17, minute=0) + timedelta(days=1)),
            ("mon 8:00", local.replace(hour=8, minute=0) + timedelta(days=7)),
        ):
            with self.subTest(text=text):
                self.assertEqual(parse_when(text, MONDAY), wanted)
        self.assertEqual(parse_when("2026-10-23 12:00", MONDAY).day, 23)

    def test_what_is_no_time_says_so(self) -> None:
        for text in ("", "someday", "25:00", "fri 9:75"):
            with self.subTest(text=text), self.assertRaises(click.BadParameter):
                parse_when(text, MONDAY)
