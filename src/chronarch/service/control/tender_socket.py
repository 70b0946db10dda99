"""The tenders' side of the service: one WebSocket a tender."""

from __future__ import annotations

import asyncio
import json
import logging
from collections.abc import Awaitable, Callable
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime

from fastapi import APIRouter, WebSocket
from pydantic import ValidationError
from sqlalchemy import func, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.control.events import ControlEvent, MachineStands, Noticed
from chronarch.core.control.film_taking import FilmTaking
from chronarch.core.errors import BadName
from chronarch.core.library.names import check_name
from chronarch.core.machines.states import BuildState
from chronarch.records import tables as t
from chronarch.records.failures import away
from chronarch.records.ledger.tender_events import commit_event
from chronarch.records.machines.materials import own_materials
from chronarch.service.context import ServiceContext, part_of
from chronarch.service.http.open_connections import OpenConnections
from chronarch.service.http.sockets import (
    HELLO_WITHIN_S,
    REFUSED,
    close_socket,
    closed_for_cause,
)
from chronarch.service.machines.fleet import Fleet, FleetMachine, TenderConnection
from chronarch.service.machines.heat_log import HeatLog
from chronarch.service.machines.learned_paces import LearnedPaces
from chronarch.service.machines.plugs import setup_of
from chronarch.service.principals import Callers, Principal
from chronarch.service.problems import ApiProblem
from chronarch.service.secrets import Secrets
from chronarch.wire.common import fill
from chronarch.wire.control.upstream import (
    Assign,
    Committed,
    Event,
    Hello,
    MachineConfig,
    OpenBuild,
    Reply,
    Sample,
    Sought,
    Welcome,
    from_tender,
)
from chronarch.wire.gcode import WirePlan
from chronarch.wire.machines.finding import Looked

TOLD, MOST_REFUSED = 5, 100
"""Of one connection: how many messages that cannot be understood are logged, and after how many it is closed."""

WENT_AWAY = "its tender went away before it answered"
log = logging.getLogger("chronarch.upstream")
router = APIRouter()


async def config_of(db: AsyncSession, known: FleetMachine, pace: float = 1.0) -> MachineConfig:
    """A machine as its tender should know it, with its open build. `pace` is the learned pace of its model."""
    fed = func.coalesce(t.Build.fed_sha256, t.Build.sha256)
    found = (
        await db.execute(
            select(t.Build, t.File.name, t.ContentReading.plan, t.Blob.size)
            .join(t.File, t.File.id == t.Build.file_id)
            .join(t.Blob, t.Blob.sha256 == fed)
            .join(
                t.ContentReading,
                (t.ContentReading.sha256 == fed) & (t.ContentReading.model == known.model.name),
            )
            .where(t.Build.open_machine == known.row.id)
        )
    ).first()
    order = None
    if found is not None:
        build, name, plan, size = found
        order = fill(
            OpenBuild, build, build=build.id, sha256=build.fed_sha256 or build.sha256, size=size, file=name,
            job=build.job_id, plan=WirePlan.model_validate(plan), pace=pace, begun=build.started_at is not None,
            ended=build.state == BuildState.ENDED,
        )  # fmt: skip
    return fill(MachineConfig, known.row, machine=known.row.name, model=known.model, order=order)


@router.websocket("/api/tender")
async def tender(socket: WebSocket) -> None:
    """A tender's connection: hello and welcome, then events, samples and replies one way, commands the other."""
    await socket.accept()
    async with closed_for_cause(socket, "a tender"):
        who = await part_of(socket, Callers).identify(socket)
        if not who.is_tender:
            raise ApiProblem(403, "This key is not a tender's.")
        async with asyncio.timeout(HELLO_WITHIN_S):
            hello = from_tender.validate_json(await socket.receive_text())
        if not isinstance(hello, Hello):
            raise ApiProblem(400, "The first message must be hello.")
        await TenderSession(part_of(socket, TenderRoom), socket, who, hello).run()


