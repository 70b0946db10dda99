"""The client library against a small server of this test's own: requests, answers, errors and the live stream."""

from __future__ import annotations

import asyncio
import base64
import hashlib
import json
import tempfile
import threading
import unittest
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from time import sleep
from typing import Any, ClassVar
from unittest.mock import patch

from pydantic import TypeAdapter, ValidationError

from chronarch.client import AsyncClient, Client, ClientError, RefusedByService, Unreachable, call, requests
from chronarch.core.control import actions as h
from chronarch.core.orders.states import Verdict
from chronarch.wire.orders.jobs import NewJob

PROBLEM = {"type": "about:blank", "title": "Not found", "status": 404, "detail": "There is no machine named 'X'."}


LIVE = b'event: shop\ndata: {"a":1}\n\n: still here\n\nevent: changed\ndata: {}\n\n'


class Answers(BaseHTTPRequestHandler):
    """Answers by path, and remembers what it was asked."""

    asked: ClassVar[list[tuple[str, str, dict[str, str], bytes]]] = []
    table: ClassVar[dict[str, tuple[int, str, bytes]]] = {
        "/api/shop": (200, "application/json", b'{"name":"s","now":"2026-10-19T09:00:00Z","rate":30.0}'),
        "/api/machines/X": (404, "application/problem+json", json.dumps(PROBLEM).encode()),
        "/api/files": (500, "text/html", b"<h1>it broke</h1>"),
        "/api/jobs": (200, "application/json", b"[]"),
        "/api/live": (
            200,
            "text/event-stream",
            b'event: shop\ndata: {"a":1}\n\n: still here\n\nevent: changed\ndata: {}\n\n',
        ),
        "/api/blobs/abc": (200, "application/octet-stream", b"G28\n" * 1000),
        "/api/machines/A/frame": (200, "application/json", b'{"text":"kept"}'),
    }

    def answer(self) -> None:
        body = b""
        if self.headers.get("Transfer-Encoding") == "chunked":
            while size := int(self.rfile.readline(), 16):
                body += self.rfile.read(size)
                self.rfile.readline()
            self.rfile.readline()
        else:
            body = self.rfile.read(int(self.headers.get("Content-Length", 0)))
        path, _, query = self.path.partition("?")
        self.asked.append((f"{self.command} {path}", query, dict(self.headers), body))
        status, kind, content = self.table.get(path, (404, "application/problem+json", json.dumps(PROBLEM).encode()))
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(content)))
        self.end_headers()
        self.wfile.write(content)

    do_GET = do_POST = do_PUT = do_PATCH = do_DELETE = answer

    def log_message(self, *args: object) -> None:
        pass


