"""What the service knows of the machines right now: their rows, newest samples and frames, and their tenders."""

from __future__ import annotations

import asyncio
import uuid
from collections import deque
from collections.abc import Awaitable, Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta, tzinfo
from typing import Annotated, Any

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.address import without_secrets
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import Intake, MachineState, Outcome
from chronarch.core.machines.tools import Tool
from chronarch.core.machines.upkeep_calls import Blocks, UpkeepCall
from chronarch.core.planning.capability import Capability
from chronarch.core.planning.eligibility import MachineStatus
from chronarch.records import tables as t
from chronarch.service.changes import Changes
from chronarch.service.context import part
from chronarch.service.problems import ApiProblem, TooLateProblem
from chronarch.wire.common import fill
from chronarch.wire.control.commands import MachineCommand
from chronarch.wire.control.upstream import Command, Reply, Sample
from chronarch.wire.machines import machine as wm
from chronarch.wire.machines.finding import Looked
from chronarch.wire.machines.machine import MachineControls
from chronarch.wire.machines.model import machine_model

HEAD_COMES_WITHIN = timedelta(seconds=20)
"""A head has come, shop time, to where it was told to be so long ago."""
LATELY = 20
"""So many samples say how a tender's clock stands."""
COMMAND_WITHIN_S = 15.0
PHOTO = 12
"""Characters of its hash by which a photo is known."""
WAKES_WITHIN_S = 300.0
"""Shop seconds after twice its start-up within which a machine that was turned on is still expected."""


@dataclass
class TenderConnection:
    """A tender that is connected now."""

    name: str
    send: Callable[[str], Awaitable[None]]
    configure: Callable[[AsyncSession, FleetMachine], Awaitable[None]]
    """Tell it how one of its machines is set up, and what that machine is to build."""
    waiting: dict[str, asyncio.Future[Reply]] = field(default_factory=dict)
    looking: dict[str, asyncio.Future[Looked]] = field(default_factory=dict)
    """Who waits for what it finds."""
    epoch: str = ""
    place: str = ""
    since: datetime | None = None
    heard_ahead_s: deque[float] = field(default_factory=lambda: deque(maxlen=LATELY))

    @property
    def ahead_s(self) -> float | None:
        """How far its clock is ahead of the service's, real seconds, as its newest samples say; None before there are
        any. A sample that was on its way for long says less than it is."""
        return max(self.heard_ahead_s, default=None)


@dataclass
class FleetMachine:
    """One machine: its row as last read, and what was heard of it since."""

    row: t.Machine
    model: MachineModel
    tender: str
    brief: wm.BuildBrief | None = None
    planned_s: float = 0.0
    """Planned seconds of its build."""
    sample: Sample | None = None
    spools: dict[int, t.Spool] = field(default_factory=dict)
    """What is loaded, by tool, if the shop counts spools."""
    shown: str = ""
    """How the wire shows it, as JSON."""
    camera: str = ""
    """The camera that stands for it; empty without one."""
    frame: bytes = b""
    """The newest of that camera's."""
    frame_at: datetime | None = None
    plug: tuple[t.Plug, str] | None = None
    """The plug that it hangs on, and the name of its profile."""
    woken_at: datetime | None = None
    """When its plug was last turned on, shop time; None since it was turned off."""
    laying: asyncio.Lock = field(default_factory=asyncio.Lock)
    """Held while it is changed what its build lays: each change stands on the one before."""
    head_since: datetime | None = None
    """When its head was told to be elsewhere last, shop time."""
    bed_seen: bool = False
    """Whether the watch has looked at its clear bed, or could not, since its last build."""
    on_bed: str = ""
    """Why the watch keeps it from work: what seems to lie on its bed. Empty while nothing does."""

    upkeep: tuple[UpkeepCall, ...] = ()
    """What its upkeep asks for now."""

    @property
    def closed_for(self) -> str:
        """The upkeep without which it takes no work; empty while there is none."""
        return next((call.sentence for call in self.upkeep if call.blocks is Blocks.CLOSES), "")

    @property
    def head_mm(self) -> tuple[float, float, float] | None:
        """Where its head was when it last told; None while that is not known."""
        return self.sample.hands.head_mm if self.sample is not None else None

    def head_rests(self, at: datetime) -> bool:
        """Whether its head was there at a time, shop time: it is told to be where it goes before it has come there."""
        return self.head_since is None or at > self.head_since + HEAD_COMES_WITHIN


def _as_it_is(model: MachineModel, row: t.Machine) -> MachineModel:
    """A model with what is otherwise at one machine."""
    return model if row.reversed_axes is None else replace(model, reversed_axes=row.reversed_axes)


