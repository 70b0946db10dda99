"""What has changed: found in the records, told, seen by somebody, and over when it is."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta

from chronarch.client import RefusedByService, requests
from chronarch.core.ledger.change_point_kinds import ChangePointKind
from chronarch.core.orders.states import Verdict
from chronarch.wire.ledger.change_points import ChangePointsReport
from chronarch.wire.ledger.history import BuildSearch
from tests.support.gcode import squares
from tests.support.past import put_build
from tests.support.processes import run
from tests.support.world import WorldCase, eventually

MONDAY = datetime(2026, 9, 21, tzinfo=UTC)
"""Four weeks before the shop's today."""
DAYS = 28
WORSE_FROM = 18


class Changed(WorldCase):
    """Bezel's scrap rises from one in ten to six in ten; Anchor's stays at one in ten."""

    machines = ("Anchor", "Bezel")

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        w = cls.world
        w.add_file("little.gcode", squares(layers=2))
        numbers = {machine: w.made("little.gcode", machine, Verdict.GOOD) for machine in cls.machines}
        for build in range(3 * DAYS):
            ended = MONDAY + timedelta(days=build // 3, hours=8 + 3 * (build % 3))
            worse = build // 3 >= WORSE_FROM and build % 5 != 0
            for machine, number in numbers.items():
                scrap = build % 10 == 0 or (machine == "Bezel" and worse)
                put_build(w, number, ended, "stringing" if scrap else "")

    def look(self) -> ChangePointsReport:
        return self.world.client.do(requests.look_for_change_points())

    def test_a_change_is_named_with_its_builds_told_and_seen(self) -> None:
        w = self.world
        report = self.look()
        self.assertEqual([(one.kind, one.subject) for one in report.change_points], [(ChangePointKind.SCRAP, "Bezel")])
        self.assertGreaterEqual(report.series, 3)
        found = report.change_points[0]
        self.assertRegex(found.text, r"^Bezel: scrap rose from \d+\.\d % to \d+\.\d %$")
        self.assertLess(abs(found.since - (MONDAY + timedelta(days=WORSE_FROM))), timedelta(days=3))
        self.assertTrue(found.low <= found.after - found.before <= found.high)
        self.assertLess(found.chance, 0.01)
        behind = w.client.do(requests.history(BuildSearch.model_validate(found.builds)))
        self.assertEqual({build.machine for build in behind}, {"Bezel"})
        self.assertGreaterEqual(len(behind), found.counted_after)
        told = [n for n in w.client.do(requests.notices(open=True)) if n.kind == "worth-a-look"]
        self.assertEqual(len(told), 1)
        self.assertIn(found.text, told[0].text)

        again = self.look().change_points[0]
        self.assertEqual((again.id, again.found_at), (found.id, found.found_at))
        seen = w.client.do(requests.change_point_seen(found.id, "worn nozzle"))
        self.assertEqual((seen.note, seen.seen_at is not None), ("worn nozzle", True))
        self.assertFalse([n for n in w.client.do(requests.notices(open=True)) if n.kind == "worth-a-look"])
        self.assertTrue(self.look().change_points[0].seen_at)

        said = run("report", "changed", env=w.environment).stdout
        self.assertIn(found.text, said)
        self.assertIn("worn nozzle", said)
        self.assertEqual(
            json.loads(run("report", "changed", "--json", env=w.environment).stdout)["change_points"][0]["id"], found.id
        )

        w.sql("update build set verdict = 'good', scrap_reason = '' where verdict = 'scrap'")
        report = self.look()
        self.assertEqual(report.change_points, [])
        over = w.client.do(requests.change_points(over=True)).change_points
        self.assertEqual([(one.id, one.over_at is not None) for one in over], [(found.id, True)])
        self.assertIn("Nothing has changed beyond chance", run("report", "changed", env=w.environment).stdout)

    def test_each_night_it_is_looked_again(self) -> None:
        w = self.world
        before = w.client.do(requests.shop()).now - timedelta(days=2)
        w.sql("delete from change_point_pass")
        w.sql(
            "insert into change_point_pass (at, begin_at, series, named) values (:at, :at, 0, 0)",
            at=before.replace(tzinfo=None),
        )
        w.kill("service")
        w.start_service()

        def looked() -> bool:
            report = w.client.do(requests.change_points())
            return report.looked_at is not None and report.looked_at > before + timedelta(days=1)

        eventually(looked, "the night's pass is made up for", 120)

    def test_what_is_not_there_cannot_be_seen(self) -> None:
        with self.assertRaisesRegex(RefusedByService, "There is no change point 999"):
            self.world.client.do(requests.change_point_seen(999))
