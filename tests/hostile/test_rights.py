"""A right is what it says: every route for every given role, at its own and at another site and pool; who may operate
changes no model, makes no key and revokes none; what a model's own sequences hold is checked like a line that
somebody types."""

from __future__ import annotations

import asyncio
import re
import unittest
from collections.abc import Iterator
from dataclasses import asdict
from datetime import UTC, datetime
from typing import Any

import httpx
from fastapi.routing import APIRoute
from sqlalchemy import JSON
from sqlalchemy.orm import Session

from chronarch.client import requests
from chronarch.core.access.rights import GIVEN_ROLES, GivenRole, Held, Place, PlaceKind, Right, Whereabouts
from chronarch.core.machines.model import MachineModel
from chronarch.records import tables as t
from chronarch.records.base import Base
from chronarch.records.database import blocking_engine
from chronarch.service.app import ROUTES
from chronarch.service.command import register_person
from chronarch.service.config import Config
from chronarch.service.permissions import RULES, Asked, Rule
from tests.support.world import WorldCase, eventually

HERE, LARGE = Place(PlaceKind.SITE, "Here"), Place(PlaceKind.POOL, "Large")
ELSEWHERE = Whereabouts("There", ("Small",))
SHA = "0" * 64
AT = datetime(2026, 10, 19, 9, tzinfo=UTC)


def addressed(path: str, number: str, name: str) -> str:
    """A route's address, for a thing by its number or name."""
    named = re.sub(r"\{(name|which|machine|login|join|subject|act)\}", name, path)
    return "/api" + re.sub(r"\{\w+\}", number, named.replace("{sha256}", SHA).replace("{scope}", "shop"))


def row(kind: type[Base], **values: Any) -> Base:
    """A row with zeros, empty texts and such where nothing is said and nothing is usual."""
    zeros: dict[type, Any] = {int: 0, str: "", float: 0.0, bool: False, datetime: AT, dict: {}, list: [], bytes: b""}
    for column in kind.__table__.columns:
        given = column.name in values or column.nullable or column.default is not None or column.computed is not None
        if not given and not column.primary_key:
            kept = getattr(column.type, "impl", column.type)
            plain = dict if isinstance(kept, JSON) else kept.python_type
            values[column.name] = zeros[plain]
    return kind(**values)


def two_sites(database: str) -> None:
    """Two machines, the first at the site Here and in the pool Large, and with each whatever a path can name."""
    engine = blocking_engine(database)
    with Session(engine) as db:
        db.add_all(
            [
                row(t.Tender, id=1, name="tender"),
                row(t.Model, id=1, name="m", spec={"name": "m"}),
                row(t.Blob, sha256=SHA),
            ]
        )
        db.flush()
        db.add(row(t.File, id=1, name="f", tags=[]))
        db.flush()
        for n, name, site, pools in ((1, "Anchor", "Here", ["Large"]), (2, "Bezel", "There", ["Small"])):
            tools = [{"number": 0, "nozzle_mm": 0.4, "material": "", "colour": ""}]
            db.add(row(t.Machine, id=n, name=name, model_id=1, tender_id=1, device=name, site=site, pools=pools,
                       tags=[], intake="closed", state="offline", tools=tools))  # fmt: skip
            db.add(row(t.Job, id=n, file_id=1, tags=[]))
            db.flush()
            db.add(row(t.Build, id=n, job_id=n, copy_number=1, machine_id=n, file_id=1, revision=1, sha256=SHA,
                       state="ended", outcome="completed", skips=[]))  # fmt: skip
            db.add(row(t.Camera, id=n, name=name, machine_id=n, tender_id=1))
            db.flush()
            db.add(row(t.Suspicion, id=n, build_id=n, machine_id=n, mode="tangle"))
            db.add(row(t.Film, id=n, build_id=n))
            db.add(row(t.Spool, id=n, machine_id=n, tool=0))
            db.add(row(t.UpkeepDone, id=n, machine_id=n, name="oiled", parts=[]))
        db.commit()
    engine.dispose()


