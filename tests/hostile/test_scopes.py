"""A scope is what it says: who may operate changes no model, makes no key and revokes none; what a model's own
sequences hold is checked like a line that somebody types."""

from __future__ import annotations

import asyncio
import re
import unittest
from dataclasses import asdict
from typing import Any

import httpx
from fastapi.routing import APIRoute

from chronarch.client import requests
from chronarch.core.machines.model import MachineModel
from chronarch.service.app import ROUTES
from chronarch.service.command import register_person
from chronarch.service.config import Config
from chronarch.service.permissions import OPEN, RIGHTS
from chronarch.wire.access import Scope
from tests.support.world import WorldCase, eventually


class Scopes(WorldCase):
    @classmethod
    def prepare(cls) -> None:
        cls.world.start_service()

    def ask(self, key: str, method: str, path: str, **more: Any) -> httpx.Response:
        headers = {"Authorization": f"Bearer {key}"}
        return httpx.request(method, f"{self.world.address}{path}", headers=headers, timeout=30, **more)

    def test_every_route_lets_in_just_those_who_have_its_right(self) -> None:
        w = self.world
        keys = {
            "": set[Scope](),
            w.read_key: {Scope.READ},
            w.operate_key: {Scope.READ, Scope.OPERATE},
            w.key: {Scope.READ, Scope.OPERATE, Scope.MAINTAIN},
            w.tender_key: {Scope.TENDER},
        }
        own = [route for module in ROUTES for router in module.routers for route in router.routes]
        self.assertEqual(
            {(m, r.path_format) for r in own if isinstance(r, APIRoute) for m in r.methods or ()}, set(RIGHTS)
        )
        with httpx.Client(base_url=w.address, timeout=30) as http:
            for (method, path), right in RIGHTS.items():
                named = re.sub(r"\{(name|which|sha256)\}", "no-such", path)
                address = "/api" + re.sub(r"\{(number|layer|key)\}", "99999999", named)
                for key, rights in keys.items():
                    if path == "/live" and right in rights:
                        continue  # it has no end
                    with self.subTest(method=method, path=path, rights=rights):
                        headers = {"Authorization": f"Bearer {key}"} if key else {}
                        answer = http.request(method, address, headers=headers)
                        kept_out = answer.status_code == (403 if key else 401)
                        self.assertEqual(kept_out, right is not OPEN and right not in rights, answer.text)

    def test_who_may_operate_changes_no_model_and_no_keys(self) -> None:
        w = self.world
        w.client.do(requests.add_model(MachineModel(name="Lantern 900")))
        mine = w.client.do(requests.make_key("somebody's", Scope.READ))
        model = asdict(MachineModel(name="Lantern 900", nozzle_ceiling_c=500))
        tries: tuple[tuple[str, str, dict[str, Any]], ...] = (
            ("POST", "/api/models", {"json": {**model, "name": "Lantern 901"}}),
            ("PUT", "/api/models/Lantern 900", {"json": model}),
            ("POST", "/api/keys", {"json": {"name": "mine", "scope": "tender"}}),
            ("POST", "/api/keys", {"json": {"name": "mine", "scope": "operate"}}),
            ("DELETE", f"/api/keys/{mine.id}", {}),
            ("GET", "/api/keys", {}),
        )
        for key in (w.operate_key, w.read_key, w.tender_key):
            for method, path, more in tries:
                with self.subTest(method=method, path=path):
                    answer = self.ask(key, method, path, **more)
                    self.assertEqual(answer.status_code, 403, answer.text)
        self.assertEqual([m for m in w.client.do(requests.models()) if m.nozzle_ceiling_c == 500], [])
        self.assertEqual(self.ask(mine.secret, "GET", "/api/me").status_code, 200, "it was not revoked")

    def test_a_sequence_holds_no_word_of_the_feeding_and_a_lasting_one_only_when_guarded(self) -> None:
        refused = (
            ({"lines": "G28\nM112"}, "M112"),
            ({"lines": "M112", "guarded": True}, "M112"),
            ({"lines": "N5 G28"}, "N5 G28"),
            ({"lines": "M110 N0"}, "M110"),
            ({"lines": "G28*18"}, "G28*18"),
            ({"lines": "M500"}, "guarded"),
            ({"lines": "m500 ; quietly"}, "guarded"),
            ({"lines": "G1 X" + "1" * 200}, "plain characters"),
        )
        for n, (sequence, why) in enumerate(refused):
            with self.subTest(sequence=sequence):
                order = {"name": f"Odd {n}", "sequences": [{"name": "trick", **sequence}]}
                answer = self.ask(self.world.key, "POST", "/api/models", json=order)
                self.assertEqual(answer.status_code, 422)
                self.assertIn(why, answer.json()["detail"])
        switch = {"name": "light", "on": "M355 S1", "off": "M112"}
        answer = self.ask(self.world.key, "POST", "/api/models", json={"name": "Odd", "switches": [switch]})
        self.assertEqual(answer.status_code, 422)
        kept = {"name": "Sound", "sequences": [{"name": "keep", "lines": "G28\nM500 ; keep it", "guarded": True}]}
        self.assertEqual(self.ask(self.world.key, "POST", "/api/models", json=kept).status_code, 201)

    def test_a_new_password_ends_the_sessions_that_the_old_one_opened(self) -> None:
        w = self.world
        settings = Config(w.database, w.folder / "blobs")
        asyncio.run(register_person(settings, "joan", "Joan", "the first password"))
        with httpx.Client(base_url=w.address, timeout=30) as browser:
            order = {"login": "joan", "password": "the first password"}
            self.assertEqual(browser.post("/api/sign-in", json=order).status_code, 200)
            self.assertEqual(browser.get("/api/me").status_code, 200)
            asyncio.run(register_person(settings, "joan", "Joan", "the second password"))
            eventually(lambda: browser.get("/api/me").status_code == 401, "the session is ended")


if __name__ == "__main__":
    unittest.main()
