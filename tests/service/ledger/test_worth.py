"""Is it worth a machine? Asked of a recorded time through the service and the shell."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta

from chronarch.client import RefusedByService, requests
from chronarch.core.orders.states import Verdict
from tests.support.gcode import squares
from tests.support.past import put_build
from tests.support.processes import run
from tests.support.world import WorldCase

MONDAY = datetime(2026, 10, 5, tzinfo=UTC)


class Worth(WorldCase):
    machines = ("Anchor", "Bezel")

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        w = cls.world
        w.add_file("little.gcode", squares(layers=2))
        numbers = {machine: w.made("little.gcode", machine, Verdict.GOOD) for machine in cls.machines}
        for build in range(60):
            for machine, number in numbers.items():
                scrap = "stringing" if machine == "Bezel" and build % 3 == 0 else ""
                put_build(w, number, MONDAY + timedelta(hours=2 * build + 3), scrap)
        w.sql("update job set created_at = :at", at=MONDAY.replace(tzinfo=None))

    def test_it_says_what_work_waited_for_and_what_would_have_helped(self) -> None:
        w = self.world
        found = w.client.do(requests.worth(MONDAY, MONDAY + timedelta(days=7)))
        self.assertEqual((found.jobs, found.builds, found.recorded.builds), (2, 120, 120))
        more = next(one for one in found.scenarios if one.name.startswith("more "))
        less = next(one for one in found.scenarios if one.name == "less Bezel")
        self.assertGreater(more.wait_less_h, 1)
        self.assertLess(less.wait_less_h, -1)
        self.assertLess(less.outcome.builds, found.planned.builds)
        self.assertIn("one more Lantern 220", found.answer)
        waits = found.machines_h + found.hands_h + found.other_h
        self.assertAlmostEqual(waits, sum(2 * (2 * build + 1) for build in range(60)), delta=2)

    def test_a_time_without_work_and_one_that_is_too_long_are_said(self) -> None:
        client = self.world.client
        early = client.do(requests.worth(MONDAY - timedelta(days=60), MONDAY - timedelta(days=50)))
        self.assertEqual((early.builds, early.answer), (0, "Nothing waited in that time."))
        with self.assertRaisesRegex(RefusedByService, "at most 92 days"):
            client.do(requests.worth(MONDAY - timedelta(days=100), MONDAY))

    def test_the_shell_tells_it(self) -> None:
        span = "--from", "2026-10-05", "--to", "2026-10-12"
        said = run("report", "worth", *span, env=self.world.environment).stdout
        self.assertRegex(said, r"one more Lantern 220 +\d+ ")
        self.assertIn("Builds waited for machines", said)
        told = json.loads(run("report", "worth", *span, "--json", env=self.world.environment).stdout)
        self.assertEqual(told["builds"], 120)
