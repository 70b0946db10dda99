"""Minds one machine that takes the whole file and runs it itself, with no I/O: messages in, messages out.

docs/protocols/store-and-run.yaml describes the messages. Orders carry an id and are sent again until they are answered;
the machine does each once. A file is offered by its hash and sent in pieces from where the machine says it has come to,
so a cut costs nothing but the piece on its way; a build starts only once the machine says that what it has makes the
hash.

    phase      waits for                         then
    resting    -                                 -
    sending    the machine to have all pieces    starting; sending again when the hash is not right
    starting   the answer to `run`               running
    running    reports of this run               resting once it is over
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass
from enum import Enum, auto
from typing import Any, Protocol

from chronarch.core.control import command_sequences as programs
from chronarch.core.control.action_wording import adjustment
from chronarch.core.control.actions import (
    Action,
    Activity,
    Adjust,
    AnswerPrompt,
    Filament,
    MeasureBed,
    SendLine,
    check,
    offset_step,
)
from chronarch.core.control.adjustments import BuildAdjustments
from chronarch.core.control.checkpoint import BuildCheckpoint
from chronarch.core.control.controller import BuildSpec, Instant, MachineController
from chronarch.core.control.events import Adjusted, BuildBegan, BuildPaused, BuildResumed, Levelled, Noticed
from chronarch.core.control.injected_commands import InjectedCommands
from chronarch.core.control.progress import Progress
from chronarch.core.control.responses import Temperatures
from chronarch.core.machines.bed_mesh import read_level_map
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MACHINE, MachineEvent, MachineState, Outcome, WrongState, after

PIECE = 64 * 1024
AHEAD = 8 * PIECE
"""How many bytes may be on their way beyond what the machine says it has."""

AGAIN_S = 2.0
SUSPECT_S = 10.0
MOST_DAMAGED = 3


class StoredContent(Protocol):
    """A file whose bytes can be had piece by piece."""

    @property
    def size(self) -> int: ...

    def piece(self, offset: int, length: int) -> bytes: ...


@dataclass(frozen=True)
class StoredFileMessage:
    """One message: its topic below the machine's own; a body of JSON, or a piece of a file with its place."""

    topic: str
    body: dict[str, Any] | None = None
    piece: bytes = b""
    sha256: str = ""
    offset: int = 0


class StoredFilePhase(Enum):
    RESTING = auto()
    SENDING = auto()
    STARTING = auto()
    RUNNING = auto()


@dataclass
class _PendingOrder:
    """An order that waits for its answer."""

    body: dict[str, Any]
    sent_s: float
    injected: InjectedCommands
    action: Action | None = None
    by: str = ""


