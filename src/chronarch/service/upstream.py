"""The tenders' side of the service: one WebSocket a tender."""

from __future__ import annotations

import asyncio
import logging
from contextlib import suppress

from fastapi import APIRouter, WebSocket, WebSocketDisconnect
from pydantic import ValidationError
from sqlalchemy import func, select
from sqlalchemy.exc import InterfaceError, OperationalError, SQLAlchemyError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.happenings import Noticed
from chronarch.core.states import BuildState, MachineState
from chronarch.records import tables as t
from chronarch.records.changes import commit_event
from chronarch.service.access import identify
from chronarch.service.fleet import Connection, Known
from chronarch.service.problems import Refused
from chronarch.service.shop import Shop, shop_of
from chronarch.wire.people import Scope
from chronarch.wire.upstream import (
    BuildOrder,
    Charge,
    Committed,
    Event,
    Hello,
    Reply,
    Sample,
    Welcome,
    WirePlan,
    from_tender,
)

HELLO_WITHIN_S = 10
REFUSED, NOT_UNDERSTOOD, HELD = 4401, 4400, 4409

log = logging.getLogger("chronarch.upstream")
router = APIRouter()


async def charge_of(db: AsyncSession, known: Known, pace: float = 1.0) -> Charge:
    """One machine as its tender should know it, with its open build; `pace` is what its model has been learned to
    take."""
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
        order = BuildOrder(
            build=build.id,
            sha256=build.fed_sha256 or build.sha256,
            size=size,
            file=name,
            job=build.job_id,
            copy_number=build.copy_number,
            plan=WirePlan.model_validate(plan),
            pace=pace,
            begun=build.started_at is not None,
            ended=build.state == BuildState.ENDED,
            started_at=build.started_at,
        )
    return Charge(
        machine=known.row.name,
        link=known.row.link,
        camera=known.row.camera,
        model=known.model,
        state=MachineState(known.row.state),
        reason=known.row.reason,
        order=order,
    )


@router.websocket("/api/tender")
async def tender(socket: WebSocket) -> None:
    """A tender's connection: hello and welcome, then events, samples and replies one way, commands the other."""
    shop = shop_of(socket)
    await socket.accept()
    try:
        who = await identify(shop, socket)
        if who.scope is not Scope.TENDER:
            raise Refused(403, "This key is not a tender's.")
        async with asyncio.timeout(HELLO_WITHIN_S):
            hello = from_tender.validate_json(await socket.receive_text())
        if not isinstance(hello, Hello):
            raise Refused(400, "The first message must be hello.")
        await _Talk(shop, socket, hello).run()
    except Refused as error:
        await _close(socket, HELD if error.status == 409 else REFUSED, str(error))
    except ValidationError as error:
        await _close(socket, NOT_UNDERSTOOD, f"A message was not understood: {error.errors()[0]['msg']}")
    except SQLAlchemyError as error:
        log.warning("a tender was sent away, the database does not answer: %s", str(error).splitlines()[0])
        await _close(socket, 1013, "The database does not answer; come back in a moment.")
    except TimeoutError:
        await _close(socket, NOT_UNDERSTOOD, f"Nothing was said for {HELLO_WITHIN_S} s.")
    except (WebSocketDisconnect, KeyError):
        pass  # it went away, or sent bytes where text belongs


async def _close(socket: WebSocket, code: int, reason: str) -> None:
    with suppress(RuntimeError, WebSocketDisconnect):
        await socket.close(code, reason[:120])


class _Talk:
    """One tender's connection, from hello on."""

    def __init__(self, shop: Shop, socket: WebSocket, hello: Hello) -> None:
        self._shop = shop
        self._socket = socket
        self._hello = hello
        self._sending = asyncio.Lock()
        self._heard: asyncio.Queue[Event | Reply] = asyncio.Queue(10_000)
        self._connection = Connection(
            hello.tender, self._send, epoch=hello.epoch, place=hello.place, since=shop.clock.real_now()
        )

    async def _send(self, text: str) -> None:
        async with self._sending:
            await self._socket.send_text(text)

    async def run(self) -> None:
        shop = self._shop
        holder = shop.fleet.connections.get(self._hello.tender)
        if holder is not None and holder.epoch != self._hello.epoch:
            since = f" since {holder.since:%H:%M:%S} UTC" if holder.since else ""
            raise Refused(409, f"{self._hello.tender} is here already: {holder.place}{since}")
        async with shop.sessions() as db:
            row = (await db.execute(select(t.Tender).where(t.Tender.name == self._hello.tender))).scalar_one_or_none()
            if row is None:
                raise Refused(404, f"There is no tender named {self._hello.tender}; add its machines first.")
            await shop.fleet.load(db)
            mine = [known for known in shop.fleet.all() if known.tender == row.name]
            charges = [await charge_of(db, known, await shop.pace_of(db, known.model.name)) for known in mine]
            committed = row.committed if row.epoch == self._hello.epoch else 0
        await self._send(Welcome(committed=committed, charges=charges).model_dump_json())
        shop.fleet.connections[row.name] = self._connection
        applying = asyncio.create_task(self._apply_forever())
        try:
            for known in mine:
                shop.fleet.publish(known)
            shop.work.set()
            while True:
                self._take(from_tender.validate_json(await self._socket.receive_text()))
        finally:
            applying.cancel()
            for waiting in self._connection.waiting.values():
                if not waiting.done():
                    waiting.set_result(Reply(id="", problem="its tender went away before it answered"))
            if shop.fleet.connections.get(row.name) is self._connection:
                del shop.fleet.connections[row.name]
                for known in mine:
                    shop.fleet.publish(known)

    def _take(self, message: Hello | Event | Sample | Reply) -> None:
        match message:
            case Event() | Reply():
                self._heard.put_nowait(message)
            case Sample():
                self._shop.fleet.take_sample(message)
                self._shop.heat.take(message)
            case Hello():
                raise Refused(400, "hello comes once.")

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
            while True:
                try:
                    await self._apply(event)
                    break
                except (OperationalError, InterfaceError, PoolTimeout, OSError) as error:
                    log.warning("an event waits for the database: %s", str(error).splitlines()[0])
                    await asyncio.sleep(1)
                except SQLAlchemyError as error:
                    log.exception("event %d of %s could not be recorded", event.sequence, event.machine)
                    text = f"an event ({event.body.kind}) could not be recorded: {str(error).splitlines()[0]}"
                    event = event.model_copy(update={"body": Noticed(text[:500])})
            with suppress(Exception):
                await self._send(Committed(sequence=event.sequence).model_dump_json())

    async def _apply(self, event: Event) -> None:
        shop, hello = self._shop, self._hello
        async with shop.sessions() as db:
            new = await commit_event(db, hello.tender, hello.epoch, event.sequence, event.machine, event.at, event.body)
            if new:
                await shop.fleet.load(db, event.machine)
                shop.hub.changed("builds", "jobs", "ledger", "notices")
                shop.work.set()
