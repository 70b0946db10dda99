"""Machines are found on the network, at serial ports and at a broker, and join once they confirm that themselves."""

from __future__ import annotations

import re

from chronarch.client import RefusedByService, requests
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState
from chronarch.wire.machines import finding as wf
from chronarch.wire.machines.machine import NewMachine
from tests.support import processes
from tests.support.world import WorldCase, eventually

MODEL = "Lantern 220"
PORT = "usb-lantern-07"


class Finding(WorldCase):
    machines = ("Anchor", "Bezel", "Crown", "Detent")
    stored = ("Pallet",)
    new_shop = True

    @classmethod
    def prepare(cls) -> None:
        w = cls.world
        by_id = w.folder / "by-id"
        by_id.mkdir()
        w.environment["CHRONARCH_SERIAL_BY_ID"] = str(by_id)
        w.setups = {name: {"announces": True, "model": MODEL} for name in ("Anchor", "Bezel", "Crown")}
        w.setups["Detent"] = {"port_name": str(by_id / PORT)}
        super().prepare()
        w.client.do(requests.add_model(MachineModel(name=MODEL, cold_extrusion_c=0)))
        eventually(lambda: any(t.since for t in w.client.do(requests.health()).tenders), "the tender is there")

    def setUp(self) -> None:
        self.do = self.world.client.do

    def link(self, name: str) -> str:
        return f"tcp://127.0.0.1:{self.world.ports[name]}"

    def found(self, **wish: str) -> dict[str, wf.Found]:
        looked = self.world.client.do(requests.find_machines(wf.FindWish.model_validate(wish)), 120)
        self.assertEqual((looked.problem, looked.troubles), ("", []))
        return {one.link: one for one in looked.found}

    def begin(self, name: str, by: str = "code", link: str = "") -> wf.Join:
        machine = NewMachine(name=name, model=MODEL, link=link or self.link(name))
        return self.do(requests.begin_join(wf.JoinWish.model_validate({"by": by, "machine": machine})), 120)

    def display(self, name: str) -> str:
        return str(self.world.standin(name)["display"])

    def test_what_announces_itself_is_found_and_joins_by_the_code_on_its_display(self) -> None:
        found = self.found()
        one = found[self.link("Anchor")]
        self.assertEqual((one.how, one.model, one.machine, one.proposed), ("network", MODEL, "", one.name))
        self.assertRegex(one.name, r"^Anchor(-\d+)?$", "another world on this computer may have an Anchor, too")
        self.assertTrue(one.serial)
        self.assertIn(self.link("Bezel"), found)
        join = self.begin("Anchor")
        shown = re.fullmatch(r"Code (\d{4})", eventually(lambda: self.display("Anchor"), "it shows the code"))
        assert shown
        wrong = f"{(int(shown[1]) + 1) % 10_000:04}"
        with self.assertRaisesRegex(RefusedByService, "not the code on the machine's display"):
            self.do(requests.confirm_join(join.id, wrong))
        self.assertEqual(self.do(requests.machines()), [m for m in self.do(requests.machines()) if m.name != "Anchor"])
        self.do(requests.confirm_join(join.id, shown[1]))
        self.world.until("Anchor", MachineState.IDLE)
        again = self.found()[self.link("Anchor")]
        self.assertEqual((again.machine, again.proposed), ("Anchor", ""))
        with self.assertRaisesRegex(RefusedByService, "is over, or was never begun"):
            self.do(requests.confirm_join(join.id, shown[1]))
        with self.assertRaisesRegex(RefusedByService, "Anchor's link already"):
            self.begin("Another", link=self.link("Anchor"))
        with self.assertRaisesRegex(RefusedByService, "held by Anchor|one link"):
            self.do(requests.greet_machine(self.link("Anchor")), 120)

    def test_one_without_a_display_joins_by_its_own_click(self) -> None:
        join = self.begin("Bezel", by="click")
        self.assertFalse(join.clicked)
        with self.assertRaisesRegex(RefusedByService, "Nobody has clicked"):
            self.do(requests.confirm_join(join.id))

        def clicked() -> bool:
            self.world.fault("Bezel", "click")
            return self.do(requests.join_standing(join.id)).clicked

        eventually(clicked, "the click is heard")
        self.do(requests.confirm_join(join.id))
        self.world.until("Bezel", MachineState.IDLE)

    def test_whoever_asked_for_a_click_may_go_back_to_the_code(self) -> None:
        """The machine waits for its click no longer, and what was asked before is over."""
        first = self.begin("Crown", by="click")
        eventually(lambda: self.display("Crown") == "Click to join", "it waits for its click")
        second = self.begin("Crown")
        shown = re.fullmatch(r"Code (\d{4})", eventually(lambda: self.display("Crown"), "it shows the code"))
        assert shown
        with self.assertRaisesRegex(RefusedByService, "is over, or was never begun"):
            self.do(requests.join_standing(first.id))
        self.do(requests.confirm_join(second.id, shown[1]))
        self.world.until("Crown", MachineState.IDLE)

    def test_a_serial_port_is_found_by_the_name_that_it_keeps_and_its_speed_by_greeting(self) -> None:
        link = f"serial://{self.world.environment['CHRONARCH_SERIAL_BY_ID']}/{PORT}"
        self.assertEqual((found := self.found()[link]).how, "serial")
        self.assertEqual(found.about, PORT)
        greeted = self.do(requests.greet_machine(link), 120)
        self.assertEqual((greeted.speed, greeted.link), (115200, f"{link}?speed=115200"))
        self.assertTrue(greeted.contact.firmware)

    def test_what_reports_at_a_broker_is_found_there(self) -> None:
        assert self.world.broker is not None
        address = self.world.broker.address("Pallet")
        one = self.found(broker=address.rpartition("/")[0])[address]
        self.assertEqual((one.how, one.name, one.proposed), ("broker", "Pallet", "Pallet"))

    def test_what_cannot_be_done_is_said(self) -> None:
        nowhere = "tcp://127.0.0.1:9"
        rows = (
            (requests.find_machines(wf.FindWish(tender="none such")), "'none such' is not connected"),
            (requests.find_machines(wf.FindWish(broker="http://127.0.0.1")), "no link's address"),
            (requests.greet_machine("nonsense"), "no link's address"),
            (requests.greet_machine(nowhere), "cannot be reached"),
            (requests.greet_machine(f"tcp://127.0.0.1:{self.world.port}"), "service itself"),
            (requests.confirm_join("0" * 32), "is over, or was never begun"),
        )  # fmt: skip
        for call, words in rows:
            with self.subTest(words), self.assertRaisesRegex(RefusedByService, words):
                self.do(call, 120)
        with self.assertRaisesRegex(RefusedByService, "no model named"):
            machine = NewMachine(name="Crown", model="none such", link=self.link("Crown"))
            self.do(requests.begin_join(wf.JoinWish(machine=machine)), 120)

    def test_a_code_is_not_guessed(self) -> None:
        join = self.begin("Crown")
        shown = eventually(lambda: self.display("Crown"), "it shows the code")
        wrong = [f"{n:04}" for n in range(10) if f"{n:04}" not in shown][:6]
        for code in wrong[:5]:
            with self.assertRaisesRegex(RefusedByService, "not the code"):
                self.do(requests.confirm_join(join.id, code))
        with self.assertRaisesRegex(RefusedByService, "wrong too often"):
            self.do(requests.confirm_join(join.id, wrong[5]))
        with self.assertRaisesRegex(RefusedByService, "is over"):
            self.do(requests.confirm_join(join.id, shown.removeprefix("Code ")))

    def test_the_commands(self) -> None:
        def machines(*words: str, stdin: str = "", code: int = 0) -> str:
            done = processes.run("machines", *words, env=self.world.environment, stdin=stdin, within_s=120)
            self.assertEqual(done.returncode, code, done.stdout + done.stderr)
            return done.stdout + done.stderr

        self.assertRegex(machines("find"), rf"Crown(-\d+)? +(new|joined) +network +{self.link('Crown')} +{MODEL}")
        self.assertRegex(machines("greet", self.link("Crown")), "Firmware +")
        words = ("join", "Crown", "--link", self.link("Crown"), "--model", MODEL)
        told = machines(*words, stdin="none\n" * 6, code=1)
        self.assertEqual((told.count("not the code"), told.count("wrong too often")), (5, 1))