class StoredFileController(MachineController):
    """Controls a machine that runs files itself. `prefix` makes the ids of its orders unlike those of any earlier
    tender."""

    def __init__(
        self,
        model: MachineModel,
        state: MachineState = MachineState.IDLE,
        *,
        prefix: str = "o",
    ) -> None:
        super().__init__(model, state)
        self.phase = StoredFilePhase.RESTING
        self.change = ""
        self.pauses_before: set[int] = set()
        self.watchdog = True
        self._prefix = prefix
        self._number = 0
        self._out: deque[StoredFileMessage] = deque()
        self._orders: dict[str, _PendingOrder] = {}
        self._here = False
        self._connected = False
        self._have = 0
        self._sent_to = 0
        self._heard_s = 0.0
        self._damaged = 0
        self._pause_reason = ""
        self._by_itself = False
        self._kept_changed = False
        self._prepared = False

    # What comes out ------------------------------------------------------------------------------------------

    def outgoing(self) -> list[StoredFileMessage]:
        """Messages to publish now."""
        out = list(self._out)
        self._out.clear()
        return out

    def changed(self) -> bool:
        changed, self._kept_changed = self._kept_changed, False
        return changed

    @property
    def ready(self) -> bool:
        return self.phase is StoredFilePhase.RESTING and self._here and not self._orders

    @property
    def activity(self) -> Activity:
        if self.phase is StoredFilePhase.RESTING:
            return Activity.FREE
        return Activity.PAUSED if self.state is MachineState.PAUSED else Activity.BUILDING

    @property
    def suspect(self) -> bool:
        now = self._moment.real_s if self._moment else 0.0
        return any(now - order.sent_s > SUSPECT_S for order in self._orders.values())

    @property
    def can_resume(self) -> bool:
        return True

    @property
    def stopping(self) -> bool:
        return self.phase is StoredFilePhase.RESTING

    @property
    def sent_share(self) -> float | None:
        """How much of the file the machine has, while it is being sent."""
        if self.phase is not StoredFilePhase.SENDING or self.spec is None:
            return None
        return self._have / max(1, self._content().size)

    def kept(self) -> BuildCheckpoint | None:
        if self.spec is None or self.progress is None or self.phase is StoredFilePhase.RESTING:
            return None
        p = self.progress
        return BuildCheckpoint(
            self.spec.build, self.phase.name.lower(), str(self.state), self.spec.sha256, p.acknowledged,
            reason=self.reason, settings=self.settings, pauses_before=tuple(sorted(self.pauses_before)),
            change=self.change, laying_s=p.laying_s, warming_s=p.warming_s, laid_from_s=p.laid_from_s,
        )  # fmt: skip

    # The wire ------------------------------------------------------------------------------------------------

    def connected(self, now: Instant) -> None:
        """The broker is connected; the machine will say how it is."""
        self._pass(now)
        self._connected = True
        self._lost(now)

    def disconnected(self, now: Instant) -> None:
        self._pass(now)
        self._connected = self._here = False
        self._out.clear()
        self._lost(now)

    def heard(self, topic: str, body: dict[str, Any], now: Instant) -> None:
        """Handle one message of the machine. Messages that do not have the agreed form are ignored."""
        self._pass(now)
        try:
            match topic:
                case "presence":
                    self._presence(bool(body["here"]), now)
                case "report":
                    self._report(body)
                case "store":
                    self._stored(body, now)
                case "answer":
                    self._answer(body)
                case _:
                    pass
        except (KeyError, TypeError, ValueError) as error:
            self._told_once(f"the machine sent a {topic} that is not understood ({type(error).__name__}: {error})")

    def _presence(self, here: bool, now: Instant) -> None:
        if here and not self._here:
            self._here = True
            self._found()
            for order in self._orders.values():
                self._send_order(order, now)
            if self.phase is StoredFilePhase.SENDING:
                self._offer(now)
            elif self.phase is StoredFilePhase.RESTING and not self._prepared and self.state is not MachineState.DOWN:
                self._prepared = True
                self._order({"do": "lines", "lines": [c.decode() for c in programs.heaters_off(self.model)]})
        elif not here:
            self._here = False
            self._lost(now)

    def tick(self, now: Instant) -> None:
        """Let time pass. What is not answered is sent again."""
        self._pass(now)
        self._tick_common(now, self.phase is StoredFilePhase.RESTING)
        if not self._here:
            return
        for order in self._orders.values():
            if now.real_s - order.sent_s >= AGAIN_S:
                self._send_order(order, now)
        if self.phase is StoredFilePhase.SENDING and now.real_s - self._heard_s >= AGAIN_S:
            self._offer(now)
        if self.phase is StoredFilePhase.RESTING and not self._orders:
            self._idle_safety(now)

    # What people and the service ask -----------------------------------------------------------------------

    def begin(self, spec: BuildSpec, now: Instant) -> None:
        self._pass(now)
        after(MACHINE, self.state, MachineEvent.START)
        if not self.ready:
            raise WrongState("The machine is still being made ready; try again in a moment.")
        self.spec, self.progress = spec, Progress(spec.plan, spec.pace)
        self.settings, self.change, self.pauses_before = BuildAdjustments(), "", set()
        self._damaged = 0
        self._pause_reason = ""
        self.position_mm = None
        self._move(MachineEvent.START)
        self._tell(BuildBegan(spec.build))
        self.phase = StoredFilePhase.SENDING
        self._kept_changed = True
        self._offer(now)

    def pause(self, reason: str, now: Instant, *, by_itself: bool = False, heaters_off: bool = False) -> None:
        self._pass(now)
        if self.phase is not StoredFilePhase.RUNNING or self.state is MachineState.PAUSED:
            at = (
                "its file is still on its way"
                if self.phase in (StoredFilePhase.SENDING, StoredFilePhase.STARTING)
                else str(self.state)
            )
            raise WrongState(f"Nothing can be paused: the machine is {at}.")
        self._pause_reason, self._by_itself = reason, by_itself
        self._order({"do": "pause", "heat": not heaters_off})

    def pause_before(self, layer: int, now: Instant) -> None:
        self._pass(now)
        if self.phase is StoredFilePhase.RESTING or self.progress is None:
            raise WrongState(f"Nothing can be paused: the machine is {self.state}.")
        layer = layer or self.progress.plan.layer_at(self.progress.acknowledged) + 1
        if self._layer_index(layer) <= self.progress.acknowledged:
            raise WrongState(f"Layer {layer} has begun already; choose a later one.")
        self.pauses_before.add(layer)
        self._kept_changed = True

    def no_pause_before(self, layer: int, now: Instant) -> None:
        if layer not in self.pauses_before:
            raise WrongState(f"No pause before layer {layer} is planned.")
        self.pauses_before.discard(layer)
        self._kept_changed = True

    def change_filament(self, reason: str, now: Instant) -> None:
        if self.state is not MachineState.PAUSED:
            self.pause(reason, now)
        self.change = "wanted"
        self._kept_changed = True

    def resume(self, now: Instant) -> None:
        self._pass(now)
        if self.state is not MachineState.PAUSED or self.phase is not StoredFilePhase.RUNNING:
            raise WrongState("Nothing to resume: the build is not paused and parked.")
        self._order({"do": "resume"})

    def stop(self, reason: str, now: Instant, outcome: Outcome = Outcome.STOPPED) -> None:
        self._pass(now)
        if self.phase is StoredFilePhase.RESTING:
            raise WrongState(f"Nothing can be stopped: the machine is {self.state}.")
        self._ending = (outcome, reason)
        if self.phase is StoredFilePhase.SENDING:
            self._over()
            return
        self._order({"do": "stop"})

    def emergency(self, now: Instant) -> None:
        self._pass(now)
        self._out.appendleft(StoredFileMessage("order", {"id": self._id(), "do": "halt"}))
        self._broken("emergency stop", Outcome.STOPPED)

    def act(self, action: Action, now: Instant, by: str = "") -> InjectedCommands:
        self._pass(now)
        if not self._here:
            raise WrongState("There is no link to the machine.")
        if self.state is MachineState.DOWN:
            raise WrongState("The machine is down; see to it and put it back first.")
        if self.phase in (StoredFilePhase.SENDING, StoredFilePhase.STARTING):
            raise WrongState("The machine is being given its file; try again in a moment.")
        if isinstance(action, AnswerPrompt):
            raise WrongState("What this machine asks is answered at the machine itself.")
        commands = check(action, self.model, self.situation())
        if isinstance(action, Adjust) and action.z_offset_mm is not None:
            asked = [o.action.z_offset_mm for o in self._orders.values() if isinstance(o.action, Adjust)]
            before = next((z for z in reversed(asked) if z is not None), self.settings.z_offset_mm)
            if abs(action.z_offset_mm - before) > 1e-6:
                commands.append(offset_step(action.z_offset_mm - before))
        self._touched_at = now.shop
        return self._order({"do": "lines", "lines": [c.decode("ascii") for c in commands]}, action, by)

    def adopt(self, spec: BuildSpec, kept: BuildCheckpoint, now: Instant) -> None:
        """Continue a build that an earlier tender had under way. The report of the machine says how far it is."""
        self._pass(now)
        self.spec, self.progress = spec, Progress(spec.plan, spec.pace)
        p = self.progress
        p.acknowledged, p.laying_s, p.warming_s = max(0, kept.at), kept.laying_s, kept.warming_s
        p.laid_from_s = kept.laid_from_s
        self.settings, self.change, self.pauses_before = kept.settings, kept.change, set(kept.pauses_before)
        self.state, self.reason = MachineState(kept.state), kept.reason
        self._prepared = True
        known = {phase.name.lower(): phase for phase in StoredFilePhase}
        self.phase = known.get(kept.phase, StoredFilePhase.RUNNING)
        if self.phase is StoredFilePhase.STARTING:
            self.phase = StoredFilePhase.SENDING  # a machine does `run` once for each number, however often it is asked

    @property
    def asked(self) -> list[Adjust]:
        """Adjustments that are on their way to the machine."""
        return [o.action for o in self._orders.values() if isinstance(o.action, Adjust)]

    # Orders --------------------------------------------------------------------------------------------------

    def _id(self) -> str:
        self._number += 1
        return f"{self._prefix}-{self._number}"

    def _order(self, body: dict[str, Any], action: Action | None = None, by: str = "") -> InjectedCommands:
        assert self._moment is not None
        order = _PendingOrder({"id": self._id(), **body}, self._moment.real_s, InjectedCommands(()), action, by)
        self._orders[order.body["id"]] = order
        if self._here:
            self._send_order(order, self._moment)
        return order.injected

    def _send_order(self, order: _PendingOrder, now: Instant) -> None:
        self._out.append(StoredFileMessage("order", order.body))
        order.sent_s = now.real_s

    def _answer(self, body: dict[str, Any]) -> None:
        order = self._orders.pop(str(body["id"]), None)
        if order is None:
            return
        problem = str(body.get("problem", ""))
        order.injected.said += [str(line) for line in body.get("said") or []][:400]
        if problem:
            order.injected.failed = problem
            if order.body["do"] == "run":
                self._ending = (Outcome.FAILED, f"the machine would not run the file: {problem}")
                self._over()
            return
        self._set(order)
        order.injected.done = not order.injected.failed
        if order.body["do"] == "run":
            self.phase = StoredFilePhase.RUNNING
            self._kept_changed = True

    def _set(self, order: _PendingOrder) -> None:
        action = order.action
        if action is not None and not isinstance(action, SendLine) and order.injected.unknown:
            order.injected.failed = f"the machine does not know this ({order.injected.unknown})"
            return
        if isinstance(action, Adjust):
            self.settings = self.settings.with_(action)
        elif isinstance(action, Filament):
            self.change = action.step
        elif isinstance(action, MeasureBed):
            found = read_level_map(order.injected.said)
            if found is None:
                order.injected.failed = "the machine printed no level map"
            else:
                self._tell(Levelled(found.rows))
        if action is not None and self.phase is not StoredFilePhase.RESTING and self.spec is not None:
            self._tell(Adjusted(self.spec.build, adjustment(action), order.by))

    # The file ------------------------------------------------------------------------------------------------

    def _content(self) -> StoredContent:
        program: Any = self._spec().program
        stored: StoredContent = program
        return stored

    def _offer(self, now: Instant) -> None:
        self._heard_s = now.real_s
        if self._here:
            offer = {"id": self._id(), "do": "offer", "sha256": self._spec().sha256, "bytes": self._content().size}
            self._out.append(StoredFileMessage("order", offer))

    def _stored(self, body: dict[str, Any], now: Instant) -> None:
        """The machine says how much of a file it has."""
        if self.phase is not StoredFilePhase.SENDING or body["sha256"] != self._spec().sha256:
            return
        self._heard_s = now.real_s
        size, sha256 = self._content().size, self._spec().sha256
        self._have = min(int(body["bytes"]), size)
        if body.get("damaged"):
            self._damaged += 1
            if self._damaged >= MOST_DAMAGED:
                self._ending = (Outcome.FAILED, f"the file arrived damaged {self._damaged} times")
                self._over()
                return
        if body.get("whole"):
            self.phase = StoredFilePhase.STARTING
            self._kept_changed = True
            self._order({"do": "run", "run": self._spec().build, "sha256": sha256})
            return
        if body.get("offered") or self._sent_to < self._have or body.get("damaged"):
            self._sent_to = self._have
        while self._sent_to < min(size, self._have + AHEAD):
            piece = self._content().piece(self._sent_to, PIECE)
            self._out.append(StoredFileMessage("piece", None, piece, sha256, self._sent_to))
            self._sent_to += len(piece)

    # Reports -------------------------------------------------------------------------------------------------

    def _report(self, body: dict[str, Any]) -> None:
        heat = body.get("heat", {})
        nozzle, bed, chamber = (heat.get(name, [None, None]) for name in ("nozzle", "bed", "chamber"))
        alarm = self._heat_alarm(Temperatures(nozzle[0], nozzle[1], bed[0], bed[1], chamber[0], chamber[1]))
        if alarm:
            self._trouble(alarm)
        position = body.get("position_mm")
        self.position_mm = (float(position[0]), float(position[1]), float(position[2])) if position else None
        state = body["state"]
        if state == "halted":
            if self.state is not MachineState.DOWN:
                self._broken(f"the machine halted: {body.get('reason', '')}", Outcome.FAILED)
            return
        if self.phase is not StoredFilePhase.RUNNING or self.progress is None:
            return
        if body.get("run") != self._spec().build:
            self._ending = (Outcome.FAILED, "the machine restarted itself during the build")
            self._over()
            return
        self.progress.acknowledged = max(self.progress.acknowledged, int(body["taken"]))
        reason = str(body.get("reason", ""))
        if state == "ended":
            outcome = Outcome(body["ended"])
            if outcome is not Outcome.STOPPED:
                self._ending = (outcome, reason)
            self._over()
        elif state == "paused":
            self._paused(reason)
        elif state == "running":
            self._running()

    def _paused(self, reason: str) -> None:
        if self.state is MachineState.PAUSED:
            return
        asked = bool(self._pause_reason)
        why = self._pause_reason or reason or "the machine asked for a pause"
        self._move(MachineEvent.PAUSE, why)
        self._tell(BuildPaused(self._spec().build, why, self._by_itself if asked else True))
        self._pause_reason = ""
        self._kept_changed = True

    def _running(self) -> None:
        progress = self.progress
        assert progress is not None
        if self.state is MachineState.PAUSED:
            self._move(MachineEvent.RESUME)
            self._tell(BuildResumed(self._spec().build))
            self.change = ""
            self._kept_changed = True
        if self.state is MachineState.WARMING and self._laying_begun():
            self._lay()
        due = [n for n in self.pauses_before if self._layer_index(n) <= progress.acknowledged]
        if due and not self._pause_reason:
            self.pauses_before -= set(due)
            assert self._moment is not None
            self.pause(f"asked for before layer {due[0]}", self._moment)

    def _over(self) -> None:
        """The build has ended, as `_ending` says."""
        self._drop_orders("the build ended")
        self.phase = StoredFilePhase.RESTING
        self._kept_changed = True
        self._ended()
        self._move(MachineEvent.END, self._ending[1])
        self._ending = (Outcome.COMPLETED, "")
        undo = programs.undo(self.settings.speed_pct, self.settings.flow_pct, self.settings.z_offset_mm)
        if undo:
            self._order({"do": "lines", "lines": [c.decode() for c in undo]})

    def _drop_orders(self, why: str) -> None:
        for order in self._orders.values():
            order.injected.failed = why
        self._orders.clear()

    def _broken(self, reason: str, outcome: Outcome) -> None:
        self._drop_orders(reason)
        self._prepared = False
        if self.phase is not StoredFilePhase.RESTING:
            self._ending = (outcome, reason)
            self._ended()
        self.phase = StoredFilePhase.RESTING
        self._kept_changed = True
        if self.state is not MachineState.DOWN:
            self._move(MachineEvent.FAULT, reason)

    def _trouble(self, reason: str) -> None:
        assert self._moment is not None
        if self.phase is StoredFilePhase.RUNNING and self.state is not MachineState.PAUSED:
            if not self._pause_reason:
                self.pause(reason, self._moment, by_itself=True, heaters_off=True)
        else:
            self._told_once(reason)

    def _told_once(self, reason: str) -> None:
        if reason.split(":")[0] != self.reason.split(":")[0]:
            self.reason = reason
            self._tell(Noticed(reason, self.build))

    def _heaters_off_now(self) -> None:
        self._order({"do": "lines", "lines": [c.decode() for c in programs.heaters_off(self.model)]})

    def _cleared(self) -> None:
        if self.phase is StoredFilePhase.RESTING and self._here:
            self._order({"do": "lines", "lines": ["M117 Ready"]})

    def _mended(self) -> None:
        self._prepared = True
        self._order({"do": "lines", "lines": [c.decode() for c in programs.heaters_off(self.model)]})
