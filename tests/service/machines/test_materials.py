"""Materials of the shop's own: what weighs and heats by them."""

from __future__ import annotations

import httpx

from chronarch.client import RefusedByService, requests
from chronarch.core.control import actions as h
from chronarch.core.machines.materials import Material
from chronarch.core.orders.states import Verdict
from tests.support import processes
from tests.support.gcode import squares
from tests.support.world import WorldCase, eventually


class Materials(WorldCase):
    own_database = True

    def shell(self, *words: str, code: int = 0) -> str:
        done = processes.run("materials", *words, env=self.world.environment)
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        return done.stdout + done.stderr

    def test_a_material_is_added_changed_and_forgotten(self) -> None:
        do = self.world.client.do
        self.assertIn("--density", self.shell("set", "Brass fill", code=2))
        self.assertIn(
            "3.9 g/cm³, nozzle 215 °C", self.shell("set", "Brass fill", "--density", "3.9", "--nozzle", "215")
        )
        self.assertIn("bed 65 °C", self.shell("set", "brass fill", "--bed", "65"))
        self.assertRegex(self.shell("list"), r"Brass fill +3\.9 g/cm³ +215 °C +65 °C .* the shop's own")
        self.assertRegex(self.shell("list"), r"PETG +1\.27 g/cm³ .* usual")
        self.assertEqual(do(requests.put_material(Material("petg", 1.30, 240, 82))).name, "PETG")
        self.assertEqual(
            [m.material.density_g_cm3 for m in do(requests.materials()) if m.material.name == "PETG"], [1.3]
        )
        self.shell("remove", "petg")
        self.assertIn("is as usual already", self.shell("remove", "PETG", code=1))
        self.shell("remove", "Brass fill")
        self.assertIn("is not known", self.shell("remove", "Brass fill", code=1))
        headers = {"Authorization": f"Bearer {self.world.key}"}
        for wrong in ({"name": " ", "density_g_cm3": 1}, {"name": "PLA", "density_g_cm3": 0}, {"name": "PLA"}):
            answer = httpx.put(f"{self.world.address}/api/materials", json=wrong, headers=headers)
            self.assertEqual(answer.status_code, 422, answer.text)

    def test_machines_heat_for_it_and_builds_weigh_by_it(self) -> None:
        w, do = self.world, self.world.client.do
        with self.assertRaisesRegex(RefusedByService, "no preset for 'Brass fill'"):
            do(requests.act("Anchor", h.Preset("Brass fill")))
        do(requests.put_material(Material("Brass fill", 3.9, 215, 65)))
        do(requests.act("Anchor", h.Preset("brass fill")))
        eventually(lambda: w.standin("Anchor")["nozzle_asked_c"] == 215, "it heats for it")
        do(requests.act("Anchor", h.Preset("")))
        tool = do(requests.machine("Anchor")).tools[0]
        w.add_file("square.gcode", squares(layers=2, nozzle=205))
        grams = {}
        for material in ("PLA", "Brass fill"):
            do(requests.change_machine("Anchor", tools=[type(tool)(material=material, colour="brass")]))
            build = w.made("square.gcode", "Anchor", Verdict.GOOD)
            grams[material] = do(requests.build(build)).grams
        self.assertAlmostEqual(grams["Brass fill"] / grams["PLA"], 3.9 / 1.24, delta=0.02)
