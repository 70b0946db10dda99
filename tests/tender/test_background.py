"""What yields to the feeding: the process for logs, killed, told anew, before a service that refuses."""

from __future__ import annotations

import asyncio
import gzip
import http.server
import os
import signal
import tempfile
import threading
import unittest
from pathlib import Path
from unittest import mock

import chronarch.tender.background as background
from chronarch.client import AsyncClient
from chronarch.tender.background import hand_on_log
from chronarch.tender.helper_process import HelperProcess
from tests.support.world import eventually

PATIENCE_S = 120.0  # it runs only when nothing else does


class _Shop(http.server.ThreadingHTTPServer):
    """A service; `answers` are what the service answers next, then 200."""

    daemon_threads = True

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), _Answering)
        self.logs: list[tuple[str, bytes]] = []
        self.answers: list[int] = []

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.server_port}"

    def handle_error(self, request: object, client_address: object) -> None:
        """Whoever is killed hangs up."""


class _Answering(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    server: _Shop

    def do_PUT(self) -> None:
        body = self._body()
        status = self.server.answers.pop(0) if self.server.answers else 200
        if status == 200:
            self.server.logs.append((self.path, body))
        refusal = b'{"title": "x", "status": %d, "detail": "not wanted"}' % status
        self._answer(status, b"{}" if status == 200 else refusal)

    def _body(self) -> bytes:
        if "Content-Length" in self.headers:
            return self.rfile.read(int(self.headers["Content-Length"]))
        body = b""
        while size := int(self.rfile.readline(), 16):
            body += self.rfile.read(size)
            self.rfile.readline()
        self.rfile.readline()
        return body

    def _answer(self, status: int, body: bytes) -> None:
        self.send_response(status)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *what: object) -> None:
        pass


class WithShop(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.shop = _Shop()
        serving = threading.Thread(target=self.shop.serve_forever, args=(0.02,))
        serving.start()
        self.addCleanup(serving.join)
        self.addCleanup(self.shop.server_close)
        self.addCleanup(self.shop.shutdown)


class OneProcess(WithShop):
    def log_of(self, build: int) -> dict[str, object]:
        path = self.folder / f"{build}.log"
        path.write_bytes(b"2026-10-19T09:00:00Z > G28\n" * 100)
        return {"name": f"log {build}", "build": build, "path": str(path)}

    def helper(self) -> HelperProcess:
        told = {"CHRONARCH_ADDRESS": self.shop.url, "CHRONARCH_TENDER_KEY": "key"}
        mine = HelperProcess(["background"], told)
        self.addCleanup(mine.close)
        return mine

    def came(self, build: int) -> bool:
        return any(path == f"/api/builds/{build}/log" for path, _ in self.shop.logs)

    def test_what_was_told_is_done_also_after_the_process_was_killed(self) -> None:
        mine = self.helper()
        mine.look_after()
        self.assertIsNone(mine._process, "there is nothing to do yet")
        mine.tell(self.log_of(1))
        mine.look_after()
        process = mine._process
        assert process is not None
        eventually(lambda: self.came(1), "a log comes", PATIENCE_S)
        self.assertEqual(os.sched_getscheduler(process.pid), os.SCHED_IDLE, "it runs when nothing else wants to")
        process.send_signal(signal.SIGKILL)
        process.wait()
        mine.tell(self.log_of(2))
        mine.look_after()
        eventually(lambda: self.came(2), "the new process knows of what was told meanwhile", PATIENCE_S)

    def test_it_ends_with_the_tender(self) -> None:
        mine = self.helper()
        mine.tell(self.log_of(1))
        mine.look_after()
        process = mine._process
        assert process is not None and process.stdin is not None
        eventually(lambda: self.came(1), "a log comes", PATIENCE_S)
        process.stdin.close()
        self.assertEqual(process.wait(PATIENCE_S), 0, "its orders' end ends it")


class Logs(WithShop):
    def setUp(self) -> None:
        super().setUp()
        self.log = self.folder / "7.log"
        self.log.write_bytes(b"2026-10-19T09:00:00Z > N1 G28*18\n" * 1000)

    def hand_on(self) -> None:
        async def go() -> None:
            async with AsyncClient(self.shop.url, "key") as client:
                await hand_on_log(7, self.log, client)

        with mock.patch.object(background, "RETRY_S", 0.01):
            asyncio.run(go())

    def test_a_log_is_handed_on_packed_and_then_gone_here(self) -> None:
        whole = self.log.read_bytes()
        self.hand_on()
        ((path, body),) = self.shop.logs
        self.assertEqual((path, gzip.decompress(body)), ("/api/builds/7/log", whole))
        self.assertLess(len(body), len(whole) / 10)
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_a_log_the_service_does_not_want_is_not_offered_for_ever(self) -> None:
        self.shop.answers = [404]
        self.hand_on()
        self.assertEqual((self.shop.logs, list(self.folder.iterdir())), ([], []))


if __name__ == "__main__":
    unittest.main()
