"""Every answer is what the OpenAPI document says: a problem where something is wrong, with strict headers on all."""

from __future__ import annotations

import asyncio
import json
import socket
import threading
import time
import unittest
from collections.abc import Iterator
from typing import Any
from unittest import mock

import httpx
import uvicorn
from fastapi import FastAPI, Request

from chronarch.service.http import bounded_protocol as http_protocol
from chronarch.service.http.bounded_protocol import BoundedProtocol
from chronarch.service.http.hardening import SECURITY_HEADERS, Hardened
from tests.support.gcode import squares
from tests.support.world import WorldCase, eventually

NUMBERS = {"integer", "number"}


def talk(port: int, data: bytes, within_s: float = 60.0) -> bytes:
    """Send bytes and read until the other side closes."""
    with socket.create_connection(("127.0.0.1", port), timeout=within_s) as s:
        s.sendall(data)
        said = b""
        while piece := s.recv(65536):
            said += piece
        return said


class EveryAnswer(WorldCase):
    http: httpx.Client
    document: dict[str, Any]

    @classmethod
    def prepare(cls) -> None:
        w = cls.world
        w.start_service()
        w.add_machines()
        cls.http = httpx.Client(base_url=w.address, headers={"Authorization": f"Bearer {w.key}"}, timeout=60)
        cls.addClassCleanup(cls.http.close)
        cls.document = cls.http.get("/api/openapi.json").json()

    def assert_problem(self, answer: httpx.Response, *statuses: int) -> None:
        self.assertIn(answer.status_code, statuses, answer.text[:300])
        self.assertEqual(answer.headers["content-type"], "application/problem+json")
        self.assertEqual(answer.json()["status"], answer.status_code)
        self.assertTrue(answer.json()["detail"].strip())
        for name in SECURITY_HEADERS:
            self.assertIn(name.lower(), answer.headers)

    def test_odd_paths_figures_times_and_headers_are_refused_as_problems(self) -> None:
        long, digits = "x" * 20_000, "9" * 5000
        gets = (
            f"/api/jobs/{digits}", "/api/jobs/9999999999", "/api/jobs/-1", "/api/jobs/%C2%B2", "/api/files/%C2%B9",
            f"/api/machines/{long}", "/api/machines/%00", "/api/machines/%ff%fe", "/api/files/%ED%A0%80", "/api//jobs",
            "/api/%2e%2e/%2e%2e/etc/passwd", "/assets/%00", "/assets/..%2f..%2fx", "/api/contents/%2e%2e/reading",
            "/api/ledger?begin=0001-01-01T00:00:00Z", "/api/ledger?end=9999-12-31T23:59:59Z", "/api/ledger?begin=1e300",
            "/api/since?begin=0001-01-01T00:00:00%2B14:00", "/api/report/turnaround?to=-62135596800",
            f"/api/builds?limit={digits}", "/api/builds?limit=NaN", "/api/files?least_s=NaN", "/api/files?most_s=1e400",
            f"/api/notices?limit={digits}", "/api/machines/Anchor/log?after=-1", "/api/nothing/at/all",
        )  # fmt: skip
        for path in gets:
            with self.subTest(path=path[:60]):
                answer = self.http.get(path)
                self.assert_problem(answer, 404, 422)
        for version in (b"\xb2", digits.encode(), b"\x7f", b'W/"x"'):
            headers = {b"If-Match": version}
            self.assert_problem(self.http.post("/api/queue/move", json={"jobs": [1]}, headers=headers), 400, 412, 422)
        for name, value in (("Authorization", b"Bearer \xff"), ("Cookie", b"chronarch_session=\xff"),
                            ("Authorization", b"Bearer"), ("Authorization", b"\xff")):  # fmt: skip
            headers = {name.encode(): value}
            self.assert_problem(httpx.get(f"{self.world.address}/api/me", headers=headers, timeout=60), 401)

    def test_figures_that_cannot_be_reckoned_with_are_refused_at_the_door(self) -> None:
        for path, body in (
            ("/api/models", '{"name":"Odd","bed_ceiling_c":NaN}'), ("/api/models", '{"name":"Odd","lift_mm":1e999}'),
            ("/api/models", '{"name":"Odd","park_mm":[1e300,0]}'), ("/api/models", '{"name":"Odd","lift_mm":Infinity}'),
            ("/api/jobs", '{"file":1,"copies":99999999999999999999}'), ("/api/jobs", '{"file":' + "9" * 400 + "}"),
            ("/api/jobs", '{"file":1,"due":"0001-01-01T00:00:00Z"}'), ("/api/jobs", '{"file":1,"due":1e300}'),
            ("/api/jobs", '{"file":"\\ud800"}'), ("/api/spools", '{"material":"PLA","grams_full":-1e308}'),
            ("/api/machines/Anchor/do", '{"kind":"move","x":NaN}'), ("/api/machines/Anchor/do", "[" * 100_000),
            ("/api/machines/Anchor/do", '{"kind":"feed","mm":1e999}'),
            ("/api/what-if", '{"changes":[{"kind":"due","job":1,"due":1e99}]}'),
        ):  # fmt: skip
            with self.subTest(path=path, body=body[:50]):
                answer = self.http.post(path, content=body, headers={"Content-Type": "application/json"})
                self.assert_problem(answer, 400, 422)

    def test_what_is_asked_and_what_is_kept_must_fit_together(self) -> None:
        self.world.add_file("piece.gcode", squares(layers=2))
        order = {"customer": "Loomfield", "lines": [{"file": "piece.gcode"}]}
        made = self.http.post("/api/orders", json=order).json()["id"]
        for change in ({"customer": "Loom\x17field"}, {"customer": ""}):
            self.assert_problem(self.http.patch(f"/api/orders/{made}", json=change), 422)
            self.assert_problem(self.http.post(f"/api/orders/{made}/repeat", json=change), 422)
        more = {"add": [{"file": "piece.gcode"}] * 200}
        self.assert_problem(self.http.patch(f"/api/orders/{made}", json=more), 422)
        self.assertEqual(self.http.post(f"/api/orders/{made}/repeat", json={}).status_code, 201)

    def test_another_method_is_refused_with_those_that_are_possible(self) -> None:
        for method, path, allowed in (
            ("POST", "/api/machines/Anchor", "GET, HEAD, PATCH"),
            ("GET", "/api/sign-in", "POST"),
            ("DELETE", "/api/models/paces", "GET, HEAD"),
            ("PATCH", "/api/orders/from-csv", "POST"),
            ("OPTIONS", "/api/jobs/1", "GET, HEAD, PATCH"),
            ("POST", "/board", "GET, HEAD"),
        ):
            with self.subTest(method=method, path=path):
                answer = self.http.request(method, path)
                self.assert_problem(answer, 405)
                self.assertEqual(answer.headers["allow"], allowed)
        self.assert_problem(self.http.post("/api/nothing"), 404)

    def test_head_is_answered_like_get_without_a_body(self) -> None:
        for path in ("/api/machines", "/api/machines/Anchor", "/api/live", "/", "/api/nothing", "/api/machines/Nobody"):
            with self.subTest(path=path):
                head = self.http.head(path)
                with self.http.stream("GET", path) as get:
                    self.assertEqual((head.status_code, head.content), (get.status_code, b""))
                    for name in ("content-type", "content-length"):
                        self.assertEqual(head.headers.get(name), get.headers.get(name))

    def test_what_is_no_http_is_answered_with_a_problem(self) -> None:
        for data in (
            b"HELO\r\n\r\n",
            b"GET / HTTP/9.9\r\n\r\n",
            b"\x16\x03\x01\x02\0\x01",
            b"GET /\x00 HTTP/1.1\r\n\r\n",
        ):
            with self.subTest(data=data):
                head, _, body = talk(self.world.port, data).partition(b"\r\n\r\n")
                self.assertIn(b" 400 ", head)
                self.assertIn(b"nosniff", head)
                self.assertEqual(json.loads(body)["status"], 400)
        for path, key in ((b"/api/me", b"x"), (b"/api/nothing", b"MDEyMzQ1Njc4OWFiY2RlZg=="), (b"/api/tender", b"x")):
            ask = b"GET %s HTTP/1.1\r\nHost: x\r\nConnection: Upgrade, close\r\nUpgrade: websocket\r\n" % path
            ask += b"Sec-WebSocket-Version: 13\r\nSec-WebSocket-Key: %s\r\n\r\n" % key
            body = talk(self.world.port, ask).partition(b"\r\n\r\n")[2]
            self.assertIn(json.loads(body)["status"], (401, 404))
        said = talk(self.world.port, b"GET / HTTP/1.1\r\nX: " + b"y" * 100_000)
        self.assertIn(b" 431 ", said.split(b"\r\n")[0])

    # The document -----------------------------------------------------------------------------------------------

    def operations(self) -> Iterator[tuple[str, str, dict[str, Any]]]:
        for path, methods in self.document["paths"].items():
            for method, operation in methods.items():
                yield method.upper(), path, operation

    def test_every_figure_text_and_list_that_comes_in_has_a_bound(self) -> None:
        loose: list[str] = []
        for method, path, operation in self.operations():
            for p in operation.get("parameters", []):
                self.look(p["schema"], f"{method} {path} {p['name']}", frozenset(), loose)
            for kind, content in operation.get("requestBody", {}).get("content", {}).items():
                if kind in ("application/json", "multipart/form-data"):
                    self.look(content["schema"], f"{method} {path}", frozenset(), loose)
        self.assertEqual(loose, [])

    def look(self, schema: dict[str, Any], where: str, seen: frozenset[str], loose: list[str]) -> None:
        if "$ref" in schema:
            name = schema["$ref"].rpartition("/")[2]
            if name not in seen:
                self.look(self.document["components"]["schemas"][name], f"{where}: {name}", seen | {name}, loose)
            return
        for inner in [*schema.get("anyOf", []), *schema.get("oneOf", []), *schema.get("prefixItems", [])]:
            self.look(inner, where, seen, loose)
        kind, has = schema.get("type"), schema.keys()
        if has & {"enum", "const"}:
            return
        bounded = {
            "string": bool(has & {"maxLength", "format", "pattern", "contentMediaType"}),
            "array": "maxItems" in has,
            "object": "additionalProperties" not in has or not schema["additionalProperties"] or "maxProperties" in has,
        }
        if kind in NUMBERS:
            bounded[kind] = bool(has & {"maximum", "exclusiveMaximum"}) and bool(has & {"minimum", "exclusiveMinimum"})
        if not bounded.get(str(kind), True):
            loose.append(f"{where} ({kind})")
        for name, inner in schema.get("properties", {}).items():
            self.look(inner, f"{where}.{name}", seen, loose)
        for inner in (schema.get("items"), schema.get("additionalProperties")):
            if isinstance(inner, dict):
                self.look(inner, f"{where}[]", seen, loose)

    def test_what_wants_a_key_answers_nobody_without_one(self) -> None:
        open_to_all = []
        with httpx.Client(base_url=self.world.address, timeout=60) as stranger:
            for method, path, operation in self.operations():
                self.assertEqual({"4XX", "503"} - operation["responses"].keys(), set(), path)
                if not operation.get("security"):
                    open_to_all.append(f"{method} {path}")
                    continue
                address = path.replace("{sha256}", "0" * 64)
                for name in ("{number}", "{layer}", "{key}"):
                    address = address.replace(name, "1")
                for key in ("", "nobody's"):
                    headers = {"Authorization": f"Bearer {key}"} if key else {}
                    with self.subTest(method=method, path=path, key=key):
                        self.assert_problem(stranger.request(method, address, headers=headers), 401)
        self.assertEqual(open_to_all, ["POST /api/sign-in", "GET /api/first-person", "POST /api/first-person",
                                       "POST /api/sign-in/passkey/begin", "POST /api/sign-in/passkey",
                                       "GET /api/invited", "POST /api/invited", "GET /api/help/rounds",
                                       "POST /api/help/builds/{number}/verdict",
                                       "GET /api/act", "POST /api/act", "GET /api/act/picture"])  # fmt: skip


