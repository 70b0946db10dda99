"""People: what is kept of somebody, and what becomes of it when they leave."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Iterator

import httpx
from sqlalchemy import Connection, Text, cast, func, select

from chronarch.client import Client, RefusedByService, requests
from chronarch.core.access.rights import GivenRole
from chronarch.core.machines.states import MachineState
from chronarch.core.notices.kinds import NoticeKind
from chronarch.core.notices.notice_rules import NextStep, NoticeRule
from chronarch.records.base import Base
from chronarch.records.database import blocking_engine
from chronarch.records.system.leaving import LEFT
from chronarch.service.command import register_person
from chronarch.service.config import Config
from tests.support import processes
from tests.support.gcode import squares
from tests.support.world import PASSWORD, PERSON, WorldCase, eventually

LOGIN, NAME, OTHER = "tilda", "Tilda Moss", "Tilda Mossop"


class Leaving(WorldCase):
    own_database = True

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        for login, name in ((LOGIN, NAME), ("mossop", OTHER)):
            settings = Config(database=cls.world.database, blobs=cls.world.folder)
            asyncio.run(register_person(settings, login, name, PASSWORD, GivenRole.OPERATOR))

    def signed_in(self, login: str, place: str = "127.0.0.1") -> httpx.Client:
        transport = httpx.HTTPTransport(local_address=place)
        client = httpx.Client(base_url=f"{self.world.address}/api", timeout=30, transport=transport)
        self.addCleanup(client.close)
        me = client.post("/sign-in", json={"login": login, "password": PASSWORD}).raise_for_status().json()
        client.headers["X-CSRF-Token"] = me["csrf"]
        return client

    def shell(self, code: int, *words: str) -> str:
        done = processes.run(*words, env=self.world.environment)
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        return done.stdout + done.stderr

    def places_of(self, words: str) -> list[str]:
        """The columns in which words stand, of all there are."""
        engine = blocking_engine(self.world.database)

        def found(db: Connection) -> Iterator[str]:
            for table in Base.metadata.sorted_tables:
                for column in table.columns:
                    said = cast(column, Text).regexp_match(rf"(?-i)\b{words}\b")
                    if db.execute(select(func.count()).select_from(table).where(said)).scalar_one():
                        yield f"{table.name}.{column.name}"

        with engine.connect() as db:
            where = sorted(found(db))
        engine.dispose()
        return where

    def test_all_that_is_kept_of_somebody_is_given_and_goes_when_they_leave(self) -> None:
        w, do = self.world, self.world.client.do
        tilda, mossop = self.signed_in(LOGIN), self.signed_in("mossop")
        self.signed_in(LOGIN, "127.0.0.9")
        w.add_file("long.gcode", squares(layers=200, rounds=10))
        for client in (mossop, tilda):
            job = w.submit("long.gcode", machine="Anchor")
            w.build_of(job)
            w.until("Anchor", MachineState.BUILDING)
            build = w.machine("Anchor").build
            assert build is not None
            client.post(f"/builds/{build.id}/pause", json={}).raise_for_status()
            w.until("Anchor", MachineState.PAUSED)
            client.post(f"/builds/{build.id}/stop", json={}).raise_for_status()
            w.until("Anchor", MachineState.UNCLEARED)
            do(requests.act_on_job(job.id, "hold"))  # what is scrap would be made anew
            client.post(f"/builds/{build.id}/verdict", json={"verdict": "scrap", "reason": "torn"}).raise_for_status()
            w.until("Anchor", MachineState.IDLE)
        tilda.post("/machines/Anchor/take-out", json={}).raise_for_status()
        w.until("Anchor", MachineState.SERVICE)
        tilda.post("/channels", json={"kind": "mail", "address": "tilda@shop.example"}).raise_for_status()
        step = NextStep(5, person=LOGIN)
        do(requests.add_notice_rule(NoticeRule(kinds=(NoticeKind.MACHINE_DOWN,), next_steps=(step,)), PERSON))

        self.assertIn(NAME, self.shell(0, "people", "list"))
        out = w.folder / "tilda.jsonl"
        self.assertIn("bytes", self.shell(0, "people", "export", LOGIN, str(out)))
        rows = [json.loads(line) for line in out.read_text().splitlines()]
        self.assertEqual(rows[0]["login"], LOGIN)
        tables = {row["table"] for row in rows}
        self.assertLessEqual({"person", "session", "sign_in_place", "build", "channel", "notice"}, tables)
        judged = [row for row in rows if row["table"] == "build"]
        self.assertEqual([(row["judged_by"], row["scrap_reason"]) for row in judged], [(NAME, "torn")])
        for secret in ("argon2", "password", "token", "csrf"):
            self.assertNotIn(secret, out.read_text())

        before = self.places_of(NAME)
        self.assertLessEqual({"build.judged_by", "build.reason", "build_stop.why", "ledger.reason"}, set(before))
        self.assertIn("signed by somebody who left", self.shell(0, "people", "remove", LOGIN, "--yes"))
        self.assertEqual((self.places_of(NAME), self.places_of(LOGIN)), ([], []))
        self.assertIn("build.judged_by", self.places_of(LEFT))
        self.assertIn("build.judged_by", self.places_of(OTHER), "somebody else's name only begins like it")
        self.assertEqual(tilda.get("/me").status_code, 401)
        again = httpx.post(f"{w.address}/api/sign-in", json={"login": LOGIN, "password": PASSWORD})
        self.assertEqual(again.status_code, 401)
        self.assertEqual(do(requests.verify_ledger()).faults, [])
        eventually(lambda: LEFT in w.machine("Anchor").reason, "the board says so, too")

    def test_the_last_who_manages_people_and_nobody_are_refused(self) -> None:
        do = self.world.client.do
        with self.assertRaisesRegex(RefusedByService, "Maud is the last who may manage people"):
            do(requests.remove_person(PERSON))
        with self.assertRaisesRegex(RefusedByService, "nobody who signs in as 'nobody'"):
            do(requests.remove_person("nobody"))
        with Client(self.world.address, self.world.operate_key) as other, self.assertRaises(RefusedByService):
            other.do(requests.people())
        self.assertIn("Aborted", self.shell(1, "people", "remove", "mossop"))
        done = processes.run(
            "service",
            "add-person",
            "x",
            "--name",
            LEFT,
            "--password-stdin",
            env=self.world.environment,
            stdin="12345678\n",
        )
        self.assertEqual(done.returncode, 2)
        self.assertIn("how the records name whoever is not here any more", done.stderr)
