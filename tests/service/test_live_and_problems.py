"""The live stream among listeners that are slow or gone, and errors as every caller meets them; no shop is needed."""

from __future__ import annotations

import asyncio
import json
import unittest
from typing import Any
from unittest import mock

import httpx
from fastapi import APIRouter, FastAPI, Request
from pydantic import BaseModel
from pymysql.err import OperationalError as ServerError
from sqlalchemy.exc import OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout

from chronarch.client.call import check
from chronarch.client.errors import RefusedByService
from chronarch.core.control.actions import NeedsConfirmation, NotPossible
from chronarch.records.failures import DEADLOCK, deadlocked
from chronarch.service import changes
from chronarch.service.app import ROUTES
from chronarch.service.changes import Changes
from chronarch.service.http import live_events
from chronarch.service.http.deadlock_retry import TRIES, RetryingRoute
from chronarch.service.http.errors import install
from chronarch.service.permissions import RULES, Asked, Rule
from chronarch.service.problems import ApiProblem, TooLateProblem
from chronarch.wire.common import Problem
from chronarch.wire.system.shop import LiveEvent


class Note(BaseModel):
    text: str


async def heard(stream: Any, count: int) -> list[bytes]:
    """The next events, in however many pieces they come."""
    events: list[bytes] = []
    async with asyncio.timeout(10):
        while len(events) < count:
            events += apart(await anext(stream))
    return events


def apart(piece: bytes) -> list[bytes]:
    return [event + b"\n\n" for event in piece.split(b"\n\n") if event]


class Live(unittest.IsolatedAsyncioTestCase):
    async def test_each_listener_hears_what_is_so_and_then_what_changes(self) -> None:
        hub = Changes()
        one, two = (
            live_events.stream(hub, hub.listen(), [LiveEvent("machines", "[]")]),
            live_events.stream(hub, hub.listen(), []),
        )
        self.assertEqual(await heard(one, 1), [b"event: machines\ndata: []\n\n"])
        listening = asyncio.gather(heard(one, 2), heard(two, 2))
        while len(hub._listeners) < 2:  # noqa: ASYNC110
            await asyncio.sleep(0)
        hub.publish("changed", '{"what":"jobs"}')
        hub.publish("changed", '{"what":"builds"}')
        said = [b'event: changed\ndata: {"what":"jobs"}\n\n', b'event: changed\ndata: {"what":"builds"}\n\n']
        self.assertEqual(await listening, [said, said])

    async def test_one_that_does_not_keep_up_is_cut_off_and_the_others_hear_on(self) -> None:
        hub = Changes()
        with mock.patch.object(changes, "QUEUE", 3):
            slow, quick = (
                live_events.stream(hub, hub.listen(), [LiveEvent("x", "0")]),
                live_events.stream(hub, hub.listen(), [LiveEvent("x", "0")]),
            )
            await heard(slow, 1)
            await heard(quick, 1)
            waiting = [asyncio.create_task(heard(slow, 1)), asyncio.create_task(heard(quick, 1))]
            await asyncio.sleep(0)
            hub.publish("x", "1")
            await asyncio.gather(*waiting)
            for n in range(2, 7):
                hub.publish("x", str(n))
                self.assertEqual(await heard(quick, 1), [f"event: x\ndata: {n}\n\n".encode()])
        rest = [event async for piece in slow for event in apart(piece)]
        self.assertEqual(rest, [b"event: x\ndata: 3\n\n", b"event: x\ndata: 4\n\n"], "then it has ended")

    async def test_when_the_service_stops_every_stream_ends_a_full_one_too(self) -> None:
        hub = Changes()
        with mock.patch.object(changes, "QUEUE", 2):
            streams = [live_events.stream(hub, hub.listen(), [LiveEvent("x", "0")]) for _ in range(3)]
            for stream in streams:
                await heard(stream, 1)
            listening = asyncio.create_task(heard(streams[0], 2))
            await asyncio.sleep(0)
            hub.publish("x", "1")
            hub.publish("x", "2")
            await listening
        hub.close()
        async with asyncio.timeout(10):
            for stream in streams:
                async for _ in stream:
                    pass

    async def test_a_quiet_stream_says_that_it_is_still_there(self) -> None:
        with mock.patch.object(live_events, "KEEP_ALIVE_S", 0.01):
            hub = Changes()
            self.assertEqual(await heard(live_events.stream(hub, hub.listen(), []), 2), [b": still here\n\n"] * 2)

    async def test_whoever_goes_is_forgotten(self) -> None:
        hub = Changes()
        stream = live_events.stream(hub, hub.listen(), [LiveEvent("x", "0")])
        await heard(stream, 1)
        self.assertEqual(len(hub._listeners), 1)
        await stream.aclose()  # type: ignore[attr-defined]
        self.assertEqual(len(hub._listeners), 0)


class Watching(unittest.TestCase):
    def test_a_worker_is_woken_by_the_kinds_it_waits_for_and_hears_their_names_once(self) -> None:
        hub = Changes()
        watch = hub.watch("models", "readings")
        hub.wake("jobs", subject="7")
        self.assertFalse(watch.event.is_set())
        hub.wake("models", subject="Kiln 250")
        hub.wake("readings")
        self.assertTrue(watch.event.is_set())
        self.assertEqual(watch.take(), {"Kiln 250"})
        self.assertFalse(watch.event.is_set())
        self.assertEqual(watch.take(), set())


