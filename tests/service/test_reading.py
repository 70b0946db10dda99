"""How lists and views are read: page by page, only when they have changed, and packed."""

from __future__ import annotations

import asyncio
import gzip
import json
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from types import SimpleNamespace
from typing import ClassVar

import httpx
import pymysql
from fastapi import Request
from sqlalchemy import make_url

from chronarch.client import requests
from chronarch.core.clock import real_clock
from chronarch.core.machines.states import Intake
from chronarch.service.http.views import MOST_KEPT, Views
from chronarch.wire import library as wl
from chronarch.wire.orders import jobs as ww
from chronarch.wire.orders import orders as wo
from chronarch.wire.orders.stock import StockCount
from tests.support.gcode import squares
from tests.support.world import WorldCase, eventually

MANY = 23
LISTS = ("/api/files", "/api/jobs", "/api/jobs?newest=true", "/api/orders", "/api/orders?ended=true", "/api/folders",
         "/api/parts", "/api/notices", "/api/builds", "/api/spools", "/api/ledger", "/api/stock",
         "/api/arrivals")  # fmt: skip
BY_NAME = ("/api/parts", "/api/folders")
"""Lists in which any text is a place."""


class Keeping(unittest.IsolatedAsyncioTestCase):
    async def test_no_more_is_kept_than_has_room_whatever_is_asked(self) -> None:
        views = Views(SimpleNamespace(clock=real_clock()), None)  # type: ignore[arg-type]
        made: list[str] = []

        async def ask(query: str, state: int = 0) -> bytes:
            async def make() -> bytes:
                made.append(query)
                return b"[]"

            scope = {"type": "http", "path": "/x", "query_string": query.encode(), "headers": []}
            return bytes((await views.show(Request(scope), make, state)).body)

        for n in range(MOST_KEPT + 50):
            self.assertEqual(await ask(f"n={n}"), b"[]")
        self.assertEqual(len(views._kept), MOST_KEPT)
        self.assertEqual(len(views._making), 0)
        made.clear()
        await asyncio.gather(*(ask("n=3", state=1) for _ in range(9)), ask(f"n={MOST_KEPT}"))
        self.assertEqual(made, ["n=3"], "it is made once for all who ask at once, and what is kept not at all")


