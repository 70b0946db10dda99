"""Machines that are found, and join the shop: whoever has one join shows that they stand before it."""

from __future__ import annotations

import asyncio
import secrets
import uuid
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Annotated

from chronarch.core.machines.address import Address, NotAnAddress, broker_link, parse_address
from chronarch.core.machines.announced import proposed_name
from chronarch.service.context import ServiceContext, part
from chronarch.service.machines.fleet import Fleet, FleetMachine
from chronarch.service.machines.reach import check_reach
from chronarch.service.machines.setting_up import add_machine, check_new, device_of
from chronarch.service.problems import ApiProblem
from chronarch.wire.control.upstream import Seek
from chronarch.wire.machines import finding as w

JOIN_WITHIN = timedelta(minutes=5)
MOST_JOINS, MOST_TRIES = 50, 5
ANSWER_SPARE_S = 40.0
GREET_WITHIN_S = 60.0


@dataclass
class PendingJoin:
    """A machine that is to join once it is confirmed at the machine itself."""

    id: str
    wish: w.JoinWish
    until: datetime
    code: str = ""
    tries: int = 0
    clicked: bool = False
    problem: str = ""
    waiting: asyncio.Task[None] | None = None

    def shown(self) -> w.Join:
        return w.Join(id=self.id, by=self.wish.by, until=self.until, clicked=self.clicked, problem=self.problem)


@dataclass
class MachineFinder:
    """Has tenders look for machines, and keeps the joins that are under way."""

    context: ServiceContext
    fleet: Fleet
    _joins: dict[str, PendingJoin] = field(default_factory=dict)

    async def find(self, wish: w.FindWish) -> w.Looked:
        """What is there, each with the machine that it is already, or a name for it. Raises ApiProblem."""
        if wish.broker:
            await self._check(broker_link(wish.broker, "any"))
        look = w.Look(kind="find", link=wish.broker, within_s=wish.within_s)
        return self._named(await self._ask(wish.tender, look), wish.tender)

    async def greet(self, wish: w.GreetWish) -> w.Found:
        """What is at an address. Raises ApiProblem (422, 502)."""
        await self._check(wish.link)
        looked = await self._ask(wish.tender, w.Look(kind="greet", link=wish.link, within_s=GREET_WITHIN_S))
        if looked.problem or not looked.found:
            raise ApiProblem(502, looked.problem or "Nothing answers there.")
        return self._named(looked, wish.tender).found[0]

    # Joining ------------------------------------------------------------------------------------------------------

    async def begin(self, wish: w.JoinWish) -> w.Join:
        """Have the machine show a code, or wait for its click. Raises ApiProblem (409, 422, 502)."""
        await self._check(wish.machine.link)
        await check_new(self.context, self.fleet, wish.machine, wish.tender)
        self._forget(lambda join: (join.wish.tender, join.wish.machine.link) == (wish.tender, wish.machine.link))
        self._forget_old()
        if len(self._joins) >= MOST_JOINS:
            raise ApiProblem(409, f"{MOST_JOINS} machines are joining already; wait until some have.")
        join = PendingJoin(uuid.uuid4().hex, wish, self.context.clock.real_now() + JOIN_WITHIN)
        if wish.by == "code":
            join.code = f"{secrets.randbelow(10_000):04}"
            look = w.Look(kind="show", link=wish.machine.link, text=f"Code {join.code}")
            looked = await self._ask(wish.tender, look)
            if looked.problem:
                raise ApiProblem(502, looked.problem)
        else:
            join.waiting = asyncio.create_task(self._wait_for_click(join))
        self._joins[join.id] = join
        return join.shown()

    async def _wait_for_click(self, join: PendingJoin) -> None:
        look = w.Look(
            kind="click", link=join.wish.machine.link, text="Click to join", within_s=JOIN_WITHIN.total_seconds()
        )
        try:
            looked = await self._ask(join.wish.tender, look)
            join.clicked, join.problem = not looked.problem, looked.problem
        except ApiProblem as error:
            join.problem = str(error)

    def find_join(self, number: str) -> PendingJoin:
        """Raises ApiProblem (404)."""
        self._forget_old()
        try:
            return self._joins[number]
        except KeyError:
            raise ApiProblem(404, "This join is over, or was never begun; begin it anew.") from None

    async def confirm(self, number: str, said: w.JoinConfirmed) -> FleetMachine:
        """The machine joins. Raises ApiProblem (403, 404, 409)."""
        join = self.find_join(number)
        if join.wish.by == "code":
            join.tries += 1
            if join.tries > MOST_TRIES:
                del self._joins[number]
                raise ApiProblem(409, "The code was wrong too often. Begin anew, and read it from the display.")
            if not secrets.compare_digest(said.code.strip().encode(), join.code.encode()):
                raise ApiProblem(403, "That is not the code on the machine's display. Is it the machine that you mean?")
        elif not join.clicked:
            raise ApiProblem(409, join.problem or "Nobody has clicked at the machine yet.")
        known = await add_machine(self.context, self.fleet, join.wish.machine, join.wish.tender)
        self._joins.pop(number, None)
        return known

    def _forget_old(self) -> None:
        now = self.context.clock.real_now()
        self._forget(lambda join: join.until < now)

    def _forget(self, over: Callable[[PendingJoin], bool]) -> None:
        for number in [number for number, join in self._joins.items() if over(join)]:
            waiting = self._joins.pop(number).waiting
            if waiting is not None:
                waiting.cancel()

    # Around -------------------------------------------------------------------------------------------------------

    async def _check(self, link: str) -> Address:
        try:
            address = parse_address(link)
        except NotAnAddress as error:
            raise ApiProblem(422, str(error)) from None
        if address.host:
            await check_reach(self.context.config, address.host, address.port, "link")
        return address

    async def _ask(self, tender: str, look: w.Look) -> w.Looked:
        """Raises ApiProblem (503, 504)."""
        connection = self.fleet.connections.get(tender)
        if connection is None:
            raise ApiProblem(503, f"The tender {tender!r} is not connected; is it running?")
        seek = Seek(id=uuid.uuid4().hex, look=look)
        answer: asyncio.Future[w.Looked] = asyncio.get_running_loop().create_future()
        connection.looking[seek.id] = answer
        within_s = look.within_s + ANSWER_SPARE_S
        try:
            await connection.send(seek.model_dump_json())
            async with asyncio.timeout(within_s):
                return await answer
        except TimeoutError:
            raise ApiProblem(504, f"The tender {tender} did not answer within {within_s:.0f} s.") from None
        finally:
            connection.looking.pop(seek.id, None)

    def _named(self, looked: w.Looked, tender: str) -> w.Looked:
        """Each with the machine of the shop that it is already, or a name that is free."""
        devices = {known.row.device: known.row.name for known in self.fleet.all()}
        taken = list(devices.values())
        found = []
        for one in looked.found:
            try:
                address = parse_address(one.link)
            except NotAnAddress:
                continue
            machine = devices.get(device_of(address, tender), "")
            proposed = "" if machine else proposed_name(one.name, one.model, taken)
            taken.append(proposed)
            found.append(one.model_copy(update={"machine": machine, "proposed": proposed}))
        return looked.model_copy(update={"found": found})


TheMachineFinder = Annotated[MachineFinder, part(MachineFinder)]
