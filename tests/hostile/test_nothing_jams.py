"""Nothing jams for good: what cannot be read, kept, planned or understood is refused once, with its reason, and the
next one goes on."""

from __future__ import annotations

import asyncio
import json
import os
import signal
import threading
import time
import unittest
from contextlib import suppress
from pathlib import Path
from typing import Any

from sqlalchemy import text
from websockets.exceptions import ConnectionClosed
from websockets.sync.client import ClientConnection, connect

from chronarch.client import RefusedByService, requests
from chronarch.core.machines.states import Intake
from chronarch.records.database import make_engine
from chronarch.records.ports import free_port
from chronarch.service.process_pool import NotDone, ProcessPool
from chronarch.wire.library import Dropped
from chronarch.wire.machines.machine import NewMachine
from chronarch.wire.orders.jobs import NewJob
from chronarch.wire.planning.scenarios import IfStrategy, WhatIf
from tests.support.gcode import squares
from tests.support.talk import heard, sent_away
from tests.support.world import MODEL, WorldCase, eventually


def readers_of(pid: int) -> list[int]:
    """The processes in which a service reads files."""
    found = []
    for task in Path(f"/proc/{pid}/task").iterdir():
        for child in map(int, (task / "children").read_text().split()):
            line = Path(f"/proc/{child}/cmdline").read_bytes()
            if b"spawn_main" in line:
                found.append(child)
    return found


class Arrivals(WorldCase):
    @classmethod
    def prepare(cls) -> None:
        cls.world.start_service()

    def add(self, name: str, content: str) -> Dropped:
        path = self.world.folder / name
        path.write_text(content)
        return self.world.client.add_file(path)

    def test_a_file_whose_reader_dies_each_time_is_refused_and_the_next_is_read(self) -> None:
        """The reader is killed as the kernel kills one that wants more memory than there is."""
        service, over = self.world.processes["service"].pid, threading.Event()
        self.add("first.gcode", squares(layers=2))  # a reader is there

        def kill() -> None:
            while not over.is_set():
                for reader in readers_of(service):
                    os.kill(reader, signal.SIGKILL)
                time.sleep(0.05)

        killing = threading.Thread(target=kill)
        killing.start()
        try:
            with self.assertRaisesRegex(RefusedByService, "ended 2 times"):
                self.add("deadly.gcode", squares(layers=5000))
        finally:
            over.set()
            killing.join()
        self.assertEqual(self.add("next.gcode", squares(layers=3)).file.name, "next.gcode")
        self.assertEqual([f.name for f in self.world.client.do(requests.files()) if f.name == "deadly.gcode"], [])

    def test_a_figure_that_the_records_cannot_hold_is_refused_and_the_next_is_read(self) -> None:
        self.world.sql(
            "alter table content_reading add constraint no_seven check (json_value(figures, '$.layers') <> 7)",
        )
        with self.assertRaisesRegex(RefusedByService, "cannot be kept"):
            self.add("seven.gcode", squares(layers=7))
        self.assertEqual(self.add("eight.gcode", squares(layers=8)).file.reading.layers, 8)

    def test_a_reading_that_each_time_takes_the_service_with_it_is_given_up(self) -> None:
        done = self.add("kept.gcode", squares(layers=4)).file
        self.world.sql(
            "insert into arrival (name, sha256, size, state, problem, wish, new, tries, added_at, added_by) values "
            "('heavy.gcode', :sha256, 9, 'reading', '', '{}', 0, 4, now(), 'Maud')",
            sha256=done.sha256,
        )
        self.world.kill("service")
        self.world.start_service()
        answers = lambda: self.arrivals("heavy.gcode")  # noqa: E731
        (problem,) = eventually(lambda: [a for a in answers() if a], "it is refused")
        self.assertIn("begun 4 times", problem)

    def arrivals(self, name: str) -> list[str]:
        found: list[str] = []

        async def go() -> None:
            engine = make_engine(self.world.database)
            async with engine.connect() as db:
                query = text("select problem from arrival where name = :name and state = 'refused'")
                found.extend((await db.execute(query, {"name": name})).scalars())
            await engine.dispose()

        asyncio.run(go())
        return found


class Working(unittest.IsolatedAsyncioTestCase):
    async def test_work_that_takes_too_long_is_given_up_and_its_worker_replaced(self) -> None:
        workers = ProcessPool(1, "builtins:len", "")
        try:
            self.assertEqual(await workers.run("os:getpid", within_s=60) > 0, True)
            with self.assertRaisesRegex(NotDone, "took longer than the 1 s"):
                await workers.run("time:sleep", 600, within_s=1)
            self.assertEqual(await workers.run("builtins:abs", -3, within_s=60), 3)
            with self.assertRaises(ZeroDivisionError):
                await workers.run("operator:truediv", 1, 0, within_s=60)
            with self.assertRaisesRegex(NotDone, "ended 2 times"):
                await workers.run("os:abort", within_s=60)
            self.assertEqual(await workers.run("builtins:abs", -4, within_s=60), 4)
        finally:
            workers.close()


