"""Live pictures: one WebSocket for each page that looks, whatever number of cameras it looks at."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass, field
from urllib.parse import urlsplit

from fastapi import APIRouter, WebSocket, WebSocketDisconnect
from pydantic import ValidationError

from chronarch.core.access.rights import Right
from chronarch.core.clock import Clock
from chronarch.core.watching.reader_pace import ReaderPace
from chronarch.service.context import ServiceContext, part_of
from chronarch.service.http.open_connections import OpenConnections
from chronarch.service.http.sockets import NOT_UNDERSTOOD, REFUSED, close_socket
from chronarch.service.principals import Callers
from chronarch.service.problems import ApiProblem
from chronarch.service.watching.cameras import Cameras, Looker, NewestFrame
from chronarch.wire.watching.camera_messages import Size
from chronarch.wire.watching.looking import Got, See, SeenFrame, SeenHead, Wish, from_page, pack_seen

LOOK_AGAIN_S = 0.25
"""How long a reader waits at most until it looks whether a frame is due."""
router = APIRouter()


@router.websocket("/api/looking")
async def looking(socket: WebSocket) -> None:
    """Live pictures of the cameras that the page names, as fast as it takes them."""
    await socket.accept()
    try:
        _check_origin(socket)
        who = await part_of(socket, Callers).identify(socket)
        if not who.may(Right.SEE):
            raise ApiProblem(403, "Live pictures need a key that may read.")
        closing: set[asyncio.Task[None]] = set()

        def close() -> None:
            closing.add(asyncio.create_task(close_socket(socket, REFUSED, "You are no longer signed in.")))

        with part_of(socket, OpenConnections).held(who, close):
            await Reader(part_of(socket, Cameras), part_of(socket, ServiceContext).clock, socket).run()
    except ApiProblem as error:
        await close_socket(socket, REFUSED, str(error))
    except ValidationError as error:
        await close_socket(socket, NOT_UNDERSTOOD, f"A message was not understood: {error.errors()[0]['msg']}")
    except KeyError:
        await close_socket(socket, NOT_UNDERSTOOD, "Bytes came where text belongs.")
    except (WebSocketDisconnect, RuntimeError):
        pass


def _check_origin(socket: WebSocket) -> None:
    """A page of somebody else's must not look with the cookie of whoever visits it. Raises ApiProblem (403)."""
    origin = socket.headers.get("origin")
    if origin is not None and urlsplit(origin).netloc != socket.headers.get("host"):
        raise ApiProblem(403, "Live pictures are for the service's own pages.")


@dataclass
class Reader:
    """One page that looks."""

    cameras: Cameras
    clock: Clock
    socket: WebSocket
    looker: Looker = field(default_factory=Looker)
    pace: ReaderPace = field(default_factory=ReaderPace)
    _wishes: dict[str, Wish] = field(default_factory=dict)
    _shown: dict[str, NewestFrame] = field(default_factory=dict)
    _number: int = 0

    async def run(self) -> None:
        """Raises WebSocketDisconnect when it goes, ValidationError for what it says that cannot be understood."""
        sending = asyncio.create_task(self._send_forever())
        try:
            while True:
                match from_page.validate_json(await self.socket.receive_text()):
                    case See(cameras=wishes):
                        names = self.cameras.names(wishes)
                        self._wishes = {really: wishes[name] for name, really in names.items()}
                        self._shown = {name: seen for name, seen in self._shown.items() if name in self._wishes}
                        await self._look()
                    case Got(number=number):
                        was = self.pace.small
                        self.pace.got(number, self.clock.monotonic_s())
                        if self.pace.small != was:
                            await self._look()
                        self.looker.fresh.set()
        finally:
            sending.cancel()
            await self.cameras.look(self.looker, {})

    async def _look(self) -> None:
        wanted = {name: (self._size(wish), wish.frames_per_s) for name, wish in self._wishes.items()}
        await self.cameras.look(self.looker, wanted)

    def _size(self, wish: Wish) -> Size:
        return "small" if self.pace.small else wish.size

    async def _send_forever(self) -> None:
        while True:
            try:
                async with asyncio.timeout(LOOK_AGAIN_S):
                    await self.looker.fresh.wait()
            except TimeoutError:
                pass
            self.looker.fresh.clear()
            # those that were shown longest ago come first, so that none is left out
            for name in sorted(self._wishes, key=self._shown_at):
                await self._send(name)

    def _shown_at(self, name: str) -> float:
        shown = self._shown.get(name)
        return shown.head.taken_at.timestamp() if shown else 0.0

    async def _send(self, name: str) -> None:
        known, wish = self.cameras.get(name), self._wishes.get(name)
        newest = known.frame(self._size(wish)) if known is not None and wish is not None else None
        if newest is None or wish is None:
            return
        shown, now = self._shown.get(name), self.clock.monotonic_s()
        if shown is not None and newest.head.taken_at <= shown.head.taken_at:
            return
        if not self.pace.may_send(name, 1 / wish.frames_per_s, now):
            return
        self._number += 1
        head = SeenHead(
            number=self._number, camera=name, size=newest.head.size, at=newest.head.at, taken_at=newest.head.taken_at
        )
        self._shown[name] = newest
        self.pace.sent(name, self._number, now)
        await self.socket.send_bytes(pack_seen(SeenFrame(head, newest.jpeg)))
