"""What yields to the feeding: the process for cameras and logs, killed, told anew, before a service that refuses."""

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
from chronarch.tender.background import BackgroundProcess, hand_on_log
from tests.support.world import eventually

PATIENCE_S = 120.0  # it runs only when nothing else does
JPEG = b"\xff\xd8\xff" + bytes(500)


class _Shop(http.server.ThreadingHTTPServer):
    """A camera and a service in one; `answers` are what the service answers next, then 200."""

    daemon_threads = True

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), _Answering)
        self.frames: list[tuple[str, bytes]] = []
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

    def do_GET(self) -> None:
        self._answer(200, JPEG)

    def do_PUT(self) -> None:
        body = self._body()
        status = self.server.answers.pop(0) if self.server.answers else 200
        if status == 200:
            kept = self.server.frames if self.path.endswith("/frame") else self.server.logs
            kept.append((self.path, body))
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


class Cameras(WithShop):
    def camera(self, machine: str) -> dict[str, object]:
        url = f"{self.shop.url}/cam.jpg"
        return {"name": f"camera {machine}", "what": "camera", "machine": machine, "url": url, "every_s": 0.05}

    def frames_of(self, machine: str) -> int:
        return sum(path == f"/api/machines/{machine}/frame" and body == JPEG for path, body in self.shop.frames)

    def test_frames_come_and_come_again_after_the_process_was_killed(self) -> None:
        mine = BackgroundProcess(self.shop.url, "key")
        self.addCleanup(mine.close)
        mine.tell(self.camera("Anchor"))
        mine.look_after()
        process = mine._process
        assert process is not None
        eventually(lambda: self.frames_of("Anchor") > 2, "frames come", PATIENCE_S)
        self.assertEqual(os.sched_getscheduler(process.pid), os.SCHED_IDLE, "it runs when nothing else wants to")
        mine.tell(self.camera("Bezel"))
        eventually(lambda: self.frames_of("Bezel"), "a camera told of later is watched too", PATIENCE_S)
        process.send_signal(signal.SIGKILL)
        process.wait()
        before = self.frames_of("Anchor"), self.frames_of("Bezel")
        mine.look_after()
        eventually(
            lambda: self.frames_of("Anchor") > before[0] and self.frames_of("Bezel") > before[1],
            "the new process knows of both",
            PATIENCE_S,
        )

    def test_it_ends_with_the_tender(self) -> None:
        mine = BackgroundProcess(self.shop.url, "key")
        mine.tell(self.camera("Anchor"))
        mine.look_after()
        process = mine._process
        assert process is not None and process.stdin is not None
        eventually(lambda: self.frames_of("Anchor"), "frames come", PATIENCE_S)
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
