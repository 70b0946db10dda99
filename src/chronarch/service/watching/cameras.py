"""What the service knows of the cameras right now: how they are set up, their newest frames, who looks at them, and the
tenders that take the frames."""

from __future__ import annotations

import asyncio
import uuid
from collections import deque
from collections.abc import Awaitable, Callable, Iterable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime
from typing import Annotated

from pydantic import BaseModel, TypeAdapter
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.notices.kinds import NoticeKind
from chronarch.core.watching.camera_settings import CameraSettings
from chronarch.records import tables as t
from chronarch.records.notices.opening import open_notice
from chronarch.service.context import ServiceContext, part
from chronarch.service.machines.fleet import Fleet
from chronarch.service.problems import ApiProblem
from chronarch.service.sealed_access import opened
from chronarch.service.secrets import SecretLost, Secrets
from chronarch.service.watching.settings import load_watching
from chronarch.wire.common import fill
from chronarch.wire.watching import cameras as w
from chronarch.wire.watching.camera_messages import (
    CameraAnswer,
    CameraStands,
    FrameHead,
    ListLocal,
    Look,
    Size,
    TryCamera,
    WatchCameras,
    WatchedCamera,
    WorkMeasured,
)

ANSWER_WITHIN_S = 40.0
_settings = TypeAdapter(CameraSettings)
ASKED_PER_S = 2.0
"""How many frames a second are asked for while one is waited for."""
RATE_OVER = 20
"""How many frames the rate that is shown is measured over."""


@dataclass(frozen=True)
class NewestFrame:
    """The newest frame of a camera in one size."""

    head: FrameHead
    jpeg: bytes


@dataclass
class KnownCamera:
    """One camera: its row as last read, and what was heard of it since."""

    row: t.Camera
    tender: str
    since: datetime
    """Since when this service knows it, real time."""
    machine: str = ""
    settings: CameraSettings = field(default_factory=CameraSettings)
    newest: dict[Size, NewestFrame] = field(default_factory=dict)
    trouble: w.CameraTrouble | None = None
    came_s: deque[float] = field(default_factory=lambda: deque(maxlen=RATE_OVER))
    """When its last frames came, real seconds."""
    rates: tuple[float, float] = (0.0, 0.0)
    """The frames a second that are wanted now, full and small."""

    def frame(self, size: Size) -> NewestFrame | None:
        """The newest frame in a size, or in the other one where that is all there is."""
        return self.newest.get(size) or self.newest.get("full") or self.newest.get("small")


@dataclass
class CameraConnection:
    """The camera process of a tender that is connected now."""

    tender: str
    send: Callable[[str], Awaitable[None]]
    waiting: dict[str, asyncio.Future[CameraAnswer]] = field(default_factory=dict)
    pictures: dict[str, NewestFrame] = field(default_factory=dict)
    """The frames of answers, by the number of the question."""
    work: WorkMeasured | None = None
    spool_trouble: str = ""
    """Why the tender cannot keep frames; empty while it can."""


@dataclass(eq=False)
class Looker:
    """Somebody who looks at live pictures: what they want to see, and what wakes them."""

    wanted: dict[str, tuple[Size, float]] = field(default_factory=dict)
    """By camera: the size, and frames a second."""
    fresh: asyncio.Event = field(default_factory=asyncio.Event)
    counts: bool = True
    """Whether it is a person, or a program of theirs."""