class Planning(WorldCase):
    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        cls.world.add_file("odd.gcode", squares(layers=2))
        cls.world.add_file("even.gcode", squares(layers=3))

    def test_a_job_that_cannot_be_planned_is_shown_as_such_and_keeps_nothing_else(self) -> None:
        w = self.world
        w.intake(Intake.CLOSED)
        odd = "(select sha256 from revision join file on file.id = revision.file_id where file.name = 'odd.gcode')"
        w.sql(f"update content_reading set figures = json_remove(figures, '$.declared') where sha256 = {odd}")
        tags, figures = (w.client.do(requests.submit(NewJob(file=name))) for name in ("even.gcode", "odd.gcode"))
        good = w.client.do(requests.submit(NewJob(file="even.gcode")))
        w.sql("""update job set requirement = '{"tags": "clean and (", "bogus": 1}' where id = :job""", job=tags.id)
        eventually(lambda: "cannot be read" in w.client.do(requests.job(tags.id)).why, "the damage is seen")
        self.assertIn("damaged", w.client.do(requests.job(figures.id)).why)
        plan = w.client.do(requests.plan())
        self.assertEqual({n for n in plan.unplaced if n in (tags.id, figures.id)}, {tags.id, figures.id})
        w.client.do(requests.rounds())
        w.client.do(requests.what_if(WhatIf(changes=[IfStrategy(strategy=plan.strategy)])))
        w.intake(Intake.OPEN)
        eventually(lambda: w.builds(good), "the good one is built")
        for job in (tags, figures):
            self.assertEqual(w.builds(job), [])
            w.client.do(requests.act_on_job(job.id, "withdraw"))

    def test_a_machine_whose_name_no_file_system_holds_keeps_the_tender_from_no_other(self) -> None:
        w = self.world
        for n, name in enumerate(("日" * 60, "日" * 59 + "本", "%" * 60)):
            order = {"name": name, "model": MODEL, "link": f"tcp://127.0.0.1:{free_port()}", "place": str(n)}
            w.client.do(requests.add_machine(NewMachine.model_validate(order)))
            eventually(lambda name=name: w.machine(name).state == "offline", "it is minded, and nobody is there")  # type: ignore[misc]
        w.kill("tender")
        w.start_tender()
        eventually(lambda: all(m.reachable for m in w.machines()), "it minds them all again")
        self.assertNotIn("cannot be minded", (w.folder / "tender.log").read_text())


class Tenders(WorldCase):
    machines = ("Anchor",)

    @classmethod
    def prepare(cls) -> None:
        cls.world.start_service()
        cls.world.add_machines()

    def talk(self) -> ClientConnection:
        headers = {"Authorization": f"Bearer {self.world.tender_key}"}
        url = self.world.address.replace("http", "ws") + "/api/tender"
        socket = connect(url, additional_headers=headers, proxy=None)
        self.addCleanup(socket.close)
        socket.send('{"kind":"hello","tender":"tender","epoch":"made by a test"}')
        self.committed = json.loads(socket.recv(timeout=60))["committed"]
        return socket

    committed = 0

    def tell(self, socket: ClientConnection, body: dict[str, Any], machine: str = "Anchor", **more: Any) -> None:
        """Tell an event and wait until it is acknowledged, whatever the tender is asked meanwhile."""
        self.committed += 1
        event = {"kind": "event", "sequence": self.committed, "machine": machine, "at": "2026-10-19T09:00:00Z",
                 "body": body, **more}  # fmt: skip
        socket.send(json.dumps(event))
        self.assertEqual(heard(socket), {"kind": "committed", "sequence": self.committed})

    def notices(self) -> str:
        return "\n".join(n.text for n in self.world.client.do(requests.notices()))

    def test_what_a_tender_says_badly_is_refused_once_and_the_rest_is_heard(self) -> None:
        socket = self.talk()
        for bad in ("no JSON", '{"kind":"sample","machine":"Anchor","state":"molten","connected":true}', "[]", "1e999"):
            socket.send(bad)
        self.tell(socket, {"kind": "dance"})
        self.assertIn("could not be understood", self.notices())
        self.tell(socket, {"kind": "noticed", "text": "long " * 20_000})
        self.assertLess(max(map(len, self.notices().splitlines())), 2001, "it is cut")
        self.tell(socket, {"kind": "ended", "build": 1, "outcome": "completed", "reason": "", "acknowledged": 10**30,
                           "planned_done_s": 1.0, "filament_mm": 1.0})  # fmt: skip
        self.tell(socket, {"kind": "noticed", "text": "all is well"}, at="0001-01-01T00:00:00Z")
        self.tell(socket, {"kind": "noticed", "text": "all is well again"})
        self.assertIn("all is well again", self.notices())
        for _ in range(40):
            socket.send("nonsense")
        self.tell(socket, {"kind": "noticed", "text": "and again"})
        self.assertLess((self.world.folder / "service.log").read_text().count("WARNING"), 20)

    def test_a_sample_of_figures_that_nothing_has_breaks_no_plan_and_no_list(self) -> None:
        socket, w = self.talk(), self.world
        build = {
            "id": 1,
            "file": "x",
            "job": 1,
            "copy_number": 1,
            "state": "building",
            "remaining_s": 1e300,
            "pace": 1e300,
        }
        sample = {"kind": "sample", "machine": "Anchor", "state": "idle", "connected": True, "build": build,
                  "reading": {"at": "2026-10-19T09:00:00Z", "bed": {"measured_c": 1e8}}}  # fmt: skip
        for odd in ({**sample, "reading": {"at": "0001-01-01T00:00:00Z"}}, {**sample, "resends": 1e300}):
            socket.send(json.dumps(odd))
        for n in range(3):
            socket.send(json.dumps({**sample, "resends": n}))
        eventually(lambda: w.machine("Anchor").resends == 2, "the good one is heard")
        w.client.do(requests.plan())
        w.client.do(requests.rounds())
        eventually(lambda: w.client.do(requests.heat("Anchor")), "its heat is kept")

    def test_who_says_nothing_that_can_be_understood_is_sent_away(self) -> None:
        socket = self.talk()
        with suppress(ConnectionClosed):
            for _ in range(200):
                socket.send("nonsense")
        self.assertEqual(sent_away(socket)[0], 4400)


if __name__ == "__main__":
    unittest.main()
