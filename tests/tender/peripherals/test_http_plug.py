"""Plugs over HTTP: what is asked, and whatever answers."""

from __future__ import annotations

import asyncio
import json
import unittest
from unittest.mock import patch

from chronarch.core.machines.plugs import PlugFault, PlugProfile, PlugReport, PowerRules
from chronarch.tender.peripherals.plugs import http_plug
from chronarch.tender.peripherals.plugs.http_plug import HttpPlug
from chronarch.wire.machines.power import PlugAccess, PlugSetup
from tests.support.raw_http import Answer, RawDevice, answer

PROFILE = PlugProfile(
    "bench", "http", "/v1/{device}/state", "/v1/{device}/relay", method="PUT", on='{"relay": "{state}"}',
    off='{"relay": "{state}"}', is_on="/relay", watts="/meter/w",
)  # fmt: skip
ON = answer(json.dumps({"relay": "on", "meter": {"w": 61.5}}).encode(), "application/json")


class OverHttp(unittest.IsolatedAsyncioTestCase):
    async def plug(self, answers: Answer | bytes, login: str = "", password: str = "") -> tuple[RawDevice, HttpPlug]:
        raw = RawDevice(answers)
        await raw.__aenter__()
        self.addAsyncCleanup(raw.__aexit__)
        where = PlugAccess(address=f"http://127.0.0.1:{raw.port}/s-4", login=login, password=password)
        plug = HttpPlug(PlugSetup(access=where, profile=PROFILE, rules=PowerRules()), ("", 0))
        self.addAsyncCleanup(plug.close)
        return raw, plug

    async def test_it_is_read_as_the_profile_says(self) -> None:
        device, plug = await self.plug(ON)
        self.assertEqual(await plug.read(), PlugReport(True, 61.5))
        self.assertTrue(device.asked[0].startswith("GET /v1/s-4/state HTTP/1.1"), device.asked[0])
        self.assertNotIn("authorization", device.asked[0].lower())

    async def test_it_is_turned_as_the_profile_says(self) -> None:
        device, plug = await self.plug(ON, login="bench", password="key")
        for on, body in ((True, b'{"relay": "on"}'), (False, b'{"relay": "off"}')):
            await plug.turn(on)
            self.assertTrue(device.asked[-1].startswith("PUT /v1/s-4/relay HTTP/1.1"), device.asked[-1])
            self.assertEqual(device.bodies[-1], body)
            self.assertIn("application/json", device.asked[-1])
            self.assertIn("Basic YmVuY2g6a2V5", device.asked[-1], "it signs in")

    async def test_what_fails_is_said_with_what_to_do(self) -> None:
        for answers, why in (
            (answer(b"", "text/plain", "401 Unauthorized"), "401: it wants a login and a password; give them"),
            (
                answer(b"", "text/plain", "404 Not Found"),
                "it answers 404 at /v1/s-4/state; look at the profile's paths",
            ),
            (answer(b"", "text/plain", "302 Found", "Location: http://169.254.169.254/"), "it answers 302"),
            (answer(b"<html>", "text/html"), "its report is no JSON; it begins b'<html>'"),
            (answer(b"{}", "application/json"), "nothing at /relay, where the profile has is_on"),
            (answer(b" " * 500_000, "application/json"), "it sends more than 64 kB"),
            (b"hello\r\n\r\n", "it cannot be reached"),
        ):
            _, plug = await self.plug(answers)
            with self.subTest(why), self.assertRaisesRegex(PlugFault, why):
                await plug.read()

    async def test_one_that_says_nothing_is_given_up(self) -> None:
        async def silent(head: str, writer: asyncio.StreamWriter) -> None:
            await asyncio.sleep(60)

        with patch.object(http_plug, "ANSWER_S", 0.9):
            _, plug = await self.plug(silent)
            with self.assertRaisesRegex(PlugFault, "did not answer within 1 s; is it on the network"):
                await plug.read()

    async def test_where_no_plug_can_be_is_not_asked(self) -> None:
        device, plug = await self.plug(ON)
        plug.keep_away = ("127.0.0.1", device.port)
        with self.assertRaisesRegex(PlugFault, "at that address is Chronarch itself, and no plug"):
            await plug.turn(False)
        self.assertEqual(device.opened, 0)


if __name__ == "__main__":
    unittest.main()
