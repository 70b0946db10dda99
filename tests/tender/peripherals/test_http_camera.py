"""Cameras over HTTP: pictures, streams, signing in, and whatever else is at an address."""

from __future__ import annotations

import asyncio
import io
import re
import unittest
from datetime import UTC, datetime
from unittest.mock import patch

from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from chronarch.core.clock import ScaledClock
from chronarch.core.watching.camera_address import parse_camera_address
from chronarch.core.watching.camera_settings import CameraSettings
from chronarch.tender.peripherals.camera_sources import http_camera
from chronarch.tender.peripherals.camera_sources.http_camera import HttpCamera, boundary_of, parts
from chronarch.tender.peripherals.camera_sources.source import LARGEST, CameraFailed, CameraSetup, Shot
from tests.support.pictures import jpeg
from tests.support.raw_http import Answer, RawDevice, answer

RATE = 10.0
UNSEEN_S = 5.0
"""When the next picture is wanted of a camera that nobody looks at."""


def setup(address: str, keep_away: tuple[str, int] = ("", 0)) -> CameraSetup:
    clock = ScaledClock(datetime.now(UTC), datetime(2026, 10, 19, 9, tzinfo=UTC), RATE)
    return CameraSetup(parse_camera_address(address), CameraSettings(), clock, keep_away)


def part(body: bytes, *, length: bool = True, boundary: str = "frame") -> bytes:
    says = f"Content-Length: {len(body)}\r\n" if length else ""
    return f"--{boundary}\r\nContent-Type: image/jpeg\r\n{says}\r\n".encode() + body + b"\r\n"