def from_server(code: int, text: str) -> OperationalError:
    return OperationalError("select 1", {}, ServerError(code, text))


class Problems(unittest.IsolatedAsyncioTestCase):
    async def answer(self, error: Exception) -> httpx.Response:
        app = FastAPI()
        install(app)

        @app.get("/x")
        async def fail() -> None:
            raise error

        transport = httpx.ASGITransport(app, raise_app_exceptions=False)
        async with httpx.AsyncClient(transport=transport, base_url="http://shop") as http:
            return await http.get("/x")

    async def test_every_error_is_a_problem_that_says_what_to_do(self) -> None:
        for error, status, words in (
            (ApiProblem(404, "There is no build 7."), 404, "no build 7"),
            (TooLateProblem(409, "Anchor: layer 4 has begun"), 409, "has begun"),
            (NotPossible("That cannot be done while a build runs."), 422, "while a build runs"),
            (NeedsConfirmation("M500 writes settings to the machine's memory."), 409, "M500"),
            (from_server(2003, "Can't connect"), 503, "does not answer; nothing was changed"),
            (from_server(DEADLOCK, "Deadlock found"), 503, "changed the same at this moment"),
            (PoolTimeout("no connection"), 503, "does not answer"),
        ):
            with self.subTest(error=repr(error)):
                answer = await self.answer(error)
                problem = Problem.model_validate_json(answer.content)
                self.assertEqual((answer.status_code, problem.status), (status, status))
                self.assertEqual(answer.headers["content-type"], "application/problem+json")
                self.assertIn(words, problem.detail)
                self.assertEqual("Retry-After" in answer.headers, status == 503)

    async def test_only_what_may_be_meant_after_all_can_be_sent_again_as_sure(self) -> None:
        for error, unsure in (
            (NeedsConfirmation("M500 …"), True),
            (NotPossible("too hot"), False),
            (ApiProblem(409, "x"), False),
        ):
            with self.subTest(error=repr(error)), self.assertRaises(RefusedByService) as caught:
                check(await self.answer(error))
            self.assertIs(caught.exception.unsure, unsure)

    async def test_what_fails_unforeseen_tells_nothing_of_the_inside(self) -> None:
        answer = await self.answer(ZeroDivisionError("secret"))
        self.assertEqual(answer.status_code, 500)
        self.assertNotIn("secret", answer.text)

    async def test_what_does_not_exist_is_named(self) -> None:
        app = FastAPI()
        install(app)
        async with httpx.AsyncClient(transport=httpx.ASGITransport(app), base_url="http://shop") as http:
            self.assertEqual(
                json.loads((await http.get("/api/nowhere")).text)["detail"], "There is nothing at /api/nowhere."
            )
            self.assertEqual((await http.get("/openapi.json")).status_code, 200)

    @mock.patch.dict(RULES, {("PUT", "/x"): Rule(Asked.OPEN), ("PUT", "/stream"): Rule(Asked.OPEN)})
    async def test_what_a_deadlock_undid_is_carried_out_again(self) -> None:
        app = FastAPI()
        install(app)
        router = APIRouter(route_class=RetryingRoute)
        left, seen = [0], []

        @router.put("/x")
        async def change(order: Note) -> Note:
            seen.append(order.text)
            left[0] -= 1
            if left[0] >= 0:
                raise from_server(DEADLOCK, "Deadlock found")
            return order

        @router.put("/stream")
        async def take(request: Request) -> None:
            seen.append(b"".join([piece async for piece in request.stream()]).decode())
            raise from_server(DEADLOCK, "Deadlock found")

        app.include_router(router)
        async with httpx.AsyncClient(transport=httpx.ASGITransport(app), base_url="http://shop") as http:
            for deadlocks, path, body, status, times in (
                (2, "/x", b'{"text": "teal"}', 200, 3),
                (99, "/x", b'{"text": "teal"}', 503, TRIES),
                (0, "/stream", b"teal", 503, 1),
            ):
                with self.subTest(deadlocks=deadlocks, path=path):
                    left[0] = deadlocks
                    seen.clear()
                    kind = {"Content-Type": "application/json"} if path == "/x" else {}
                    answer = await http.put(path, content=body, headers=kind)
                    self.assertEqual((answer.status_code, seen), (status, ["teal"] * times))

    def test_every_request_may_be_carried_out_again(self) -> None:
        every = [route for module in ROUTES for router in module.routers for route in router.routes]
        self.assertGreater(len(every), 50)
        self.assertEqual([route.path for route in every if not isinstance(route, RetryingRoute)], [])

    def test_a_deadlock_is_told_from_other_errors_of_the_server(self) -> None:
        self.assertTrue(deadlocked(from_server(DEADLOCK, "x")))
        self.assertFalse(deadlocked(from_server(1205, "Lock wait timeout")))
        self.assertFalse(deadlocked(OperationalError("x", {}, None)))  # type: ignore[arg-type]


if __name__ == "__main__":
    unittest.main()
