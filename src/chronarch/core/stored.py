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

from chronarch.core import programs
from chronarch.core.answers import Heat
from chronarch.core.asides import Aside
from chronarch.core.fleet import MachineModel
from chronarch.core.hands import Action, Adjust, Answer, Filament, LevelMap, Line, check, offset_step
from chronarch.core.hands import Moment as HandsMoment
from chronarch.core.happenings import Adjusted, BuildBegan, BuildPaused, BuildResumed, Levelled, Noticed
from chronarch.core.kept import Kept
from chronarch.core.level_map import read_level_map
from chronarch.core.mind import Errand, Mind, Moment, Settings
from chronarch.core.progress import Progress
from chronarch.core.states import MACHINE, MachineEvent, MachineState, Outcome, WrongState, after
from chronarch.core.wording import adjustment

PIECE = 64 * 1024
AHEAD = 8 * PIECE
"""How much may be on its way beyond what the machine says it has."""

AGAIN_S = 2.0
SUSPECT_S = 10.0
MOST_DAMAGED = 3


class Stored(Protocol):
    """A file whose bytes can be had piece by piece."""

    @property
    def size(self) -> int: ...

    def piece(self, offset: int, length: int) -> bytes: ...


@dataclass(frozen=True)
class Message:
    """One message: its topic below the machine's own; a body of JSON, or a piece of a file with its place."""

    topic: str
    body: dict[str, Any] | None = None
    piece: bytes = b""
    sha256: str = ""
    offset: int = 0


class Phase(Enum):
    RESTING = auto()
    SENDING = auto()
    STARTING = auto()
    RUNNING = auto()


@dataclass
class _Order:
    """An order that waits for its answer."""

    body: dict[str, Any]
    sent_s: float
    aside: Aside
    action: Action | None = None
    by: str = ""