@dataclass
class TenderRoom:
    """What a tender's connection works with."""

    context: ServiceContext
    fleet: Fleet
    paces: LearnedPaces
    heat_log: HeatLog
    connections: OpenConnections
    film_of: Callable[[int], Awaitable[FilmTaking | None]]
    """What a tender is to do for the film of a build."""
    secrets: Secrets


class TenderSession:
    """One tender's connection, from hello on."""

    def __init__(self, room: TenderRoom, socket: WebSocket, who: Principal, hello: Hello) -> None:
        self._room, self._context, self._fleet = room, room.context, room.fleet
        self._who = who
        self._socket = socket
        self._hello = hello
        self._sending = asyncio.Lock()
        self._refused = 0
        self._heard: asyncio.Queue[Event | Reply] = asyncio.Queue(10_000)
        self._connection = TenderConnection(
            hello.tender,
            self._send,
            self._configure,
            epoch=hello.epoch,
            place=hello.place,
            since=room.context.clock.real_now(),
        )

    async def _send(self, text: str) -> None:
        async with self._sending:
            await self._socket.send_text(text)

    async def _config(self, db: AsyncSession, known: FleetMachine) -> MachineConfig:
        config = await config_of(db, known, await self._room.paces.of(db, known.model.name))
        order = config.order
        if order is not None and not order.ended:
            order = order.model_copy(update={"film": await self._room.film_of(order.build)})
        plug = await setup_of(db, self._room.secrets, known.row.id)
        return config.model_copy(update={"order": order, "plug": plug, "materials": await own_materials(db)})

    async def _configure(self, db: AsyncSession, known: FleetMachine) -> None:
        if known.row.unsure is not None:  # it is told all once it has answered the roll call
            return
        await self._send(Assign(config=await self._config(db, known)).model_dump_json())

    async def run(self) -> None:
        holder = self._fleet.connections.get(self._hello.tender)
        if holder is not None and holder.epoch != self._hello.epoch:
            since = f" since {holder.since:%H:%M:%S} UTC" if holder.since else ""
            raise ApiProblem(409, f"{self._hello.tender} is here already: {holder.place}{since}")
        async with self._context.sessions() as db:
            row = (await db.execute(select(t.Tender).where(t.Tender.name == self._hello.tender))).scalar_one_or_none()
            if row is None:
                row = self._new_tender()
                db.add(row)
            await self._bind(db, row.name)
            await self._fleet.load(db)
            mine = [known for known in self._fleet.all() if known.tender == row.name]
            configs = [await self._config(db, known) for known in mine]
            committed = row.committed if row.epoch == self._hello.epoch else 0
        roll_call = {known.row.name: known.row.unsure for known in mine if known.row.unsure is not None}
        welcome = Welcome(committed=committed, configs=configs, roll_call=roll_call)
        await self._send(welcome.model_dump_json())
        self._fleet.connections[row.name] = self._connection
        self._fleet.version += 1
        applying = asyncio.create_task(self._apply_forever())
        closing: set[asyncio.Task[None]] = set()

        def close() -> None:
            closing.add(asyncio.create_task(close_socket(self._socket, REFUSED, "This key was revoked.")))

        try:
            await self._fleet.publish_all(mine)
            self._context.changes.wake("tenders")
            with self._room.connections.held(self._who, close):
                while True:
                    await self._take(await self._socket.receive_text())
        finally:
            applying.cancel()
            for waiting in self._connection.waiting.values():
                if not waiting.done():
                    waiting.set_result(Reply(id="", problem=WENT_AWAY))
            for looking in self._connection.looking.values():
                if not looking.done():
                    looking.set_result(Looked(problem=WENT_AWAY))
            if self._fleet.connections.get(row.name) is self._connection:
                del self._fleet.connections[row.name]
                self._fleet.version += 1
                for known in mine:
                    self._fleet.publish(known)

    def _new_tender(self) -> t.Tender:
        """A tender that greets for the first time, before it has machines. Raises ApiProblem (400, 403)."""
        if self._who.tender:
            raise ApiProblem(403, f"This key is the tender {self._who.tender}'s; make another for this one.")
        try:
            return t.Tender(name=check_name(self._hello.tender))
        except BadName as error:
            raise ApiProblem(400, str(error)) from None

    async def _bind(self, db: AsyncSession, tender: str) -> None:
        """Bind a key to the tender that it greets as first. Raises ApiProblem (403) when it is bound to another."""
        mine = update(t.Key).where(t.Key.id == self._who.key, t.Key.tender.is_(None)).values(tender=tender)
        await db.execute(mine)
        bound = (await db.execute(select(t.Key.tender).where(t.Key.id == self._who.key))).scalar_one()
        if bound != tender:
            raise ApiProblem(403, f"This key is the tender {bound}'s; make another for {tender}.")
        await db.commit()

    async def _take(self, text: str) -> None:
        """Handle one message. Raises ApiProblem (400) when too many could not be understood."""
        try:
            message = from_tender.validate_json(text)
        except ValidationError as error:
            await self._refuse(text, error)
            return
        match message:
            case Event() | Reply():
                await self._heard.put(message)
            case Sample():
                known = self._fleet.take_sample(message, self._hello.tender)
                if known is not None:
                    self._room.heat_log.take(message)
                if message.reading is not None:
                    clock = self._context.clock
                    self._connection.heard_ahead_s.append(
                        (message.reading.at - clock.now()).total_seconds() / clock.rate
                    )
            case Sought():
                looking = self._connection.looking.get(message.id)
                if looking is not None and not looking.done():
                    looking.set_result(message.looked)
            case Hello():
                raise ApiProblem(400, "hello comes once.")

    async def _refuse(self, text: str, error: ValidationError) -> None:
        """Replace an event that cannot be understood by a notice, so that later events can be committed; drop a sample
        or reply."""
        first = error.errors()[0]
        why = f"{'.'.join(map(str, first['loc']))}: {first['msg']}"[:200]
        self._count_refused(f"what it said was not understood ({why})")
        if self._refused > MOST_REFUSED:
            raise ApiProblem(400, "Too much of what it says cannot be understood.")
        with suppress(ValueError, KeyError, TypeError):
            said = json.loads(text)
            if said["kind"] == "event":
                body = Noticed(f"what the tender told of it could not be understood ({why})")
                at = self._context.clock.now()
                await self._heard.put(Event(sequence=said["sequence"], machine=said["machine"], at=at, body=body))

    async def _apply_forever(self) -> None:
        """Commit events in order and acknowledge each; while the database is away, wait for it. A reply keeps its place
        among them, so that whoever asked finds the records as the machine is."""
        while True:
            event = await self._heard.get()
            if isinstance(event, Reply):
                waiting = self._connection.waiting.get(event.id)
                if waiting is not None and not waiting.done():
                    waiting.set_result(event)
                continue
            await self._commit(event)
            with suppress(Exception):
                await self._send(Committed(sequence=event.sequence).model_dump_json())

    async def _commit(self, event: Event) -> None:
        """Record an event. If it cannot be recorded, record a notice in its place; if that fails too, only its
        number."""
        at, waited = event.at, False
        body: ControlEvent | None = event.body
        while True:
            try:
                await self._apply(event.sequence, event.machine, at, body)
                return
            except Exception as error:
                first = str(error).splitlines()[0] if str(error) else type(error).__name__
                if away(error) or isinstance(error, OSError):
                    if not waited:
                        log.warning("an event waits for the database: %s", first)
                    waited = True
                    await asyncio.sleep(1)
                    continue
                text = f"an event ({event.body.kind}) could not be recorded: {first}"[:500]
                self._count_refused(text)
                if body is None:
                    return
                at = self._context.clock.now()
                body = Noticed(text) if body is event.body else None

    async def _apply(self, sequence: int, machine: str, at: datetime, body: ControlEvent | None) -> None:
        hello = self._hello
        async with self._context.sessions() as db:
            if await commit_event(db, hello.tender, hello.epoch, sequence, machine, at, body):
                await self._fleet.load(db, machine)
                if isinstance(body, MachineStands):
                    await self._configure(db, self._fleet.find(machine))

    def _count_refused(self, text: str) -> None:
        self._refused += 1
        if self._refused <= TOLD:
            log.warning("tender %s: %s", self._hello.tender, text)
