"""The service's health, over HTTP and from the shell."""

from __future__ import annotations

import unittest
from datetime import timedelta

from websockets.sync.client import connect

from chronarch.client import requests
from chronarch.core.machines.states import MachineState
from chronarch.wire.control.upstream import Hello, Sample
from chronarch.wire.machines.machine import Reading
from chronarch.wire.system.health import Health
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
        self.a_clock_that_is_wrong_is_told()

    def a_clock_that_is_wrong_is_told(self) -> None:
        w = self.world
        headers = {"Authorization": f"Bearer {w.tender_key}"}
        with connect(
            w.address.replace("http", "ws", 1) + "/api/tender", additional_headers=headers, proxy=None
        ) as talk:
            talk.send(Hello(tender="tender", epoch="of the wrong clock").model_dump_json())
            talk.recv(60)

            def say(ahead_s: float) -> None:
                at = w.client.do(requests.shop()).now + timedelta(seconds=ahead_s * w.rate)
                reading = Reading(at=at)
                state = MachineState.IDLE
                sample = Sample(machine="Anchor", state=state, connected=True, reading=reading)
                for _ in range(20):
                    talk.send(sample.model_dump_json())

            say(3600)
            notice = eventually(
                lambda: [n for n in w.client.do(requests.notices(open=True)) if "clock of the tender tender" in n.text],
                "it is a notice",
            )[0]
            self.assertRegex(notice.text, r"is \d+ min ahead of the service's")
            self.assertIn("the clock of the tender tender is", self.shell(1))
            say(0)
            eventually(lambda: w.client.do(requests.notice(notice.id)).closed_at, "it is over once the clock is right")

    def all_beat(self) -> Health | None:
        found = self.world.client.do(requests.health())
        return found if all(one.beat_at for one in found.workers) else None

    def shell(self, code: int) -> str:
        done = run("health", env={"CHRONARCH_ADDRESS": self.world.address, "CHRONARCH_KEY": self.world.read_key})
        self.assertEqual(done.returncode, code, done.stderr)
        return done.stdout


if __name__ == "__main__":
    unittest.main()
