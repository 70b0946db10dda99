"""The tenders' camera processes: one WebSocket each. Frames come, and what is wanted of cameras goes."""

from __future__ import annotations

import asyncio
import logging
from dataclasses import dataclass

from fastapi import APIRouter, WebSocket

from chronarch.service.context import part_of
from chronarch.service.http.open_connections import OpenConnections
from chronarch.service.http.sockets import HELLO_WITHIN_S, REFUSED, close_socket, closed_for_cause
from chronarch.service.principals import Callers
from chronarch.service.problems import ApiProblem
from chronarch.service.watching.cameras import CameraConnection, Cameras
from chronarch.service.watching.frame_keeper import FrameKeeper
from chronarch.wire.watching.camera_messages import (
    CameraAnswer,
    CameraHello,
    CameraStands,
    SpoolTrouble,
    WorkMeasured,
    from_cameras,
    unpack_frame,
)

LARGEST_FRAME = 4_000_000
router = APIRouter()
log = logging.getLogger("chronarch.cameras")


@router.websocket("/api/tender/cameras")
async def cameras(socket: WebSocket) -> None:
    """A camera process: hello, then frames and how cameras stand one way, what is wanted the other."""
    await socket.accept()
    async with closed_for_cause(socket, "a camera process"):
        who = await part_of(socket, Callers).identify(socket)
        if not who.is_tender:
            raise ApiProblem(403, "This key is not a tender's.")
        async with asyncio.timeout(HELLO_WITHIN_S):
            hello = from_cameras.validate_json(await socket.receive_text())
        if not isinstance(hello, CameraHello):
            raise ApiProblem(400, "The first message must be hello.")
        if who.tender != hello.tender:
            raise ApiProblem(403, f"This key is not the tender {hello.tender}'s, or that has not said hello yet.")
        room = part_of(socket, Cameras)
        closing: set[asyncio.Task[None]] = set()

        def close() -> None:
            closing.add(asyncio.create_task(close_socket(socket, REFUSED, "This key was revoked.")))

        with part_of(socket, OpenConnections).held(who, close):
            connection = CameraConnection(hello.tender, socket.send_text)
            await CameraSession(room, part_of(socket, FrameKeeper), socket, connection).run()


@dataclass
class CameraSession:
    """One connection, from hello on."""

    cameras: Cameras
    keeper: FrameKeeper
    socket: WebSocket
    connection: CameraConnection

    async def run(self) -> None:
        """Raises ValueError for what cannot be understood."""
        cameras, mine = self.cameras, self.connection
        cameras.connections[mine.tender] = mine
        try:
            await cameras.tell(mine)
            while True:
                message = await self.socket.receive()
                if message["type"] == "websocket.disconnect":
                    return
                if (data := message.get("bytes")) is not None:
                    head, jpeg = unpack_frame(data)
                    if len(jpeg) > LARGEST_FRAME:
                        raise ValueError(f"a frame may have {LARGEST_FRAME // 1_000_000} MB")
                    if head.kept is not None:
                        self.keeper.take(mine, head, jpeg)
                    else:
                        cameras.take(mine, head, jpeg)
                else:
                    await self._hear(message["text"])
        finally:
            for waiting in mine.waiting.values():
                if not waiting.done():
                    waiting.set_result(CameraAnswer(id="", problem="its tender went away before it answered"))
            if cameras.connections.get(mine.tender) is mine:
                del cameras.connections[mine.tender]

    async def _hear(self, text: str) -> None:
        match from_cameras.validate_json(text):
            case CameraStands() as said:
                self.cameras.stands(self.connection, said)
            case WorkMeasured() as work:
                self.connection.work = work
            case CameraAnswer() as answer:
                waiting = self.connection.waiting.get(answer.id)
                if waiting is not None and not waiting.done():
                    waiting.set_result(answer)
            case SpoolTrouble(trouble=trouble):
                await self.cameras.spool_told(self.connection, trouble)
            case CameraHello():
                raise ValueError("hello comes once")