class Reading(WorldCase):
    machines = ("Anchor",)
    http: ClassVar[httpx.Client]

    @classmethod
    def prepare(cls) -> None:
        super().prepare()
        w = cls.world
        w.intake(Intake.CLOSED)
        w.add_file("tip.gcode", squares(layers=2))
        for n in range(8):
            w.client.do(requests.add_folder(f"shelf {n}"))
            count = StockCount(file="tip.gcode", colour=f"colour {n}", pieces=n)
            w.client.do(requests.count_stock(count))
        for n in range(MANY):
            w.client.do(requests.add_part(wl.NewPart(name=f"part {n % 3} {n:02}", files=[])))
            line = wo.NewOrderLine(file="tip.gcode", quantity=1 + n % 2)
            w.client.do(requests.make_order(wo.NewOrder(customer=f"Customer {n % 5}", lines=[line])))
        cls.http = httpx.Client(base_url=w.address, headers={"Authorization": f"Bearer {w.key}"}, timeout=30)
        cls.addClassCleanup(cls.http.close)

    def pages(self, path: str, limit: int) -> list[list[dict[str, object]]]:
        found = []
        url = f"{path}{'&' if '?' in path else '?'}limit={limit}"
        while url:
            answer = self.http.get(url)
            self.assertEqual(answer.status_code, 200, answer.text)
            found.append(answer.json())
            url = answer.links.get("next", {}).get("url", "")
        return found

    def test_pages_put_together_are_the_whole_list_in_its_order(self) -> None:
        for path in LISTS:
            whole = self.http.get(f"{path}{'&' if '?' in path else '?'}limit=1000").json()
            for limit in (1, 7, len(whole) or 1):
                with self.subTest(path=path, limit=limit):
                    pages = self.pages(path, limit)
                    self.assertEqual([_which(row) for page in pages for row in page], [_which(row) for row in whole])
                    self.assertTrue(all(len(page) == limit for page in pages[:-1]))
        self.assertEqual(len(self.http.get("/api/orders").json()), MANY)

    def test_a_page_that_is_none_is_refused_with_what_to_do(self) -> None:
        for path in LISTS:
            mark = "&" if "?" in path else "?"
            for after in ("x", "W10", "bnVsbA", *(() if path in BY_NAME else ("WyJhIl0", "WzFlOTk5OV0"))):
                with self.subTest(path=path, after=after):
                    answer = self.http.get(f"{path}{mark}after={after}")
                    self.assertEqual(answer.status_code, 400, answer.text)
                    self.assertIn("Link header", answer.json()["detail"])
            self.assertEqual(self.http.get(f"{path}{mark}limit=0").status_code, 422)
            self.assertEqual(self.http.get(f"{path}{mark}limit=1001").status_code, 422)

    def test_the_client_reads_a_list_to_its_end_or_as_far_as_asked(self) -> None:
        w = self.world
        every = w.client.all(requests.orders())
        self.assertEqual(len({o.id for o in every}), MANY)
        self.assertEqual([o.id for o in w.client.all(requests.orders(), 5)], [o.id for o in every[:5]])

    def test_the_queue_is_paged_and_says_what_waits_on_all_pages(self) -> None:
        first = self.http.get("/api/queue?limit=5")
        line = first.json()
        self.assertEqual((len(line["jobs"]), line["copies"]), (5, sum(1 + n % 2 for n in range(MANY))))
        self.assertGreater(line["work_s"], 0)
        second = self.http.get(first.links["next"]["url"]).json()
        self.assertFalse({j["id"] for j in line["jobs"]} & {j["id"] for j in second["jobs"]})
        found = self.http.get("/api/queue?search=CUSTOMER+3").json()["jobs"]
        self.assertEqual({j["customer"] for j in found}, {"Customer 3"})
        self.assertEqual(self.http.get("/api/queue?search=nothing+of+it").json()["jobs"], [])

    def database(self) -> pymysql.Connection[pymysql.cursors.Cursor]:
        connection = self.world.server.connect(make_url(self.world.database).database)
        connection.autocommit(True)
        return connection

    @contextmanager
    def no_plan(self) -> Iterator[None]:
        """Whoever makes a plan has to wait for as long as this holds."""
        with self.database() as connection, connection.cursor() as cursor:
            cursor.execute("lock tables upkeep_window write")
            yield

    def touch(self, job: int) -> None:
        self.world.client.do(requests.change_job(job, ww.JobChange(note=str(time.monotonic()))))

    def test_who_has_changed_something_sees_a_plan_that_has_it(self) -> None:
        w, one = self.world, self.http.get("/api/jobs?limit=1").json()[0]["id"]
        with (
            self.database() as connection,
            connection.cursor() as cursor,
            ThreadPoolExecutor() as threads,
        ):

            def is_there(query: str) -> bool:
                return bool(cursor.execute(query))

            with self.no_plan():
                threads.submit(self.touch, one)
                waits = "select 1 from information_schema.processlist where state like 'waiting for table metadata%'"
                eventually(lambda: is_there(waits), "a plan is under way")
                added = threads.submit(w.submit, "tip.gcode", 7)
                eventually(lambda: is_there("select 1 from job where copies = 7"), "there is a job that it has not")
            job = added.result(60)
            self.assertNotIn("being planned", job.why)
        w.client.do(requests.act_on_job(job.id, "withdraw"))

    def test_who_looks_at_a_large_shop_does_not_wait_for_the_plan(self) -> None:
        w = self.world
        one, copies = self.http.get("/api/jobs?limit=1").json()[0]["id"], self.http.get("/api/queue").json()["copies"]
        w.sql(
            "insert into job (file_id, copies, held, withdrawn, requirement, from_stock, priority, line, top, note,"
            " tags, created_at, created_by, open) select file_id, 1, held, withdrawn, requirement, from_stock,"
            " priority, line + 1000, top, 'crowd', tags, created_at, created_by, open from job join seq_1_to_30"
        )
        self.touch(one)
        newest = "/api/jobs?newest=true&limit=1"
        eventually(lambda: "being planned" not in self.http.get(newest).json()[0]["why"], "the crowd is planned")
        with self.no_plan():
            added = w.submit("tip.gcode")
            self.assertEqual(added.why, "It is being planned.")
            self.assertNotEqual(w.client.do(requests.job(one)).why, added.why)
        eventually(lambda: w.client.do(requests.job(added.id)).why != added.why, "the new plan is seen once it is made")
        w.sql("delete from job where note = 'crowd'")
        w.client.do(requests.act_on_job(added.id, "withdraw"))
        eventually(lambda: self.http.get("/api/queue").json()["copies"] == copies, "the shop is small again")

    def test_what_has_not_changed_is_not_sent_again_and_what_has_is(self) -> None:
        for path in ("/api/parts", "/api/files", "/api/builds", "/api/machines"):
            with self.subTest(path=path):
                eventually(lambda path=path: self.not_sent_again(path), f"{path} is the same for a moment")
        etag = self.http.get("/api/parts").headers["etag"]
        self.world.client.do(requests.add_part(wl.NewPart(name="one more", files=[])))
        answer = self.http.get("/api/parts?limit=1000", headers={"If-None-Match": etag})
        self.assertIn("one more", [part["name"] for part in answer.json()], "a change is seen by the next who asks")
        self.world.client.do(requests.remove_part("one more"))
        self.assertNotIn("one more", self.http.get("/api/parts?limit=1000").text)

    def not_sent_again(self, path: str) -> bool:
        etag = self.http.get(path).headers["etag"]
        again = self.http.get(path, headers={"If-None-Match": f'W/"other", {etag}'})
        if again.status_code == 304:
            self.assertEqual((again.content, again.headers["etag"]), (b"", etag))
        return again.status_code == 304

    def test_large_answers_are_packed_for_whoever_takes_that(self) -> None:
        for accept, packed in (("gzip", True), ("identity", False), ("br", False)):
            with (
                self.subTest(accept=accept),
                self.http.stream("GET", "/api/parts?limit=1000", headers={"Accept-Encoding": accept}) as answer,
            ):
                raw = b"".join(answer.iter_raw())
                self.assertEqual(answer.headers.get("content-encoding") == "gzip", packed)
                self.assertEqual(answer.headers["vary"], "Accept-Encoding")
                self.assertGreaterEqual(len(json.loads(gzip.decompress(raw) if packed else raw)), MANY)

    def test_the_library_says_what_it_can_be_searched_by(self) -> None:
        found = self.world.client.do(requests.library())
        self.assertEqual(found.files, 1)
        self.world.client.do(requests.change_file("tip.gcode", wl.FileChange(tags=["Été", "b"])))
        self.assertEqual(self.world.client.do(requests.library()).tags, ["b", "Été"])
        self.assertEqual(len(self.http.get("/api/files?tag=été").json()), 1)
        self.assertEqual(len(self.http.get("/api/files?search=tip+ÉT").json()), 1)

    def test_the_ledgers_days_are_made_anew_while_machines_work(self) -> None:
        before = self.http.get("/api/report/utilisation").json()["fleet"]
        said = self.world.client.do(requests.rebuild_ledger()).text
        self.assertIn("1 machines were made anew", said.replace("The days of ", ""))
        after = self.http.get("/api/report/utilisation").json()["fleet"]
        self.assertGreaterEqual(after["recorded_s"], before["recorded_s"])


def _which(row: dict[str, object]) -> dict[str, object]:
    """What tells a row from others. What the forecast says of it may change with each moment."""
    return {name: row[name] for name in ("id", "name", "begin", "path", "file") if name in row}


if __name__ == "__main__":
    unittest.main()