class HalfSent(unittest.TestCase):
    """The service's protocol with shorter limits, on real sockets."""

    def setUp(self) -> None:
        for name, value in (("HEAD_WITHIN_S", 0.5), ("BODY_PAUSE_S", 0.5), ("BODY_GRACE_S", 0.8), ("LINGER_S", 0.3)):
            patch = mock.patch.object(http_protocol, name, value)
            patch.start()
            self.addCleanup(patch.stop)
        app = FastAPI()

        @app.post("/take")
        async def take(request: Request) -> int:
            return len(await request.body())

        @app.post("/refuse", status_code=401)
        async def refuse() -> str:
            return "no"

        @app.get("/fail")
        async def fail() -> None:
            raise RuntimeError("the inside")

        @app.get("/slow")
        async def slow() -> str:
            await asyncio.sleep(2)
            return "late"

        app.add_middleware(Hardened)
        config = uvicorn.Config(app, port=0, http=BoundedProtocol, log_config=None, lifespan="off")
        self.server = uvicorn.Server(config)
        thread = threading.Thread(target=self.server.run, daemon=True)
        thread.start()
        self.addCleanup(thread.join, 30)
        self.addCleanup(setattr, self.server, "should_exit", True)
        eventually(lambda: self.server.started, "it listens")
        self.port: int = self.server.servers[0].sockets[0].getsockname()[1]

    def test_half_a_request_is_given_up(self) -> None:
        for data, why in (
            (b"", b"did not come whole"),
            (b"GET /slow HTTP/1.1\r\nHost:", b"did not come whole"),
            (b"GET /nothing HTTP/1.1\r\nHost: x\r\n\r\nGET /not", b"did not come whole"),
            (b"POST /take HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\n\r\nabc", b"too slowly"),
            (b"POST /take HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nabc", b"too slowly"),
        ):
            with self.subTest(data=data):
                said = talk(self.port, data)
                self.assertIn(b" 408 ", said)
                self.assertIn(why, said)

    def test_a_trickle_is_given_up_too(self) -> None:
        with socket.create_connection(("127.0.0.1", self.port), timeout=60) as s:
            s.sendall(b"POST /take HTTP/1.1\r\nHost: x\r\nContent-Length: 100000\r\n\r\n")
            with self.assertRaises(OSError):
                for _ in range(600):
                    s.sendall(b"a")
                    time.sleep(0.1)

    def test_who_was_answered_before_all_was_sent_is_not_waited_for(self) -> None:
        said = talk(self.port, b"POST /refuse HTTP/1.1\r\nHost: x\r\nContent-Length: 1000000\r\n\r\nabc")
        self.assertIn(b" 401 ", said)

    def test_who_is_only_answered_late_is_answered(self) -> None:
        self.assertEqual(httpx.get(f"http://127.0.0.1:{self.port}/slow", timeout=60).json(), "late")
        with httpx.Client(base_url=f"http://127.0.0.1:{self.port}", timeout=60) as kept:
            for _ in range(3):
                self.assertEqual(kept.post("/take", content=b"x" * 1_000_000).json(), 1_000_000)

    def test_what_fails_unforeseen_is_a_problem_with_the_strict_headers(self) -> None:
        answer = httpx.get(f"http://127.0.0.1:{self.port}/fail", timeout=60)
        self.assertEqual((answer.status_code, answer.json()["title"]), (500, "Failed"))
        self.assertNotIn("the inside", answer.text)
        self.assertEqual(answer.headers["x-content-type-options"], "nosniff")


if __name__ == "__main__":
    unittest.main()
