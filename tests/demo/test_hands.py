"""The demo's simulated hands: they do what a person would, in their time; a visitor comes first."""

from __future__ import annotations

import random
import time
import unittest

import httpx

from chronarch.client import requests
from chronarch.core.machines.states import MachineState
from chronarch.core.orders.states import Verdict
from chronarch.demo.hands import SimulatedHands, send_hands
from tests.support.gcode import squares
from tests.support.processes import run
from tests.support.world import WorldCase, eventually


class Hands(WorldCase):
    machines = ("Anchor", "Bezel")

    @classmethod
    def prepare(cls) -> None:
        w = cls.world
        w.environment["CHRONARCH_DEMO_HANDS"] = str(w.folder / "hands.json")
        w.start()
        w.add_file("piece.gcode", squares(layers=2, rounds=4))

    def setUp(self) -> None:
        self.hands = SimulatedHands(self.world.client, self.world.folder / "hands.json", lot=random.Random(1))
        send_hands(self.hands.state, away=False)
        for name in self.world.names:
            self.clear(name)

    def work(self) -> bool:
        self.hands.step()
        return True

    def uncleared(self, name: str) -> int:
        """The build that lies on a machine."""
        self.world.submit("piece.gcode", machine=name)
        build = eventually(lambda: self.world.machine(name).build, f"{name} builds")
        self.world.until(name, MachineState.UNCLEARED)
        return build.id

    def test_beds_are_cleared_and_judged_after_a_persons_time(self) -> None:
        w = self.world
        builds = [self.uncleared(name) for name in w.names]
        began = w.client.do(requests.shop()).now
        eventually(
            lambda: self.work() and all(w.client.do(requests.build(b)).verdict for b in builds), "all are judged"
        )
        took = [(w.client.do(requests.build(b)).cleared_at or began) - began for b in builds]
        self.assertGreater(min(t.total_seconds() for t in took), 60, "a person walks and takes minutes")
        for name in w.names:
            w.until(name, MachineState.IDLE)

    def test_a_pause_is_looked_at_and_goes_on(self) -> None:
        w = self.world
        w.add_file("long.gcode", squares(layers=6, rounds=40))
        build = w.build_of(w.submit("long.gcode", machine="Anchor"))
        w.until("Anchor", MachineState.BUILDING)
        w.client.do(requests.pause(build.id, "lay the mesh in"))
        w.until("Anchor", MachineState.PAUSED)
        eventually(lambda: self.work() and w.state("Anchor") is not MachineState.PAUSED, "it goes on")

    def test_sent_away_they_do_nothing_and_what_the_visitor_has_done_is_left(self) -> None:
        w = self.world
        said = run("demo", "hands", "away", "--folder", str(w.folder), env=w.environment)
        self.assertEqual(said.returncode, 1, "this is no demo's folder")
        (w.folder / "kept.json").write_text("{}")
        said = run("demo", "hands", "away", "--folder", str(w.folder), env=w.environment)
        self.assertIn("the rounds are yours", said.stdout)
        self.assertEqual(w.client.do(requests.shop()).simulated_hands, "away")
        build = self.uncleared("Anchor")
        for _ in range(20):
            self.work()
            time.sleep(0.05)  # ten seconds of the shop each
        self.assertIsNone(w.client.do(requests.build(build)).verdict)
        self.assertEqual(w.client.do(requests.send_hands(False)).simulated_hands, "here")
        self.hands.step()
        w.client.do(requests.verdict(build, Verdict.SCRAP, "the visitor has seen a scratch"))
        w.until("Anchor", MachineState.IDLE)
        eventually(lambda: self.work() and self.hands._task is None, "they find it done")
        self.assertIs(w.client.do(requests.build(build)).verdict, Verdict.SCRAP)

    def test_in_a_real_shop_there_are_none(self) -> None:
        w = self.world
        w.kill("service")
        del w.environment["CHRONARCH_DEMO_HANDS"]
        w.start_service()
        self.assertEqual(w.client.do(requests.shop()).simulated_hands, "")
        heads = {"Authorization": f"Bearer {w.key}"}
        answer = httpx.put(f"{w.address}/api/demo/hands", json={"away": True}, headers=heads, timeout=30)
        self.assertEqual(answer.status_code, 404)
        w.kill("service")
        w.environment["CHRONARCH_DEMO_HANDS"] = str(w.folder / "hands.json")
        w.start_service()


if __name__ == "__main__":
    unittest.main()
