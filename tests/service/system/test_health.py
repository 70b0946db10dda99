"""The service's health, over HTTP and from the shell."""

from __future__ import annotations

import unittest

from chronarch.client import requests
from chronarch.wire.system import Health
from tests.support.processes import run
from tests.support.world import WorldCase, eventually


class HealthOfTheService(WorldCase):
    @classmethod
    def prepare(cls) -> None:
        cls.world.start_service()

    def test_workers_beat_and_a_tender_that_is_away_is_told(self) -> None:
        w = self.world
        found = eventually(self.all_beat, "every worker has done its first step")
        self.assertEqual((found.problems, found.database.problem), ([], ""))
        self.assertGreater(found.disk_size, found.disk_free)
        self.assertEqual([o.restarts for o in found.workers], [0] * len(found.workers))
        self.assertIn("All is well.", self.shell(0))
        w.add_machines()
        self.assertIn("tender tender is away; it has 1 machine", self.shell(1))

    def all_beat(self) -> Health | None:
        found = self.world.client.do(requests.health())
        return found if all(one.beat_at for one in found.workers) else None

    def shell(self, code: int) -> str:
        done = run("health", env={"CHRONARCH_ADDRESS": self.world.address, "CHRONARCH_KEY": self.world.read_key})
        self.assertEqual(done.returncode, code, done.stderr)
        return done.stdout


if __name__ == "__main__":
    unittest.main()