class Fleet:
    """All machines by name. Upper and lower case are the same."""

    def __init__(self, changes: Changes, now: Callable[[], datetime] | None = None) -> None:
        self._changes, self._now = changes, now
        self._known: dict[str, FleetMachine] = {}
        self.connections: dict[str, TenderConnection] = {}
        self.zone: tzinfo = UTC
        self.must_see: Callable[[FleetMachine], bool] = lambda known: False
        """Whether the watch looks at the clear bed of a machine before it takes work."""
        self.version = 0
        """How often rows were read or a tender came or went: what a plan is made from may be different then."""

    async def load(self, db: AsyncSession, *names: str) -> None:
        """Read the rows of these machines (all, without names) and tell listeners."""
        query = (
            select(t.Machine, t.Model, t.Tender.name)
            .join(t.Model, t.Model.id == t.Machine.model_id)
            .join(t.Tender, t.Tender.id == t.Machine.tender_id)
        )
        if names:
            query = query.where(t.Machine.name.in_(names))
        found = (await db.execute(query.execution_options(populate_existing=True))).all()
        briefs = await self._briefs(db, [row.id for row, _, _ in found])
        loaded: dict[int, dict[int, t.Spool]] = {}
        spools = select(t.Spool).where(t.Spool.machine_id.is_not(None)).execution_options(populate_existing=True)
        for spool in (await db.execute(spools)).scalars():
            loaded.setdefault(spool.machine_id or 0, {})[spool.tool or 0] = spool
        plugs = select(t.Plug, t.PlugProfile.name).join(t.PlugProfile, t.PlugProfile.id == t.Plug.profile_id)
        hanging = {
            plug.machine_id: (plug, profile)
            for plug, profile in await db.execute(plugs.execution_options(populate_existing=True))
        }
        specs: dict[int, MachineModel] = {}
        self.version += 1
        for row, model, tender in found:
            known = self._known.get(row.name.lower())
            spec = specs[model.id] = specs.get(model.id) or machine_model.validate_python(model.spec)
            if known is None:
                known = self._known[row.name.lower()] = FleetMachine(row, spec, tender)
            known.spools, known.plug = loaded.get(row.id, {}), hanging.get(row.id)
            known.brief, known.planned_s = briefs.get(row.id, (None, 0.0))
            if known.brief is not None:
                known.bed_seen, known.on_bed = False, ""
            known.row, known.model, known.tender = row, _as_it_is(spec, row), tender
        await self.publish_all([self._known[row.name.lower()] for row, _, _ in found])

    async def _briefs(self, db: AsyncSession, machines: list[int]) -> dict[int, tuple[wm.BuildBrief, float]]:
        rows = await db.execute(
            select(t.Build, t.File.name)
            .join(t.File, t.File.id == t.Build.file_id)
            .where(t.Build.open_machine.in_(machines))
        )
        return {
            b.machine_id: (
                fill(
                    wm.BuildBrief,
                    b,
                    file=file,
                    job=b.job_id,
                    progress=1.0 if b.outcome == Outcome.COMPLETED else b.acknowledged / max(b.commands, 1),
                    elapsed_s=(b.ended_at - b.started_at).total_seconds() if b.started_at and b.ended_at else 0.0,
                ),
                b.planned_s,
            )
            for b, file in rows
        }

    def find(self, name: str) -> FleetMachine:
        """One machine. Raises ApiProblem (404) when there is none of that name."""
        try:
            return self._known[name.lower()]
        except KeyError:
            raise ApiProblem(404, f"There is no machine named {name!r}; `chronarch machines list` shows all.") from None

    def all(self) -> list[FleetMachine]:
        return sorted(self._known.values(), key=lambda k: k.row.name)

    def in_care_of(self, tender: str, name: str) -> FleetMachine:
        """A machine of a tender's. Raises ApiProblem (403, 404) when there is none, or it is another's."""
        known = self.find(name)
        if known.tender != tender:
            raise ApiProblem(403, f"{known.row.name} is not in the care of this key's tender.")
        return known

    async def assign(self, db: AsyncSession, known: FleetMachine) -> None:
        """Tell the tender of a machine how it is set up now and what it is to build, if the tender is connected."""
        connection = self.connections.get(known.tender)
        if connection is not None:
            with suppress(Exception):  # a tender that has just gone away is told when it is back
                await connection.configure(db, known)

    def reachable(self, known: FleetMachine) -> bool:
        return known.tender in self.connections

    def view(self, known: FleetMachine) -> wm.Machine:
        """The machine as the wire shows it."""
        row, sample = known.row, known.sample
        brief = known.brief
        live = sample.build if sample is not None else None
        if brief is not None and brief.outcome is None and live is not None and live.id == brief.id:
            brief = live.model_copy(
                update={"state": brief.state, "outcome": brief.outcome, "reason": brief.reason or live.reason}
            )
        return fill(
            wm.Machine, row, model=known.model.name, tools=[self._tool(known, tool) for tool in row.tools],
            reachable=self.reachable(known), reading=sample.reading if sample else None, build=brief,
            photo=(row.photo or "")[:PHOTO], camera=known.camera, frame_at=known.frame_at,
            hands=sample.hands if sample else MachineControls(),
            power=sample.power if sample and known.plug else None,
            held=self._held(known) if brief is None else "",
        )  # fmt: skip

    @staticmethod
    def _tool(known: FleetMachine, tool: dict[str, Any]) -> Tool:
        spool = known.spools.get(tool.get("number", 0))
        return Tool(**{**tool, "spool": spool.id if spool else None, "grams": spool.grams_left if spool else None})

    def words(self, at: datetime, now: datetime | None = None) -> str:
        """A time on the shop's own clocks, with the weekday if it is not the day of `now`."""
        here = at.astimezone(self.zone)
        today = now is None or here.date() == now.astimezone(self.zone).date()
        return f"{here:%H:%M}" if today else f"{here:%a %H:%M}"

    def detail(self, known: FleetMachine) -> wm.MachineDetail:
        return wm.MachineDetail(
            **self.view(known).model_dump(),
            link=without_secrets(known.row.link),
            model_detail=known.model,
            resends=known.sample.resends if known.sample else 0,
        )

    def standing(self, known: FleetMachine) -> MachineStatus:
        """The machine as eligibility sees it."""
        row = known.row
        state = MachineState.IDLE if self.asleep(known) or self.wakes(known) else MachineState(row.state)
        tools = tuple(self._tool(known, tool) for tool in row.tools)
        capability = Capability(row.name, known.model, tools, tuple(row.pools), tuple(row.tags))
        return MachineStatus(
            capability,
            state,
            Intake(row.intake),
            self.reachable(known),
            known.brief is not None,
            row.reason,
            self.words(row.since),
            self.start_up_s(known),
            self._held(known),
            known.closed_for,
        )

    def _held(self, known: FleetMachine) -> str:
        """Why a machine that is idle takes no work yet, in words that follow its name; empty where it does."""
        if MachineState(known.row.state) is not MachineState.IDLE:
            return ""
        if known.closed_for:
            return f"takes no work until upkeep is done: {known.closed_for}"
        if known.on_bed:
            return f"takes no work: {known.on_bed}"
        return "" if known.bed_seen or not self.must_see(known) else "waits until the watch has seen its bed"

    def asleep(self, known: FleetMachine) -> bool:
        """Whether the shop has turned it off because there was nothing to do, and will turn it on for work."""
        power = known.sample.power if known.sample else None
        off = power is not None and power.on is False
        idle = MachineState(known.row.state) is MachineState.OFFLINE and known.brief is None
        plug = known.plug[0] if known.plug else None
        return bool(off and idle and plug and plug.off_by_itself and plug.rules.get("ahead", True))

    def wakes(self, known: FleetMachine) -> bool:
        """Whether it was just turned on, and is not there yet."""
        if known.woken_at is None or known.plug is None or self._now is None:
            return False
        idle = MachineState(known.row.state) is MachineState.OFFLINE and known.brief is None
        within = timedelta(seconds=2 * known.plug[0].rules.get("start_up_s", 0.0) + WAKES_WITHIN_S)
        return idle and self._now() - known.woken_at < within

    def start_up_s(self, known: FleetMachine) -> float:
        """How long until a machine that is turned off, or was just turned on, can take work; 0 for others."""
        if known.plug is None or not (self.asleep(known) or self.wakes(known)):
            return 0.0
        return float(known.plug[0].rules.get("start_up_s", 0.0)) or 1.0

    def publish(self, known: FleetMachine) -> None:
        """Something of a machine has changed: show it so from now on, and tell listeners."""
        known.shown = self.view(known).model_dump_json()
        self._changes.publish("machine", known.shown)

    async def publish_all(self, several: Sequence[FleetMachine]) -> None:
        """The same of many machines; others are served in between."""
        for known in several:
            self.publish(known)
            await asyncio.sleep(0)

    def take_sample(self, sample: Sample, tender: str) -> FleetMachine | None:
        """Keep the newest sample of one of a tender's machines and tell listeners; None for a machine of another's."""
        known = self._known.get(sample.machine.lower())
        if known is None or known.tender != tender:
            return None
        if sample.hands.head_mm != known.head_mm and self._now is not None:
            known.head_since = self._now()
        known.sample = sample
        self.publish(known)
        return known

    async def command(
        self, known: FleetMachine, body: MachineCommand, by: str = "", within_s: float = COMMAND_WITHIN_S
    ) -> Reply:
        """Have a machine do something. Returns once it took effect. Raises ApiProblem (409, 503)."""
        connection = self.connections.get(known.tender)
        if connection is None:
            raise ApiProblem(
                503, f"The tender {known.tender} of {known.row.name} is not connected; try again when it is."
            )
        wish = Command(id=uuid.uuid4().hex, machine=known.row.name, by=by, body=body)
        answer: asyncio.Future[Reply] = asyncio.get_running_loop().create_future()
        connection.waiting[wish.id] = answer
        try:
            await connection.send(wish.model_dump_json())
            async with asyncio.timeout(within_s):
                reply = await answer
        except TimeoutError:
            text = f"{known.row.name} did not confirm within {within_s:.0f} s; look at the machine."
            raise ApiProblem(503, text) from None
        finally:
            connection.waiting.pop(wish.id, None)
        if reply.problem:
            raise (TooLateProblem if reply.late else ApiProblem)(409, f"{known.row.name}: {reply.problem}")
        return reply


TheFleet = Annotated[Fleet, part(Fleet)]