class Asked(unittest.IsolatedAsyncioTestCase):
    async def device(self, answers: Answer | bytes) -> RawDevice:
        device = RawDevice(answers)
        await device.__aenter__()
        self.addAsyncCleanup(device.__aexit__)
        return device

    def camera(self, device: RawDevice, path: str = "/frame.jpg", login: str = "") -> HttpCamera:
        camera = HttpCamera(setup(f"http://{login}127.0.0.1:{device.port}{path}"))
        self.addAsyncCleanup(camera.close)
        return camera

    async def failed(self, device: RawDevice, login: str = "") -> str:
        with self.assertRaises(CameraFailed) as caught:
            await self.camera(device, login=login).shot(0)
        return str(caught.exception)

    async def test_a_picture_is_the_answer_and_has_its_times(self) -> None:
        device = await self.device(answer(jpeg(9)))
        camera = self.camera(device)
        before = datetime.now(UTC)
        shot = await camera.shot(0)
        self.assertEqual(shot.jpeg, jpeg(9))
        self.assertLess((shot.taken_at - before).total_seconds(), 30)
        again = await camera.shot(0)
        self.assertAlmostEqual(
            (again.at - shot.at).total_seconds(), RATE * (again.taken_at - shot.taken_at).total_seconds(), delta=0.1
        )
        self.assertEqual(device.opened, 1, "one connection for all requests")
        self.assertIn("GET /frame.jpg HTTP/1.1", device.asked[0])

    async def test_a_connection_that_has_rested_is_not_used_again(self) -> None:
        with patch.object(http_camera, "CLOSED_FROM_S", 0.2):
            device = await self.device(answer(jpeg(9)))
            camera = self.camera(device)
        for shots in (1, 2):
            await camera.shot(0.1)
            self.assertEqual(device.opened, shots)
            await asyncio.sleep(0.4)

    async def test_what_fails_is_said_with_what_to_do(self) -> None:
        for given_answer, why in (
            (answer(b"<html>", "text/html; charset=utf-8"), "not a JPEG picture but text/html; is that the address"),
            (answer(b"GIF89a", "image/jpeg"), "not a JPEG picture but something else"),
            (answer(b"", "image/jpeg"), "not a JPEG picture but something else"),
            (answer(b"no", "text/plain", "401 Unauthorized"), "401: it wants a login and a password; give them"),
            (
                answer(b"", "text/plain", "404 Not Found"),
                "it answers 404 Not Found; is that the address of its pictures",
            ),
            (
                answer(b"", "text/plain", "302 Found", "Location: /frame.jpg"),
                "sends on to /frame.jpg; give that address",
            ),
            (answer(b"", "text/plain", "301 Moved", "Location: " + "x" * 900), "sends on to x{200}; give"),
            (answer(b"", "multipart/x-mixed-replace"), "does not say what stands between its pictures"),
            (
                b"HTTP/1.1 200 OK\r\nContent-Type: image/jpeg\r\nContent-Length: 50000000\r\n\r\n",
                "50 MB or more, and 4 MB",
            ),
            (b"SSH-2.0-none\r\n\r\n", "the connection broke off"),
            (b"HTTP/1.1 200 OK\r\n" + b"X-Long: " + b"y" * 200_000 + b"\r\n", "the connection broke off"),
        ):
            with self.subTest(why):
                self.assertRegex(await self.failed(await self.device(given_answer)), why)

    async def test_what_never_ends_is_given_up(self) -> None:
        async def no_word(head: str, writer: asyncio.StreamWriter) -> None:
            await asyncio.sleep(60)

        async def half(head: str, writer: asyncio.StreamWriter) -> None:
            writer.write(answer(jpeg(1))[:-20])
            await asyncio.sleep(60)

        async def a_letter_at_a_time(head: str, writer: asyncio.StreamWriter) -> None:
            writer.write(b"HTTP/1.1 200 OK\r\nX-Endless: ")
            while True:
                writer.write(b"z")
                await asyncio.sleep(0.02)

        async def no_length(head: str, writer: asyncio.StreamWriter) -> None:
            writer.write(b"HTTP/1.1 200 OK\r\nContent-Type: image/jpeg\r\n\r\n\xff\xd8\xff")
            for _ in range(LARGEST // 100_000 + 2):
                writer.write(b"." * 100_000)
                await writer.drain()
            await asyncio.sleep(60)

        with patch.object(http_camera, "ANSWER_S", 1.2):
            for way in (no_word, half, a_letter_at_a_time):
                with self.subTest(way.__name__):
                    self.assertIn(
                        "timed out after 1 s; if it goes on, restart it", await self.failed(await self.device(way))
                    )
        self.assertIn("4 MB or more", await self.failed(await self.device(no_length)))

    async def test_nothing_listens_there(self) -> None:
        device = await self.device(b"")
        port = device.port
        await device.__aexit__()
        for address, why in (
            (f"http://127.0.0.1:{port}/", "the connection is refused: nothing listens at that port"),
            ("http://no-such-name.invalid/", "the name no-such-name.invalid is not found"),
        ):
            camera = HttpCamera(setup(address))
            self.addAsyncCleanup(camera.close)
            with self.subTest(address), self.assertRaisesRegex(CameraFailed, re.escape(why)):
                await camera.shot(0)

    async def test_where_no_camera_can_be_is_not_asked(self) -> None:
        device = await self.device(answer(jpeg(1)))
        for host, away, why in (
            ("127.0.0.1", ("127.0.0.1", device.port), "at that address is Chronarch itself"),
            ("127.0.0.1", ("localhost", device.port), "at that address is Chronarch itself"),
            ("169.254.169.254", ("", 0), "no camera is there"),
        ):
            camera = HttpCamera(setup(f"http://{host}:{device.port}/", away))
            self.addAsyncCleanup(camera.close)
            with self.subTest(host), self.assertRaisesRegex(CameraFailed, why):
                await camera.shot(0)
        self.assertEqual(device.opened, 0)

    # Signing in ----------------------------------------------------------------------------------------------

    async def test_it_signs_in_as_the_camera_asks(self) -> None:
        basic, digest = 'Basic realm="shop"', 'Digest realm="shop", nonce="n1", qop="auth", algorithm=SHA-256'
        for offered, way in ((basic, "Basic "), (digest, "Digest ")):

            async def guarded(head: str, writer: asyncio.StreamWriter, offered: str = offered) -> None:
                let_in = "authorization:" in head.lower()
                no = answer(b"", "text/plain", "401 Unauthorized", f"WWW-Authenticate: {offered}")
                writer.write(answer(jpeg(3)) if let_in else no)

            device = await self.device(guarded)
            camera = self.camera(device, login="eye:pass%20word@")
            self.assertEqual((await camera.shot(0)).jpeg, jpeg(3))
            self.assertNotIn("authorization", device.asked[0].lower(), "nothing is told before it is asked")
            sent = next(line for line in device.asked[-1].splitlines() if line.lower().startswith("authorization:"))
            self.assertIn(way, sent)
            self.assertNotIn("pass", sent)
            if way == "Digest ":
                self.assertRegex(sent, r'username="eye".*uri="/frame.jpg".*response="[0-9a-f]{64}"')
            asked = len(device.asked)
            await camera.shot(0)
            self.assertEqual(len(device.asked), asked + 1, "it is known by now")

    async def test_a_wrong_password_is_said_so(self) -> None:
        no = answer(b"", "text/plain", "401 Unauthorized", 'WWW-Authenticate: Basic realm="shop"')
        device = await self.device(no)
        self.assertIn("401: login or password is wrong", await self.failed(device, login="eye:none@"))
        self.assertEqual(len(device.asked), 2, "it is not tried again and again")

    # Streams -------------------------------------------------------------------------------------------------

    async def streaming(self, every_s: float = 0.02, *, length: bool = True) -> RawDevice:
        """A stream of pictures of which each is lighter than the one before."""

        async def stream(head: str, writer: asyncio.StreamWriter) -> None:
            writer.write(b'HTTP/1.1 200 OK\r\nContent-Type: multipart/x-mixed-replace; boundary="frame"\r\n\r\n')
            for shade in range(250):
                writer.write(part(jpeg(shade), length=length))
                await writer.drain()
                await asyncio.sleep(every_s)

        return await self.device(stream)

    @staticmethod
    def shade(shot: Shot) -> int:
        value = Image.open(io.BytesIO(shot.jpeg)).getpixel((5, 5))
        assert isinstance(value, int)
        return value

    async def test_a_stream_gives_its_newest_picture_and_is_one_connection(self) -> None:
        for length in (True, False):
            device = await self.streaming(length=length)
            camera = self.camera(device)
            first = self.shade(await camera.shot(0.1))
            await asyncio.sleep(0.5)
            later = self.shade(await camera.shot(0.1))
            self.assertGreater(later, first + 3, "what was not asked for in time is passed over")
            self.assertGreater(self.shade(await camera.shot(0.1)), later)
            self.assertEqual(device.opened, 1)

    async def test_a_stream_that_is_seldom_wanted_is_closed_meanwhile(self) -> None:
        device = await self.streaming()
        camera = self.camera(device)
        await camera.shot(UNSEEN_S)
        async with asyncio.timeout(20):
            while device.open:  # noqa: ASYNC110
                await asyncio.sleep(0.02)
        await camera.shot(0.1)
        self.assertEqual(device.opened, 2)

    async def test_a_stream_that_ends_or_hangs_is_said(self) -> None:
        async def one_and_end(head: str, writer: asyncio.StreamWriter) -> None:
            writer.write(b"HTTP/1.1 200 OK\r\nContent-Type: multipart/x-mixed-replace; boundary=frame\r\n\r\n")
            writer.write(part(jpeg(1)))
            await writer.drain()
            writer.close()

        async def one_and_no_more(head: str, writer: asyncio.StreamWriter) -> None:
            writer.write(b"HTTP/1.1 200 OK\r\nContent-Type: multipart/x-mixed-replace; boundary=frame\r\n\r\n")
            writer.write(part(jpeg(1)) + part(jpeg(2))[:60])
            await asyncio.sleep(60)

        with patch.object(http_camera, "NEXT_S", 1.9):
            for way, why in ((one_and_end, "it ended its stream"), (one_and_no_more, "timed out after 2 s")):
                camera = self.camera(await self.device(way))
                await camera.shot(0.1)
                with self.subTest(why), self.assertRaisesRegex(CameraFailed, why):
                    await camera.shot(0.1)

    async def test_a_stream_of_something_else_is_said(self) -> None:
        head = b"HTTP/1.1 200 OK\r\nContent-Type: multipart/x-mixed-replace; boundary=frame\r\n\r\n"
        for body, why in (
            (b"." * 40_000, "its stream holds no pictures"),
            (b"--frame\r\nContent-Length: 99999999\r\n\r\n", "100 MB or more"),
            (b"--frame\r\n\r\n" + b"." * (LARGEST + 10), "4 MB or more"),
            (part(b"a sheet of text"), "not a JPEG picture but something else"),
            (b"--frame\r\n" + b"X: y\r\n" * 9000, "its stream holds no pictures"),
        ):
            with self.subTest(why):
                self.assertRegex(await self.failed(await self.device(head + body)), why)


class Cut(unittest.TestCase):
    """A stream is the same however the network cuts it."""

    @given(
        bodies=st.lists(st.binary(max_size=200).map(lambda b: b"\xff\xd8\xff" + b.replace(b"--", b"..")), max_size=6),
        cuts=st.lists(st.integers(1, 90), min_size=1, max_size=200), length=st.booleans(),
        preamble=st.sampled_from([b"", b"\r\n", b"hello\r\n"]),
    )  # fmt: skip
    @settings(max_examples=150, deadline=None)
    def test_any_cut(self, bodies: list[bytes], cuts: list[int], length: bool, preamble: bytes) -> None:
        data = preamble + b"".join(part(body, length=length) for body in bodies) + b"--frame"

        async def read() -> list[bytes]:
            async def pieces():  # type: ignore[no-untyped-def]
                at = 0
                for n in range(len(data)):
                    if at >= len(data):
                        return
                    yield data[at : (at := at + cuts[n % len(cuts)])]

            return [body async for body, _ in parts(pieces(), b"frame", setup("http://127.0.0.1:1/"))]

        self.assertEqual(asyncio.run(read()), bodies)

    def test_the_boundary_is_found_as_it_is_written(self) -> None:
        for options, boundary in (
            (" boundary=frame", b"frame"), (' boundary="frame"', b"frame"), (" charset=x; boundary=--a-b", b"a-b"),
            (' BOUNDARY = "x y"'.lower(), b"x y"),
        ):  # fmt: skip
            self.assertEqual(boundary_of(options), boundary)
        with self.assertRaises(CameraFailed):
            boundary_of(" charset=utf-8")


if __name__ == "__main__":
    unittest.main()
