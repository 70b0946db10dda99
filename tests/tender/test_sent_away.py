"""A tender that the service does not understand, or lets in no more, comes back ever later, and says so once."""

from __future__ import annotations

import asyncio
import tempfile
import time
import unittest
from pathlib import Path

from websockets.asyncio.server import ServerConnection, serve

from chronarch.core.clock import real_clock
from chronarch.tender import session as app
from chronarch.tender.session import RunningTender, TenderSettings
from chronarch.wire.control.upstream import Welcome


class SentAway(unittest.IsolatedAsyncioTestCase):
    async def greet(self, code: int, times: int, *, welcome: bool = False) -> list[float]:
        """When a tender came that is sent away with a code each time, so many times, at once or after a welcome; in
        the log it says so once."""
        came: list[float] = []
        enough = asyncio.Event()

        async def refuse(socket: ServerConnection) -> None:
            if socket.request is None or socket.request.path != "/api/tender":
                return  # the cameras
            came.append(time.monotonic())
            await socket.recv()
            if welcome:
                await socket.send(Welcome(committed=0, configs=[]).model_dump_json())
            await socket.close(code, "not you")
            if len(came) >= times:
                enough.set()

        with tempfile.TemporaryDirectory() as folder, self.assertLogs(app.log, "WARNING") as logs:
            async with serve(refuse, "127.0.0.1", 0) as server:
                port = next(iter(server.sockets)).getsockname()[1]
                settings = TenderSettings("shed", f"http://127.0.0.1:{port}", "key", Path(folder))
                running = asyncio.create_task(RunningTender(settings, real_clock()).run())
                async with asyncio.timeout(120):
                    await enough.wait()
                running.cancel()
                await asyncio.gather(running, return_exceptions=True)
        self.assertEqual(len(logs.output), 1, logs.output)
        self.assertIn("not you", logs.output[0])
        return came

    async def test_who_is_refused_waits_ever_longer(self) -> None:
        for code, welcome in ((4400, False), (4401, False), (4400, True)):
            with self.subTest(code=code, welcome=welcome):
                came = await self.greet(code, 3, welcome=welcome)
                self.assertGreater(came[1] - came[0], 0.9)
                self.assertGreater(came[2] - came[1], 2.9)

    async def test_where_another_is_there_it_is_asked_for_soon_again(self) -> None:
        self.assertEqual(len(await self.greet(4409, 4)), 4)


if __name__ == "__main__":
    unittest.main()
