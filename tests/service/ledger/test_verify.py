"""The ledger proves itself: over HTTP, by the command, in health; what somebody breaks in the records is named."""

from __future__ import annotations

import json
from datetime import UTC, datetime, time, timedelta

from chronarch.client import RefusedByService, requests
from chronarch.core.orders.states import Verdict
from chronarch.wire.ledger.intervals import LedgerProof
from tests.support.gcode import squares
from tests.support.processes import run
from tests.support.world import WorldCase, eventually


class ProvingTheLedger(WorldCase):
    machines = ("Anchor", "Bezel")

    def proof(self, machine: str = "") -> LedgerProof:
        return self.world.client.do(requests.verify_ledger(machine))

    def test_what_is_broken_is_named_and_rebuilding_mends_the_days(self) -> None:
        w = self.world
        w.add_file("small.gcode", squares(layers=2))
        build = w.made("small.gcode", "Anchor", Verdict.GOOD)
        found = eventually(lambda: (p := self.proof()).builds and p, "the build is in the ledger")
        self.assertEqual((found.found, found.faults, found.machines, found.builds), (0, [], 2, 1))
        self.assertGreater(found.intervals, 5)
        self.assertGreater(found.grams, 0.0)
        self.assertIn("The ledger is whole.", self.shell(0))
        with self.assertRaisesRegex(RefusedByService, "no machine named"):
            self.proof("Nobody")

        w.sql(
            "update ledger set begin_at = begin_at + interval 1 microsecond where build_id = :build limit 1",
            build=build,
        )
        w.sql("update build set started_at = started_at - interval 5 minute, ended_at = ended_at - interval 4 minute"
              " where id = :build", build=build)  # fmt: skip
        faults = self.proof("Anchor").faults
        self.assertEqual({f.machine for f in faults}, {"Anchor"})
        texts = "\n".join(f.text for f in faults)
        self.assertIn("no interval covers the time", texts)
        self.assertIn(f"build {build} began at", texts)
        self.assertIn(f"build {build} ended at", texts)
        self.assertIn("are added up, the intervals have", texts)
        self.assertEqual(self.proof("Bezel").found, 0)
        self.assertIn("no interval covers the time", self.shell(1))
        health = w.client.do(requests.health())
        self.assertRegex(health.problems[0], r"the ledger has \d+ faults .*of Anchor")

        w.client.do(requests.rebuild_ledger())
        self.assertNotIn("are added up", "\n".join(f.text for f in self.proof().faults))
        self.assertGreater(json.loads(self.shell(1, "--json"))["found"], 0)

    def test_what_is_long_ago_is_rolled_up_and_the_figures_stay(self) -> None:
        w = self.world
        today = w.client.do(requests.shop()).now.date()
        day = today - timedelta(days=1200)
        w.sql("update ledger set begin_at = begin_at - interval 4 year where machine_id = (select id from machine where"
              " name = 'Bezel') order by begin_at limit 1")  # fmt: skip
        w.client.do(requests.rebuild_ledger())
        self.assertEqual(self.proof("Bezel").faults, [])
        with self.assertRaisesRegex(RefusedByService, "Three years are kept whole"):
            w.client.do(requests.roll_up_ledger(today - timedelta(days=1000)))
        would = w.client.do(requests.roll_up_ledger(day))
        self.assertEqual((would.done, would.intervals_were), (False, 1))
        self.assertEqual(w.client.do(requests.roll_up_ledger(day)), would, "nothing was done yet")
        said = self.shell(0, "--before", str(day), "--do", command="roll-up", key=w.key)
        self.assertIn(f"1 intervals of 2 machines are {would.intervals_are}", said)
        did = w.client.do(requests.roll_up_ledger(day))
        self.assertEqual((did.intervals_were, did.hours_are), (would.intervals_are, would.hours_were))
        self.assertGreater(sum(did.hours_are.values()), 24 * 200)
        self.assertEqual(self.proof("Bezel").faults, [])
        begin = datetime.combine(day - timedelta(days=3), time(), UTC)
        found = w.client.do(requests.ledger(begin, begin + timedelta(days=2), "Bezel"))
        self.assertEqual([i.end - i.begin for i in found if i.end], [timedelta(days=1)] * 2)

    def shell(self, code: int, *more: str, command: str = "verify", key: str = "") -> str:
        env = {"CHRONARCH_ADDRESS": self.world.address, "CHRONARCH_KEY": key or self.world.read_key}
        done = run("ledger", command, *more, env=env)
        self.assertEqual(done.returncode, code, done.stderr)
        return done.stdout
