"""What somebody can do who is not known here: nearly nothing, and it costs nearly nothing."""

from __future__ import annotations

import socket
import unittest
from concurrent.futures import ThreadPoolExecutor

import httpx

from tests.support.world import PASSWORD, PERSON, World, WorldCase

HUGE = 600_000_000


class BeforeSignIn(WorldCase):
    @classmethod
    def prepare(cls) -> None:
        cls.world.start_service()

    def answer_to(self, head: str, first: bytes = b"") -> str:
        """The first line of the answer to a request whose body never comes whole."""
        w: World = self.world
        with socket.create_connection(("127.0.0.1", w.port), timeout=20) as s:
            s.sendall(head.replace("\n", "\r\n").encode() + b"\r\n\r\n" + first)
            return s.recv(4096).split(b"\r\n")[0].decode()

    def test_nothing_of_a_body_is_waited_for_before_the_caller_is_known(self) -> None:
        for path in ("/api/jobs", "/api/drop", "/api/orders/from-csv", "/api/machines/Anchor/do"):
            for kind in ("application/json", "multipart/form-data; boundary=x"):
                with self.subTest(path=path, kind=kind):
                    head = f"POST {path} HTTP/1.1\nHost: x\nContent-Type: {kind}\nContent-Length: {HUGE}"
                    self.assertIn(" 401 ", self.answer_to(head, b"{" * 1000))
        head = f"PUT /api/drop/part.gcode HTTP/1.1\nHost: x\nContent-Length: {HUGE}"
        self.assertIn(" 401 ", self.answer_to(head, b"G1 X1\n" * 100))

    def test_a_body_is_no_larger_than_its_route_takes_whoever_sends_it(self) -> None:
        key = f"Authorization: Bearer {self.world.key}"
        for path, size in (("/api/jobs", HUGE), ("/api/machines/Anchor/do", 2_000_000), ("/api/drop", 1 << 40)):
            with self.subTest(path=path):
                head = f"POST {path} HTTP/1.1\nHost: x\n{key}\nContent-Type: application/json\nContent-Length: {size}"
                self.assertIn(" 413 ", self.answer_to(head))
        for path in ("/api/orders/from-csv", "/api/sign-in"):
            head = f"POST {path} HTTP/1.1\nHost: x\n{key}\nContent-Type: application/json\nContent-Length: 3000000"
            self.assertIn(" 413 ", self.answer_to(head))
        head = "POST /api/sign-in HTTP/1.1\nHost: x\nContent-Type: application/json\nContent-Length: 5000"
        self.assertIn(" 413 ", self.answer_to(head))

    def test_a_body_that_does_not_say_how_long_it_is_is_counted(self) -> None:
        def endless():  # type: ignore[no-untyped-def]
            yield b'{"file": "'
            for _ in range(200):
                yield b"x" * 100_000
            yield b'"}'

        headers = {"Authorization": f"Bearer {self.world.key}", "Content-Type": "application/json"}
        answer = httpx.post(f"{self.world.address}/api/jobs", content=endless(), headers=headers, timeout=30)
        self.assertEqual(answer.status_code, 413)
        self.assertIn("larger than", answer.json()["detail"])

    def test_forty_tries_at_once_are_not_forty_guesses(self) -> None:
        def guess(login: str) -> int:
            order = {"login": login, "password": "a guess"}
            return httpx.post(f"{self.world.address}/api/sign-in", json=order, timeout=60).status_code

        for logins in ([PERSON] * 40, ["nobody", "Nobody"] * 10):
            with ThreadPoolExecutor(40) as at_once:
                seen = list(at_once.map(guess, logins))
            self.assertLessEqual(seen.count(401), 10, "ten tries a minute, however they are sent")
            self.assertEqual(set(seen) - {401, 429, 503}, set())
        right = httpx.post(
            f"{self.world.address}/api/sign-in", json={"login": PERSON, "password": PASSWORD}, timeout=60
        )
        self.assertEqual(right.status_code, 429, "not even with the right one, for a minute")
        # others are answered meanwhile
        me = httpx.get(
            f"{self.world.address}/api/me", headers={"Authorization": f"Bearer {self.world.key}"}, timeout=10
        )
        self.assertEqual(me.status_code, 200)


if __name__ == "__main__":
    unittest.main()