class Cameras:
    """All cameras by name. Upper and lower case are the same."""

    def __init__(self, context: ServiceContext, fleet: Fleet, secrets: Secrets) -> None:
        self._context, self._fleet, self._secrets = context, fleet, secrets
        self._known: dict[str, KnownCamera] = {}
        self._lookers: set[Looker] = set()
        self.connections: dict[str, CameraConnection] = {}
        self.changed = context.changes.watch("cameras", "setup")
        self.changed.event.set()

    # What is known -------------------------------------------------------------------------------------------

    async def load(self, db: AsyncSession) -> None:
        """Read how cameras are set up."""
        query = (
            select(t.Camera, t.Tender.name, t.Machine.name)
            .join(t.Tender, t.Tender.id == t.Camera.tender_id)
            .outerjoin(t.Machine, t.Machine.id == t.Camera.machine_id)
        )
        found: dict[str, KnownCamera] = {}
        before = {known.row.id: known for known in self._known.values()}
        for row, tender, machine in await db.execute(query.execution_options(populate_existing=True)):
            known = before.get(row.id) or KnownCamera(row, tender, self._context.clock.real_now())
            known.row, known.tender, known.machine = row, tender, machine or ""
            known.settings = _settings.validate_python(row.settings)
            found[row.name.lower()] = known
        self._known = found
        stands_for = {known.machine: known for known in found.values() if known.row.first}
        for watched in self._fleet.all():
            first = stands_for.get(watched.row.name)
            name = first.row.name if first else ""
            if watched.camera != name:
                watched.camera, watched.frame, watched.frame_at = name, b"", None
                if first is not None:
                    self._show_on_machine(first)
                self._fleet.publish(watched)

    async def renew(self) -> None:
        """Read the cameras anew, and tell all tenders."""
        async with self._context.sessions() as db:
            await self.load(db)
        for connection in list(self.connections.values()):
            await self.tell(connection)

    def find(self, name: str) -> KnownCamera:
        """One camera. Raises ApiProblem (404)."""
        try:
            return self._known[name.lower()]
        except KeyError:
            raise ApiProblem(404, f"There is no camera named {name!r}; `chronarch cameras list` shows all.") from None

    def get(self, name: str) -> KnownCamera | None:
        return self._known.get(name.lower())

    def all(self) -> list[KnownCamera]:
        return sorted(self._known.values(), key=lambda k: k.row.name.lower())

    def view(self, known: KnownCamera) -> w.Camera:
        """The camera as the wire shows it."""
        row, newest = known.row, known.frame("full")
        return fill(
            w.Camera, row, machine=known.machine, tender=known.tender, address=row.shown,
            settings=known.settings, frame_at=newest.head.at if newest else None,
            width=newest.head.width if newest else 0, height=newest.head.height if newest else 0,
            frames_per_s=self._rate(known), trouble=known.trouble or self._away(known),
            looked_at_by=sum(looker.counts and row.name in looker.wanted for looker in self._lookers),
        )  # fmt: skip

    def _rate(self, known: KnownCamera) -> float:
        came = known.came_s
        if len(came) < 2:
            return 0.0
        until = max(came[-1], self._context.clock.monotonic_s() - 10)
        return round((len(came) - 1) / max(until - came[0], 1e-3), 2)

    def _away(self, known: KnownCamera) -> w.CameraTrouble | None:
        if known.tender in self.connections:
            return None
        newest = known.frame("full")
        since = newest.head.taken_at if newest else known.since
        return w.CameraTrouble(text=f"the cameras of the tender {known.tender} are not connected", since=since)

    def work(self) -> list[w.CameraWork]:
        """What cameras cost each tender that is connected."""
        found = []
        for connection in sorted(self.connections.values(), key=lambda c: c.tender):
            mine = [known for known in self._known.values() if known.tender == connection.tender]
            measured = connection.work or WorkMeasured(budget=0, used=0, factor=1)
            failing = sum(known.trouble is not None for known in mine)
            found.append(
                fill(w.CameraWork, measured, tender=connection.tender, cameras=len(mine), failing=failing)
            )  # fmt: skip
        return found

    # Tenders -------------------------------------------------------------------------------------------------

    async def tell(self, connection: CameraConnection) -> None:
        """Tell a tender all its cameras, and what is looked at."""
        async with self._context.sessions() as db:
            settings = await load_watching(db)
        mine = [known for known in self._known.values() if known.tender == connection.tender]
        cameras = [one for known in mine if (one := self._with_secrets(known)) is not None]
        watch = WatchCameras(cameras=cameras, budget=settings.camera_budget, keep_every_s=settings.keep_every_s)
        await self.say(connection, watch)
        for known in mine:
            if any(known.rates):
                await self.say(connection, _look(known))

    def _with_secrets(self, known: KnownCamera) -> WatchedCamera | None:
        try:
            access = self.access(known)
        except SecretLost as error:
            text = f"its password cannot be read ({error}); enter it again"
            known.trouble = w.CameraTrouble(text=text, since=self._context.clock.real_now())
            return None
        mine = {"name": known.row.name, "machine": known.machine, "settings": known.settings}
        return WatchedCamera(**mine, **access.model_dump())

    def access(self, known: KnownCamera) -> w.CameraAccess:
        """A camera's address with its secrets. Raises SecretLost."""
        return opened(known.row, w.CameraAccess, self._secrets)

    @staticmethod
    async def say(connection: CameraConnection, message: BaseModel) -> None:
        with suppress(Exception):  # one that has just gone away is told all when it is back
            await connection.send(message.model_dump_json())

    async def ask(self, tender: str, what: TryCamera | ListLocal) -> tuple[CameraAnswer, NewestFrame | None]:
        """Ask a tender's camera process something. Raises ApiProblem (503, 504)."""
        connection = self.connections.get(tender)
        if connection is None:
            raise ApiProblem(503, f"The cameras of the tender {tender!r} are not connected; is that tender running?")
        answer: asyncio.Future[CameraAnswer] = asyncio.get_running_loop().create_future()
        connection.waiting[what.id] = answer
        try:
            await self.say(connection, what)
            async with asyncio.timeout(ANSWER_WITHIN_S):
                said = await answer
            return said, connection.pictures.pop(what.id, None)
        except TimeoutError:
            raise ApiProblem(504, f"The tender {tender} did not answer within {ANSWER_WITHIN_S:.0f} s.") from None
        finally:
            connection.waiting.pop(what.id, None)
            connection.pictures.pop(what.id, None)

    # Frames --------------------------------------------------------------------------------------------------

    def take(self, connection: CameraConnection, head: FrameHead, jpeg: bytes) -> None:
        """A frame has come."""
        newest = NewestFrame(head, jpeg)
        if head.answer:
            if head.answer in connection.waiting:
                connection.pictures[head.answer] = newest
            return
        known = self.get(head.camera)
        if known is None or known.tender != connection.tender:
            return
        if all(head.taken_at > other.head.taken_at for other in known.newest.values()):
            known.came_s.append(self._context.clock.monotonic_s())
        known.newest[head.size] = newest
        if known.row.first and head.size == "full":
            self._show_on_machine(known)
        for looker in self._lookers:
            if known.row.name in looker.wanted:
                looker.fresh.set()

    def _show_on_machine(self, known: KnownCamera) -> None:
        newest = known.newest.get("full")
        if newest is not None and known.machine:
            machine = self._fleet.find(known.machine)
            machine.frame, machine.frame_at = newest.jpeg, newest.head.at

    def stands(self, connection: CameraConnection, said: CameraStands) -> None:
        """A camera has begun or ceased to give pictures."""
        known = self.get(said.camera)
        if known is None or known.tender != connection.tender:
            return
        known.trouble = w.CameraTrouble(text=said.trouble, since=said.since) if said.trouble else None
        self._context.changes.publish("camera", self.view(known).model_dump_json())

    async def spool_told(self, connection: CameraConnection, trouble: str) -> None:
        """A tender cannot keep frames, or can again."""
        news = trouble and trouble != connection.spool_trouble
        connection.spool_trouble = trouble
        if news:
            async with self._context.sessions() as db:
                text = f"Frames of the tender {connection.tender}: {trouble}. Builds go on."
                await open_notice(db, NoticeKind.STORAGE, self._context.clock.now(), text)
                await db.commit()

    # Those who look ------------------------------------------------------------------------------------------

    def names(self, wanted: Iterable[str]) -> dict[str, str]:
        """What cameras are really called, of those that there are."""
        return {name: known.row.name for name in wanted if (known := self.get(name)) is not None}

    async def look(self, looker: Looker, wanted: Mapping[str, tuple[Size, float]]) -> None:
        """Somebody looks at these cameras from now on, and at no others."""
        touched = {*looker.wanted, *wanted}
        looker.wanted = dict(wanted)
        if wanted:
            self._lookers.add(looker)
        else:
            self._lookers.discard(looker)
        looker.fresh.set()
        for name in touched:
            known = self.get(name)
            if known is not None:
                await self._ask_for_rates(known)

    async def newest(
        self, known: KnownCamera, good: Callable[[NewestFrame], bool], within_s: float
    ) -> NewestFrame | None:
        """The newest whole frame of a camera, once there is one that is good; after so many real seconds as it is.
        Frames are asked for meanwhile, except of a camera that gives none, or whose tender is away."""

        def waits() -> bool:
            now, gives = known.newest.get("full"), known.trouble is None and known.tender in self.connections
            return gives and (now is None or not good(now))

        looker = Looker(counts=False)
        try:
            if waits():
                await self.look(looker, {known.row.name: ("full", ASKED_PER_S)})
            async with asyncio.timeout(within_s):
                while waits():
                    looker.fresh.clear()
                    await looker.fresh.wait()
        except TimeoutError:
            pass
        finally:
            await self.look(looker, {})
        return known.newest.get("full")

    async def _ask_for_rates(self, known: KnownCamera) -> None:
        most: dict[Size, float] = {"full": 0.0, "small": 0.0}
        for looker in self._lookers:
            size, rate = looker.wanted.get(known.row.name, ("small", 0.0))
            most[size] = max(most[size], min(rate, known.settings.frames_per_s))
        rates = most["full"], most["small"]
        if rates == known.rates:
            return
        known.rates = rates
        connection = self.connections.get(known.tender)
        if connection is not None:
            await self.say(connection, _look(known))


def _look(known: KnownCamera) -> Look:
    full, small = known.rates
    return Look(camera=known.row.name, full=full, small=small)


def new_question() -> str:
    return uuid.uuid4().hex


TheCameras = Annotated[Cameras, part(Cameras)]