class Rights(WorldCase):
    @classmethod
    def prepare(cls) -> None:
        two_sites(cls.world.database)
        cls.world.start_service()

    def ask(self, key: str, method: str, path: str, **more: Any) -> httpx.Response:
        headers = {"Authorization": f"Bearer {key}"}
        return httpx.request(method, f"{self.world.address}{path}", headers=headers, timeout=30, **more)

    def routes(self) -> Iterator[tuple[str, str, Rule]]:
        """Every route but the live stream, which has no end: method, path and rule."""
        own = [route for module in ROUTES for router in module.routers for route in router.routes]
        found = {(m, r.path_format) for r in own if isinstance(r, APIRoute) for m in r.methods or ()}
        self.assertEqual(found, set(RULES), "each has a rule")
        for (method, path), rule in RULES.items():
            if path != "/live":
                yield method, path, rule

    def test_every_route_lets_in_just_those_who_have_its_right(self) -> None:
        w = self.world
        w.client.do(requests.set_role("clerk", [Right.SEE, Right.SPEND]))
        roles = {**GIVEN_ROLES, "clerk": {Right.SEE, Right.SPEND}}
        keys = {role: w.client.do(requests.make_key(role, role)).secret for role in roles}
        with httpx.Client(base_url=w.address, timeout=30) as http:
            for method, path, rule in self.routes():
                address = addressed(path, "99999999", "no-such")
                for role, secret in ("", ""), *keys.items():
                    with self.subTest(method=method, path=path, role=role):
                        headers = {"Authorization": f"Bearer {secret}"} if role else {}
                        answer = http.request(method, address, headers=headers)
                        if not role:
                            self.assertEqual(answer.status_code == 401, rule.asked is not Asked.OPEN, answer.text)
                        elif rule.right is None or rule.right in roles[role]:
                            own = "manage_people" in answer.text or "manage people" in answer.text
                            self.assertTrue(answer.status_code != 403 or own or path == "/me/password", answer.text)
                        else:
                            self.assertEqual(answer.status_code, 403, answer.text)
                            self.assertIn(f"the right to {rule.right.words}", answer.text)

    def test_a_role_for_a_site_or_a_pool_counts_at_its_machines_alone(self) -> None:
        w = self.world
        keys = {}
        both = [(role, HERE) for role in GIVEN_ROLES if role != GivenRole.TENDER]
        for role, place in (*both, (GivenRole.OPERATOR, LARGE)):
            keys[role, place] = w.client.do(requests.make_key("x", role, places=[place])).secret
        tried = set()
        with httpx.Client(base_url=w.address, timeout=30) as http:
            for method, path, rule in self.routes():
                if rule.right is None or rule.right is Right.TENDER:
                    continue
                for at, number, name in ((Whereabouts("Here", ("Large",)), "1", "Anchor"), (ELSEWHERE, "2", "Bezel")):
                    address = addressed(path, number, name)
                    for (role, place), secret in keys.items():
                        held = Held.by_role(role, place)
                        may = held.may(rule.right, at if rule.asked is Asked.AT else None)
                        may = may and (rule.asked is not Asked.SHOP or held.everywhere(rule.right))
                        if may and method != "GET":
                            continue  # what they may do is done by other tests
                        with self.subTest(method=method, path=path, role=role, place=place, number=number):
                            tried.add((rule.asked, may))
                            head = {"Authorization": f"Bearer {secret}"}
                            answer = http.request(method, address, headers=head)
                            theirs = "theirs to set" in answer.text  # a channel of somebody's own
                            self.assertEqual(answer.status_code == 403 and not theirs, not may, answer.text)
            for role, place in keys:
                if Right.OPERATE in GIVEN_ROLES[role]:
                    head = {"Authorization": f"Bearer {keys[role, place]}"}
                    for number, name, known in (("1", "Anchor", True), ("2", "Bezel", False)):
                        for method, path, body in (
                            ("PATCH", f"/api/machines/{name}", {"intake": "manual"}),
                            ("POST", f"/api/spools/{number}/load", {"machine": name}),
                            ("POST", "/api/upkeep/done", {"machine": name, "name": "wiped"}),
                            ("PATCH", f"/api/spools/{number}", {"note": "x"}),
                            ("POST", f"/api/suspicions/{number}/answer", {"right": False}),
                            ("POST", f"/api/builds/{number}/verdict", {"verdict": "good"}),
                        ):
                            with self.subTest(role=role, place=place, path=path, name=name):
                                answer = http.request(method, path, headers=head, json=body)
                                self.assertEqual(answer.status_code != 403, known, answer.text)
                    moved = http.patch("/api/machines/Anchor", headers=head, json={"site": "There"})
                    self.assertEqual(moved.status_code, 403, "nobody moves a machine to where they may do more")
        self.assertEqual(tried, {(Asked.AT, False), (Asked.SHOP, False), (Asked.ANY, False), (Asked.ANY, True),
                                 (Asked.NAMED, False)} )  # fmt: skip

    def test_who_may_operate_changes_no_model_and_no_keys(self) -> None:
        w = self.world
        w.client.do(requests.add_model(MachineModel(name="Lantern 900")))
        mine = w.client.do(requests.make_key("somebody's", GivenRole.VIEWER))
        model = asdict(MachineModel(name="Lantern 900", nozzle_ceiling_c=500))
        tries: tuple[tuple[str, str, dict[str, Any]], ...] = (
            ("POST", "/api/models", {"json": {**model, "name": "Lantern 901"}}),
            ("PUT", "/api/models/Lantern 900", {"json": model}),
            ("POST", "/api/keys", {"json": {"name": "mine", "role": "tender"}}),
            ("POST", "/api/keys", {"json": {"name": "mine", "role": "operator"}}),
            ("POST", f"/api/keys/{mine.id}/change", {"json": {}}),
            ("DELETE", f"/api/keys/{mine.id}", {}),
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
