"""Records that were restored while machines worked: what their tender has on them is taken up again."""

from __future__ import annotations

from chronarch.client import requests
from chronarch.core.machines.states import MachineState, Outcome
from chronarch.core.orders.states import Verdict
from chronarch.records.system.restored import LEAP
from tests.support.gcode import squares
from tests.support.restoring import LATE_S, Installation, ended, give_place
from tests.support.world import WorldCase, eventually


class RollCall(WorldCase):
    machines = ("Anchor", "Bezel", "Crown")
    own_database = True

    def next_build(self, machine: str, after: int) -> int:
        """The build that a machine gets after another."""

        def later() -> list[int]:
            return [b.id for b in self.world.client.do(requests.builds(machine=machine)) if b.id > after]

        return eventually(later, f"{machine} gets another build", LATE_S)[0]

    def test_what_is_on_the_machines_is_taken_up_again(self) -> None:
        w, do = self.world, self.world.client.do
        w.add_file("long.gcode", squares(layers=300, rounds=40))
        w.add_file("some.gcode", squares(layers=400))
        w.add_file("short.gcode", squares(layers=2))
        goes_on = w.build_of(w.submit("long.gcode", machine="Anchor"))
        ends = w.build_of(w.submit("short.gcode", machine="Bezel"))
        is_over = w.build_of(w.submit("some.gcode", machine="Crown"))
        for machine in self.machines:
            w.taken(machine, 5)
        place = give_place(w)
        do(requests.take_backup())
        self.assertEqual(ended(w).backups[0].problem, "")

        w.until("Bezel", MachineState.UNCLEARED, LATE_S)
        eventually(lambda: w.stopped("Crown"), "Crown's build is stopped")
        w.until("Crown", MachineState.UNCLEARED, LATE_S)
        do(requests.verdict(is_over.id, Verdict.SCRAP, "stopped"))
        strange = self.next_build("Crown", is_over.id)
        w.taken("Crown", 5)

        other = Installation(w)
        done = other.restore(place)
        self.assertEqual((done.returncode, done.stderr.count("left out")), (0, 0), done.stderr)
        self.assertIn("3 machines", done.stdout)
        other.move_in()
        eventually(lambda: all(m.state is not MachineState.OFFLINE for m in w.machines()), "the roll is called", LATE_S)

        self.assertIs(w.state("Anchor"), MachineState.BUILDING)
        running = w.machine("Anchor").build
        assert running is not None
        self.assertEqual(running.id, goes_on.id)
        bezel = w.machine("Bezel")
        assert bezel.build is not None
        self.assertEqual((bezel.state, bezel.build.id), (MachineState.UNCLEARED, ends.id))
        over = do(requests.build(ends.id))
        self.assertIs(over.outcome, Outcome.COMPLETED)
        crown = w.machine("Crown")
        self.assertIsNone(crown.build, f"nobody knows of build {strange} any more")
        self.assertIn(crown.state, (MachineState.BUILDING, MachineState.COOLING, MachineState.UNCLEARED))
        lost = do(requests.build(is_over.id))
        self.assertEqual((lost.outcome, lost.verdict), (Outcome.FAILED, None))
        self.assertIn("how it ended is not known", lost.reason)
        do(requests.verdict(is_over.id, Verdict.SCRAP, "lost"))

        do(requests.verdict(ends.id, Verdict.GOOD))
        w.until("Bezel", MachineState.IDLE)
        w.until("Crown", MachineState.UNCLEARED, LATE_S)
        do(requests.put_back("Crown"))
        self.assertGreaterEqual(self.next_build("Crown", is_over.id), is_over.id + LEAP)
        eventually(lambda: w.stopped("Anchor"), "what goes on can be stopped")
        w.until("Anchor", MachineState.UNCLEARED, LATE_S)
        self.assertIs(do(requests.build(goes_on.id)).outcome, Outcome.STOPPED)
        self.assertEqual(do(requests.verify_ledger()).faults, [])
