"""What is broken, and what must hold: the machine runs the file's commands exactly once and in order, and nothing is
lost. Each test compares what the stand-in executed with the file."""

from __future__ import annotations

import itertools
import signal

import httpx

from chronarch.client import requests
from chronarch.core.states import MachineState, Outcome, Verdict
from chronarch.wire.work import Build
from tests.support.gcode import commands, executed_sha256, squares
from tests.support.world import WorldCase, eventually

LONG = squares(layers=14, rounds=20, side=50, feed=3000)
"""About 1400 commands and 1100 s of motion: some six seconds at this world's rate."""


class Faults(WorldCase):
    machines = ("Anchor", "Bezel")
    rate = 200.0
    own_database = True

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        cls.world.add_file("long.gcode", LONG)

    def start_build(self, name: str = "Anchor") -> Build:
        self.clear(name)
        job = self.world.submit("long.gcode", machine=name)
        build = self.world.build_of(job)
        self.world.until(name, MachineState.BUILDING)
        self.world.taken(name, 150)
        return build

    def assert_made(self, build: Build, within_s: float = 60.0) -> None:
        """The build completes, the machine ran the file exactly, the ledger is whole, and the verdict counts."""
        w = self.world
        w.until(build.machine, MachineState.UNCLEARED, within_s)
        standin = w.standin(build.machine)
        self.assertEqual(standin["taken"], len(commands(LONG)))
        self.assertEqual(standin["sha256"], executed_sha256(LONG))
        ended = w.client.do(requests.build(build.id))
        self.assertEqual((ended.outcome, ended.acknowledged), (Outcome.COMPLETED, len(commands(LONG))))
        self.assertEqual((standin["nozzle_asked_c"], standin["bed_asked_c"]), (0, 0))
        entries = w.client.do(requests.ledger(machine=build.machine))
        for before, after in itertools.pairwise(entries):
            self.assertEqual(before.end, after.begin, "the ledger has no gap and no overlap")
        w.client.do(requests.verdict(build.id, Verdict.GOOD))
        self.assertEqual(w.client.do(requests.job(build.job)).good, 1)

    def test_the_service_killed_in_mid_build_and_started_again(self) -> None:
        w = self.world
        build = self.start_build()
        w.kill("service", signal.SIGKILL)
        taken = w.standin("Anchor")["taken"]
        w.taken("Anchor", taken + 200)
        w.start_service()
        eventually(lambda: w.machine("Anchor").reachable, "the tender is back")
        self.assert_made(build)

    def test_a_build_that_ends_while_the_service_is_away_is_known_when_it_is_back(self) -> None:
        w = self.world
        build = self.start_build()
        w.kill("service", signal.SIGKILL)
        w.taken("Anchor", len(commands(LONG)))
        w.start_service()
        self.assert_made(build)
        ended = w.client.do(requests.build(build.id)).ended_at
        cooled = [e for e in w.client.do(requests.ledger(machine="Anchor")) if e.build == build.id][-1]
        self.assertEqual((cooled.state, cooled.begin), (MachineState.UNCLEARED, ended), "events keep their own times")

    def test_the_database_stopped_for_ten_seconds_in_mid_build(self) -> None:
        w = self.world
        build = self.start_build()
        w.server.kill()
        taken = w.standin("Anchor")["taken"]
        w.taken("Anchor", min(taken + 400, len(commands(LONG))))
        headers = {"Authorization": f"Bearer {w.key}"}
        answer = httpx.get(f"{w.address}/api/jobs", headers=headers, timeout=20)
        self.assertEqual((answer.status_code, answer.headers["retry-after"]), (503, "3"))
        self.assertIn("database does not answer", answer.json()["detail"])
        down_until = w.clock.monotonic_s() + 10
        eventually(lambda: w.clock.monotonic_s() > down_until, "ten seconds without a database")
        w.server.start()
        self.assert_made(build)

    def test_one_line_in_two_hundred_damaged_both_ways(self) -> None:
        w = self.world
        build = self.start_build()
        w.fault("Anchor", "corrupt", value=0.005)
        w.until("Anchor", MachineState.UNCLEARED, 60)
        self.assertGreater(w.standin("Anchor")["corrupted"], 0, "some lines were damaged")
        w.fault("Anchor", "heal")
        self.assert_made(build)

    def test_the_link_cut_for_five_seconds(self) -> None:
        w = self.world
        build = self.start_build("Bezel")
        w.fault("Bezel", "link-cut", value=5)
        taken = w.standin("Bezel")["taken"]
        w.taken("Bezel", taken + 50)
        self.assertNotIn("offline", [e.state for e in w.client.do(requests.ledger(machine="Bezel"))])
        self.assert_made(build)

    def test_a_pause_and_a_resume_leave_the_files_commands_as_they_are(self) -> None:
        w = self.world
        build = self.start_build()
        for _ in range(2):
            w.client.do(requests.pause(build.id))
            w.client.do(requests.resume(build.id))
            w.taken("Anchor", w.standin("Anchor")["taken"] + 100)
        self.assert_made(build)

    def test_the_tender_killed_in_mid_build_ends_the_build_with_its_heaters_off(self) -> None:
        w = self.world
        build = self.start_build()
        w.kill("tender", signal.SIGKILL)
        eventually(lambda: not w.machine("Anchor").reachable, "the service notices")
        w.start_tender()
        w.until("Anchor", MachineState.UNCLEARED)
        ended = w.client.do(requests.build(build.id))
        self.assertEqual((ended.outcome, ended.reason), (Outcome.FAILED, "the tender was restarted during the build"))
        standin = w.standin("Anchor")
        self.assertEqual((standin["nozzle_asked_c"], standin["bed_asked_c"]), (0, 0))
        self.assertLess(standin["taken"], len(commands(LONG)))

    def test_a_machine_that_restarts_itself_fails_its_build_and_is_told(self) -> None:
        w = self.world
        build = self.start_build("Bezel")
        w.fault("Bezel", "reset")
        w.until("Bezel", MachineState.UNCLEARED)
        self.assertIn("restarted itself", w.client.do(requests.build(build.id)).reason)

    def test_a_dead_heater_pauses_the_build_and_is_left_off(self) -> None:
        w = self.world
        build = self.start_build()
        w.fault("Anchor", "heater-dead", part="nozzle")
        reason = w.until("Anchor", MachineState.PAUSED).reason
        self.assertIn("nozzle", reason)
        eventually(lambda: w.standin("Anchor")["nozzle_asked_c"] == 0, "the nozzle is off")
        w.fault("Anchor", "heal")
        w.client.do(requests.resume(build.id))
        self.assert_made(build)
