"""The process that watches cameras, against a service on a real socket that goes away at the worst moment."""

from __future__ import annotations

import asyncio
import tempfile
import unittest
from contextlib import suppress
from pathlib import Path
from unittest import mock

from websockets.asyncio.server import ServerConnection, serve
from websockets.exceptions import ConnectionClosed

from chronarch.core.clock import real_clock
from chronarch.tender.peripherals import camera_process
from chronarch.tender.peripherals.camera_process import CameraProcess, CameraService
from chronarch.tender.peripherals.frame_spool import FrameSpool
from chronarch.wire.watching.camera_messages import unpack_frame
from tests.support.frames import HEAD, kept_as


class Watching(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name) / "frames"
        self.folder.mkdir()
        self.spooled = FrameSpool(self.folder, lambda trouble: None)
        self.spooled.keep(HEAD, kept_as(3), b"\xff\xd8\xff")

    @mock.patch.object(camera_process, "RETRY_S", (0.05,))
    async def test_a_frame_that_was_read_as_the_service_went_away_is_sent_when_it_is_back(self) -> None:
        """It was the end of all sending once: frames waited at the tender until it was started anew."""
        sockets: asyncio.Queue[ServerConnection] = asyncio.Queue()
        frames: asyncio.Queue[bytes] = asyncio.Queue()
        loop, reads = asyncio.get_running_loop(), 0

        async def talk(socket: ServerConnection) -> None:
            await sockets.put(socket)
            with suppress(ConnectionClosed):
                async for message in socket:
                    if isinstance(message, bytes):
                        await frames.put(message)

        async def away() -> None:
            await (await sockets.get()).close()
            while watching._socket is not None:  # noqa: ASYNC110
                await asyncio.sleep(0.01)

        def read(spool: FrameSpool, name: str) -> bytes | None:
            nonlocal reads
            reads += 1
            if reads == 1:
                asyncio.run_coroutine_threadsafe(away(), loop).result(30)
            return really(spool, name)

        really = FrameSpool.read
        async with serve(talk, "127.0.0.1", 0) as server:
            port = next(iter(server.sockets)).getsockname()[1]
            service = CameraService(f"http://127.0.0.1:{port}", "a key", "tender")
            watching = CameraProcess(service, real_clock(), self.folder)
            with mock.patch.object(FrameSpool, "read", read):
                running = asyncio.create_task(watching.run())
                try:
                    async with asyncio.timeout(60):
                        head, _ = unpack_frame(await frames.get())
                finally:
                    running.cancel()
                    await asyncio.wait([running])
        assert head.kept is not None
        self.assertEqual((head.kept.build, head.kept.layer), (7, 3))

    async def test_what_nobody_thought_of_ends_the_process_so_that_it_is_started_anew(self) -> None:
        watching = CameraProcess(CameraService("http://127.0.0.1:9", "a key", "tender"), real_clock(), self.folder)
        with (
            mock.patch.object(watching._spool, "waiting", side_effect=RuntimeError("never thought of")),
            self.assertRaisesRegex(RuntimeError, "never thought of"),
        ):
            watching._spooled.set()
            async with asyncio.timeout(60):
                await watching.run()


if __name__ == "__main__":
    unittest.main()