class StoredSteward(Mind):
    """The mind of a machine that runs files itself. `prefix` makes its orders' ids unlike any earlier tender's."""

    def __init__(
        self,
        model: MachineModel,
        state: MachineState = MachineState.IDLE,
        *,
        prefix: str = "o",
    ) -> None:
        super().__init__(model, state)
        self.phase = Phase.RESTING
        self.change = ""
        self.pauses_before: set[int] = set()
        self.watchdog = True
        self._prefix = prefix
        self._number = 0
        self._out: deque[Message] = deque()
        self._orders: dict[str, _Order] = {}
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

    def outgoing(self) -> list[Message]:
        """Messages to publish now."""
        out = list(self._out)
        self._out.clear()
        return out

    def changed(self) -> bool:
        changed, self._kept_changed = self._kept_changed, False
        return changed

    @property
    def ready(self) -> bool:
        return self.phase is Phase.RESTING and self._here and not self._orders

    @property
    def moment(self) -> HandsMoment:
        if self.phase is Phase.RESTING:
            return HandsMoment.FREE
        return HandsMoment.PAUSED if self.state is MachineState.PAUSED else HandsMoment.BUILDING

    @property
    def suspect(self) -> bool:
        now = self._moment.real_s if self._moment else 0.0
        return any(now - order.sent_s > SUSPECT_S for order in self._orders.values())

    @property
    def can_resume(self) -> bool:
        return True

    @property
    def stopping(self) -> bool:
        return self.phase is Phase.RESTING

    @property
    def sent_share(self) -> float | None:
        """How much of the file the machine has, while it is being sent."""
        if self.phase is not Phase.SENDING or self.errand is None:
            return None
        return self._have / max(1, self._content().size)

    def kept(self) -> Kept | None:
        if self.errand is None or self.progress is None or self.phase is Phase.RESTING:
            return None
        p = self.progress
        return Kept(
            self.errand.build, self.phase.name.lower(), str(self.state), self.errand.sha256, p.acknowledged,
            reason=self.reason, settings=self.settings, pauses_before=tuple(sorted(self.pauses_before)),
            change=self.change, laying_s=p.laying_s, warming_s=p.warming_s, laid_from_s=p.laid_from_s,
        )  # fmt: skip

    # The wire ------------------------------------------------------------------------------------------------

    def connected(self, now: Moment) -> None:
        """The broker is there; the machine tells of itself."""
        self._pass(now)
        self._connected = True
        self._lost(now)

    def disconnected(self, now: Moment) -> None:
        self._pass(now)
        self._connected = self._here = False
        self._out.clear()
        self._lost(now)

    def heard(self, topic: str, body: dict[str, Any], now: Moment) -> None:
        """Take one message of the machine's. What has not the form that was agreed is passed over."""
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

    def _presence(self, here: bool, now: Moment) -> None:
        if here and not self._here:
            self._here = True
            self._found()
            for order in self._orders.values():
                self._send_order(order, now)
            if self.phase is Phase.SENDING:
                self._offer(now)
            elif self.phase is Phase.RESTING and not self._prepared and self.state is not MachineState.DOWN:
                self._prepared = True
                self._order({"do": "lines", "lines": [c.decode() for c in programs.heaters_off(self.model)]})
        elif not here:
            self._here = False
            self._lost(now)

    def tick(self, now: Moment) -> None:
        """Let time pass: what is not answered is sent again."""
        self._pass(now)
        self._tick_common(now, self.phase is Phase.RESTING)
        if not self._here:
            return
        for order in self._orders.values():
            if now.real_s - order.sent_s >= AGAIN_S:
                self._send_order(order, now)
        if self.phase is Phase.SENDING and now.real_s - self._heard_s >= AGAIN_S:
            self._offer(now)
        if self.phase is Phase.RESTING and not self._orders:
            self._idle_safety(now)

    # What people and the service ask -----------------------------------------------------------------------

    def begin(self, errand: Errand, now: Moment) -> None:
        self._pass(now)
        after(MACHINE, self.state, MachineEvent.START)
        if not self.ready:
            raise WrongState("The machine is still being made ready; try again in a moment.")
        self.errand, self.progress = errand, Progress(errand.plan, errand.pace)
        self.settings, self.change, self.pauses_before = Settings(), "", set()
        self._damaged = 0
        self._pause_reason = ""
        self.position_mm = None
        self._move(MachineEvent.START)
        self._tell(BuildBegan(errand.build))
        self.phase = Phase.SENDING
        self._kept_changed = True
        self._offer(now)

    def pause(self, reason: str, now: Moment, *, by_itself: bool = False, heaters_off: bool = False) -> None:
        self._pass(now)
        if self.phase is not Phase.RUNNING or self.state is MachineState.PAUSED:
            at = "its file is still on its way" if self.phase in (Phase.SENDING, Phase.STARTING) else str(self.state)
            raise WrongState(f"Nothing can be paused: the machine is {at}.")
        self._pause_reason, self._by_itself = reason, by_itself
        self._order({"do": "pause", "heat": not heaters_off})

    def pause_before(self, layer: int, now: Moment) -> None:
        self._pass(now)
        if self.phase is Phase.RESTING or self.progress is None:
            raise WrongState(f"Nothing can be paused: the machine is {self.state}.")
        layer = layer or self.progress.plan.layer_at(self.progress.acknowledged) + 1
        if self._layer_index(layer) <= self.progress.acknowledged:
            raise WrongState(f"Layer {layer} has begun already; choose a later one.")
        self.pauses_before.add(layer)
        self._kept_changed = True

    def no_pause_before(self, layer: int, now: Moment) -> None:
        if layer not in self.pauses_before:
            raise WrongState(f"No pause before layer {layer} is planned.")
        self.pauses_before.discard(layer)
        self._kept_changed = True

    def change_filament(self, reason: str, now: Moment) -> None:
        if self.state is not MachineState.PAUSED:
            self.pause(reason, now)
        self.change = "wanted"
        self._kept_changed = True

    def resume(self, now: Moment) -> None:
        self._pass(now)
        if self.state is not MachineState.PAUSED or self.phase is not Phase.RUNNING:
            raise WrongState("Nothing to resume: the build is not paused and parked.")
        self._order({"do": "resume"})

    def stop(self, reason: str, now: Moment, outcome: Outcome = Outcome.STOPPED) -> None:
        self._pass(now)
        if self.phase is Phase.RESTING:
            raise WrongState(f"Nothing can be stopped: the machine is {self.state}.")
        self._ending = (outcome, reason)
        if self.phase is Phase.SENDING:
            self._over()
            return
        self._order({"do": "stop"})

    def emergency(self, now: Moment) -> None:
        self._pass(now)
        self._out.appendleft(Message("order", {"id": self._id(), "do": "halt"}))
        self._broken("emergency stop", Outcome.STOPPED)

    def act(self, action: Action, now: Moment, by: str = "") -> Aside:
        self._pass(now)
        if not self._here:
            raise WrongState("There is no link to the machine.")
        if self.state is MachineState.DOWN:
            raise WrongState("The machine is down; see to it and put it back first.")
        if self.phase in (Phase.SENDING, Phase.STARTING):
            raise WrongState("The machine is being given its file; try again in a moment.")
        if isinstance(action, Answer):
            raise WrongState("What this machine asks is answered at the machine itself.")
        commands = check(action, self.model, self.standing())
        if isinstance(action, Adjust) and action.z_offset_mm is not None:
            asked = [o.action.z_offset_mm for o in self._orders.values() if isinstance(o.action, Adjust)]
            before = next((z for z in reversed(asked) if z is not None), self.settings.z_offset_mm)
            if abs(action.z_offset_mm - before) > 1e-6:
                commands.append(offset_step(action.z_offset_mm - before))
        self._touched_at = now.shop
        return self._order({"do": "lines", "lines": [c.decode("ascii") for c in commands]}, action, by)

    def adopt(self, errand: Errand, kept: Kept, now: Moment) -> None:
        """Go on with a build that an earlier tender had under way: the machine's report tells how far it is."""
        self._pass(now)
        self.errand, self.progress = errand, Progress(errand.plan, errand.pace)
        p = self.progress
        p.acknowledged, p.laying_s, p.warming_s = max(0, kept.at), kept.laying_s, kept.warming_s
        p.laid_from_s = kept.laid_from_s
        self.settings, self.change, self.pauses_before = kept.settings, kept.change, set(kept.pauses_before)
        self.state, self.reason = MachineState(kept.state), kept.reason
        self._prepared = True
        known = {phase.name.lower(): phase for phase in Phase}
        self.phase = known.get(kept.phase, Phase.RUNNING)
        if self.phase is Phase.STARTING:
            self.phase = Phase.SENDING  # `run` is done once for a run's number, however often it is asked

    @property
    def asked(self) -> list[Adjust]:
        """Adjustments that are on their way to the machine."""
        return [o.action for o in self._orders.values() if isinstance(o.action, Adjust)]

    # Orders --------------------------------------------------------------------------------------------------

    def _id(self) -> str:
        self._number += 1
        return f"{self._prefix}-{self._number}"

    def _order(self, body: dict[str, Any], action: Action | None = None, by: str = "") -> Aside:
        assert self._moment is not None
        order = _Order({"id": self._id(), **body}, self._moment.real_s, Aside(()), action, by)
        self._orders[order.body["id"]] = order
        if self._here:
            self._send_order(order, self._moment)
        return order.aside

    def _send_order(self, order: _Order, now: Moment) -> None:
        self._out.append(Message("order", order.body))
        order.sent_s = now.real_s

    def _answer(self, body: dict[str, Any]) -> None:
        order = self._orders.pop(str(body["id"]), None)
        if order is None:
            return
        problem = str(body.get("problem", ""))
        order.aside.said += [str(line) for line in body.get("said") or []][:400]
        if problem:
            order.aside.failed = problem
            if order.body["do"] == "run":
                self._ending = (Outcome.FAILED, f"the machine would not run the file: {problem}")
                self._over()
            return
        self._set(order)
        order.aside.done = not order.aside.failed
        if order.body["do"] == "run":
            self.phase = Phase.RUNNING
            self._kept_changed = True

    def _set(self, order: _Order) -> None:
        action = order.action
        if action is not None and not isinstance(action, Line) and order.aside.unknown:
            order.aside.failed = f"the machine does not know this ({order.aside.unknown})"
            return
        if isinstance(action, Adjust):
            self.settings = self.settings.with_(action)
        elif isinstance(action, Filament):
            self.change = action.step
        elif isinstance(action, LevelMap):
            found = read_level_map(order.aside.said)
            if found is None:
                order.aside.failed = "the machine printed no level map"
            else:
                self._tell(Levelled(found.rows))
        if action is not None and self.phase is not Phase.RESTING and self.errand is not None:
            self._tell(Adjusted(self.errand.build, adjustment(action), order.by))

    # The file ------------------------------------------------------------------------------------------------

    def _content(self) -> Stored:
        program: Any = self._errand().program
        stored: Stored = program
        return stored

    def _offer(self, now: Moment) -> None:
        self._heard_s = now.real_s
        if self._here:
            offer = {"id": self._id(), "do": "offer", "sha256": self._errand().sha256, "bytes": self._content().size}
            self._out.append(Message("order", offer))

    def _stored(self, body: dict[str, Any], now: Moment) -> None:
        """The machine says how much of a file it has."""
        if self.phase is not Phase.SENDING or body["sha256"] != self._errand().sha256:
            return
        self._heard_s = now.real_s
        size, sha256 = self._content().size, self._errand().sha256
        self._have = min(int(body["bytes"]), size)
        if body.get("damaged"):
            self._damaged += 1
            if self._damaged >= MOST_DAMAGED:
                self._ending = (Outcome.FAILED, f"the file arrived damaged {self._damaged} times")
                self._over()
                return
        if body.get("whole"):
            self.phase = Phase.STARTING
            self._kept_changed = True
            self._order({"do": "run", "run": self._errand().build, "sha256": sha256})
            return
        if body.get("offered") or self._sent_to < self._have or body.get("damaged"):
            self._sent_to = self._have
        while self._sent_to < min(size, self._have + AHEAD):
            piece = self._content().piece(self._sent_to, PIECE)
            self._out.append(Message("piece", None, piece, sha256, self._sent_to))
            self._sent_to += len(piece)

    # Reports -------------------------------------------------------------------------------------------------

    def _report(self, body: dict[str, Any]) -> None:
        heat = body.get("heat", {})
        nozzle, bed, chamber = (heat.get(name, [None, None]) for name in ("nozzle", "bed", "chamber"))
        alarm = self._heat_alarm(Heat(nozzle[0], nozzle[1], bed[0], bed[1], chamber[0], chamber[1]))
        if alarm:
            self._trouble(alarm)
        position = body.get("position_mm")
        self.position_mm = (float(position[0]), float(position[1]), float(position[2])) if position else None
        state = body["state"]
        if state == "halted":
            if self.state is not MachineState.DOWN:
                self._broken(f"the machine halted: {body.get('reason', '')}", Outcome.FAILED)
            return
        if self.phase is not Phase.RUNNING or self.progress is None:
            return
        if body.get("run") != self._errand().build:
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
        self._tell(BuildPaused(self._errand().build, why, self._by_itself if asked else True))
        self._pause_reason = ""
        self._kept_changed = True

    def _running(self) -> None:
        progress = self.progress
        assert progress is not None
        if self.state is MachineState.PAUSED:
            self._move(MachineEvent.RESUME)
            self._tell(BuildResumed(self._errand().build))
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
        self.phase = Phase.RESTING
        self._kept_changed = True
        self._ended()
        self._move(MachineEvent.END, self._ending[1])
        self._ending = (Outcome.COMPLETED, "")
        undo = programs.undo(self.settings.speed_pct, self.settings.flow_pct, self.settings.z_offset_mm)
        if undo:
            self._order({"do": "lines", "lines": [c.decode() for c in undo]})

    def _drop_orders(self, why: str) -> None:
        for order in self._orders.values():
            order.aside.failed = why
        self._orders.clear()

    def _broken(self, reason: str, outcome: Outcome) -> None:
        self._drop_orders(reason)
        self._prepared = False
        if self.phase is not Phase.RESTING:
            self._ending = (outcome, reason)
            self._ended()
        self.phase = Phase.RESTING
        self._kept_changed = True
        if self.state is not MachineState.DOWN:
            self._move(MachineEvent.FAULT, reason)

    def _trouble(self, reason: str) -> None:
        assert self._moment is not None
        if self.phase is Phase.RUNNING and self.state is not MachineState.PAUSED:
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
        if self.phase is Phase.RESTING and self._here:
            self._order({"do": "lines", "lines": ["M117 Ready"]})

    def _mended(self) -> None:
        self._prepared = True
        self._order({"do": "lines", "lines": [c.decode() for c in programs.heaters_off(self.model)]})
