"""A machine that got another address, or is of another model than was thought."""

from __future__ import annotations

from chronarch.client import RefusedByService, requests
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState
from chronarch.core.orders.states import Verdict
from chronarch.wire.system.setup_file import SetupFormat
from tests.support import processes
from tests.support.gcode import squares
from tests.support.world import MODEL, WorldCase, eventually


class Moved(WorldCase):
    machines = ("Anchor", "Bezel")
    new_shop = True

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        do = cls.world.client.do
        for name in (MODEL, "Taller"):
            do(requests.add_model(MachineModel(name=name, cold_extrusion_c=0)))
        eventually(lambda: any(t.since for t in do(requests.health()).tenders), "the tender is there")
        cls.world.add_machine("Anchor")
        cls.world.until("Anchor", MachineState.IDLE)

    def link(self, name: str) -> str:
        return f"tcp://127.0.0.1:{self.world.ports[name]}"

    def test_it_builds_at_its_new_address_and_not_while_a_build_is_on_it(self) -> None:
        w, do = self.world, self.world.client.do
        w.add_file("square.gcode", squares(layers=3))
        words = ("machines", "change", "Anchor", "--link", self.link("Bezel"), "--model", "Taller")
        done = processes.run(*words, env=w.environment)
        self.assertIn(f"of model Taller; reached at {self.link('Bezel')}", done.stdout, done.stderr)
        eventually(lambda: w.machine("Anchor").hands.contact.firmware != "", "it has answered there")
        before = w.standin("Anchor")["taken"]
        build = w.build_of(w.submit("square.gcode")).id
        w.until("Anchor", MachineState.UNCLEARED)
        with self.assertRaisesRegex(RefusedByService, "once its bed is clear"):
            do(requests.change_machine("Anchor", link=self.link("Anchor")))
        self.assertGreater(w.standin("Bezel")["taken"], 0)
        self.assertEqual(w.standin("Anchor")["taken"], before)
        do(requests.verdict(build, Verdict.GOOD))
        w.until("Anchor", MachineState.IDLE)

        table = f"name,link,model\nAnchor,{self.link('Anchor')},{MODEL}\n"
        do(requests.apply_setup_file(table, form=SetupFormat.CSV))
        machine = do(requests.machine("Anchor"))
        self.assertEqual((machine.link, machine.model), (self.link("Anchor"), MODEL))
        w.kill("tender")
        w.start_tender()
        build = w.build_of(w.submit("square.gcode")).id
        w.until("Anchor", MachineState.UNCLEARED)
        self.assertGreater(w.standin("Anchor")["taken"], before, "after a new start of the tender, too")
        do(requests.verdict(build, Verdict.GOOD))
        w.until("Anchor", MachineState.IDLE)

    def test_what_makes_no_sense_is_refused(self) -> None:
        do = self.world.client.do
        w = self.world
        w.add_machine("Bezel")
        for change, words in (
            ({"link": self.link("Bezel")}, "is Bezel's link already"),
            ({"link": f"tcp://127.0.0.1:{w.port}"}, "is the service itself"),
            ({"model": "None such"}, "no model named 'None such'"),
        ):
            with self.subTest(change), self.assertRaisesRegex(RefusedByService, words):
                do(requests.change_machine("Anchor", **change))
        self.assertEqual(do(requests.machine("Anchor")).model, MODEL)