class Calls(unittest.TestCase):
    def setUp(self) -> None:
        Answers.asked.clear()
        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Answers)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.addCleanup(self.server.server_close)
        self.addCleanup(self.server.shutdown)
        self.address = f"http://127.0.0.1:{self.server.server_port}"
        self.client = Client(self.address, "a-key")
        self.addCleanup(self.client.close)

    def test_an_answer_comes_as_its_type_and_the_key_goes_along(self) -> None:
        shop = self.client.do(requests.shop())
        self.assertEqual((shop.now, shop.rate), (datetime(2026, 10, 19, 9, tzinfo=UTC), 30.0))
        self.assertEqual(Answers.asked[0][2]["Authorization"], "Bearer a-key")

    def test_a_problem_is_an_error_with_its_sentence(self) -> None:
        with self.assertRaises(RefusedByService) as refused:
            self.client.do(requests.machine("X"))
        self.assertEqual(str(refused.exception), "There is no machine named 'X'.")
        self.assertEqual(refused.exception.problem.status, 404)
        self.assertIsInstance(refused.exception, ClientError)

    def test_an_error_that_is_no_problem_is_still_said_in_a_sentence(self) -> None:
        with self.assertRaisesRegex(RefusedByService, "answered 500"):
            self.client.do(requests.files())

    def test_nobody_there_is_unreachable_in_both_clients(self) -> None:
        with Client("http://127.0.0.1:9") as client, self.assertRaises(Unreachable):
            client.do(requests.shop())

        async def ask() -> None:
            async with AsyncClient("http://127.0.0.1:9") as client:
                await client.do(requests.shop())

        with self.assertRaises(Unreachable):
            asyncio.run(ask())

    def test_parameters_that_are_not_given_are_not_sent(self) -> None:
        self.client.do(requests.jobs())
        begin = datetime(2026, 10, 12, tzinfo=UTC)
        with self.assertRaises(RefusedByService):
            self.client.do(requests.utilisation(begin))
        self.assertEqual(Answers.asked[1][1], "from=2026-10-12T00%3A00%3A00%2B00%3A00")

    def test_an_order_goes_as_json_with_what_was_set(self) -> None:
        with self.assertRaises(ValidationError):
            self.client.do(requests.submit(NewJob(file="x.gcode", copies=3)))
        path, _, headers, body = Answers.asked[0]
        self.assertEqual(path, "POST /api/jobs")
        self.assertEqual(headers["Content-Type"], "application/json")
        self.assertEqual(json.loads(body), {"file": "x.gcode", "copies": 3})

    def test_scrap_without_a_reason_is_refused_before_anything_is_sent(self) -> None:
        with self.assertRaises(ValueError):
            self.client.do(requests.verdict(1, Verdict.SCRAP))
        self.assertEqual(Answers.asked, [])

    def test_a_file_is_sent_in_pieces_with_its_digest_and_progress(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "long name é.gcode"
            path.write_bytes(b"G1 X1\n" * 500_000)
            sent: list[int] = []
            with self.assertRaises(RefusedByService):
                self.client.add_file(path, progress=sent.append)
            path_asked, _, headers, body = Answers.asked[0]
            self.assertEqual(body, path.read_bytes())
            self.assertEqual(path_asked, "PUT /api/drop/long%20name%20%C3%A9.gcode")
            digest = base64.b64encode(hashlib.sha256(body).digest()).decode()
            self.assertEqual(headers["Content-Digest"], f"sha-256=:{digest}:")
            self.assertEqual((sum(sent), len(sent)), (len(body), 3))

    def test_the_live_stream_is_read_event_by_event(self) -> None:
        events = [(e.name, e.data) for e in self.client.live()]
        self.assertEqual(events, [("shop", '{"a":1}'), ("changed", "{}")])

        async def listen() -> list[str]:
            async with AsyncClient(self.address) as client:
                return [e.name async for e in client.live()]

        self.assertEqual(asyncio.run(listen()), ["shop", "changed"])

    def test_what_tenders_fetch_and_hand_over(self) -> None:
        async def work(folder: Path) -> None:
            async with AsyncClient(self.address, "t") as client:
                await client.blob("abc", folder / "x")
                with self.assertRaises(RefusedByService):
                    await client.blob("none", folder / "y")

        with tempfile.TemporaryDirectory() as folder:
            asyncio.run(work(Path(folder)))
            self.assertEqual((Path(folder) / "x").read_bytes(), b"G28\n" * 1000)


class Threads(unittest.TestCase):
    def test_what_reads_and_writes_a_kind_is_made_by_one_thread_at_a_time_and_once(self) -> None:
        made: list[Any] = []
        at_once: list[int] = []
        going = 0

        class Making(TypeAdapter[Any]):
            def __init__(self, kind: Any) -> None:
                nonlocal going
                going += 1
                at_once.append(going)
                sleep(0.02)
                super().__init__(kind)
                made.append(kind)
                going -= 1

        actions = [h.Home(), h.Move(x=1), h.Adjust(nozzle_c=40), h.Preset("PLA")]
        call._made.cache_clear()
        self.addCleanup(call._made.cache_clear)
        with patch.object(call, "TypeAdapter", Making):
            threads = [threading.Thread(target=requests.act("Anchor", one).arguments) for one in actions * 3]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
        self.assertEqual(set(at_once), {1})
        self.assertEqual(sorted(kind.__name__ for kind in made), ["Adjust", "Home", "Move", "Preset"])
