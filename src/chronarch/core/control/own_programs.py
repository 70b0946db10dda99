"""What a controller sends to its machine beside the file: sequences of its own, injected commands, and what is due by
time.

`OwnProgramFeeder` knows the phases and the link; `StreamingController` leads a build through them.
"""

from __future__ import annotations

from abc import abstractmethod
from collections import deque
from datetime import datetime
from enum import Enum, auto

from chronarch.core.control import command_sequences as programs
from chronarch.core.control.action_wording import adjustment
from chronarch.core.control.actions import Action, Activity, Adjust, Filament, MeasureBed, SendLine
from chronarch.core.control.checkpoint import BuildCheckpoint
from chronarch.core.control.controller import Instant, MachineController, PauseRequest
from chronarch.core.control.events import Adjusted, Levelled, Noticed
from chronarch.core.control.firmware_info import read_contact
from chronarch.core.control.injected_commands import InjectedCommands
from chronarch.core.control.line_protocol import CommandSequence, LineProtocol, Program, ProtocolEvent, ProtocolState
from chronarch.core.control.progress import Progress
from chronarch.core.gcode.modal import ModalState
from chronarch.core.machines.bed_mesh import read_level_map
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState

QUERIES_REST = 15
"""After a query, ask nothing for this many times as long as the query took, so that queries use a small share of a slow
wire."""
ASK_HEAT_S = 4.0
"""How often a machine that does not report its heat by itself is asked, in shop seconds."""


class FeedingPhase(Enum):
    RESTING = auto()
    FEEDING = auto()
    TURNING = auto()
    ASIDE = auto()
    PAUSING = auto()
    PARKING = auto()
    PARKED = auto()
    REHEATING = auto()
    RETURNING = auto()
    STOPPING = auto()
    ENDING = auto()
    ASKING = auto()


class OwnProgramFeeder(MachineController):
    """The part of a controller that sends sequences of its own; times are the controller's."""

    def __init__(
        self,
        model: MachineModel,
        state: MachineState = MachineState.IDLE,
        *,
        report_every_s: int = 1,
        answer_timeout_s: float = 3.0,
        fences_from: int = 0,
    ) -> None:
        super().__init__(model, state)
        self.phase = FeedingPhase.RESTING
        self.change = ""
        """How far a filament change has come: empty, `wanted`, or the last step done."""
        self.pauses_before: set[int] = set()
        """Layers before which a person wants a pause."""
        self.nozzle_rests = False
        self.waits = ""
        """What the machine itself waits for a person for."""
        self._waits_beyond = 0
        """Lines sent before it began to wait may still be taken; more than those only once it has gone on."""
        self.question = ""
        self.choices: tuple[str, ...] = ()
        """What the machine asks of a person, and the possible answers."""
        self.link = LineProtocol(answer_timeout_s, window_bytes=model.window_bytes, fences_from=fences_from)
        self._report_every_s = report_every_s
        self._modal = ModalState()
        self._modal_at = 0
        self._pausing: PauseRequest | None = None
        self._prepared = False
        self._parked = False
        self._retracted = False
        self._unsure = False
        """Whether the machine's place in the file is unknown."""
        self._last_words = ""
        """A fault that the machine has reported, since which it has taken nothing."""
        self._homed = False
        self._on_file = False
        self._passed_wait = -1
        self._injected: InjectedCommands | None = None
        self._injections: deque[tuple[InjectedCommands, Action | None, str]] = deque()
        self._doing: tuple[Action | None, str] = (None, "")
        self._kept: BuildCheckpoint | None = None
        self._changed = False
        self._parked_at: datetime | None = None
        self._asked_at: datetime | None = None
        self._query: InjectedCommands | None = None
        self._query_began_s = self._query_ended_s = self._query_cost_s = 0.0

    def _pass(self, now: Instant) -> None:
        super()._pass(now)
        self.link.now_s = now.real_s

    def outgoing(self) -> bytes:
        """Bytes to write to the machine now."""
        return self.link.outgoing()

    @property
    def suspect(self) -> bool:
        return self.link.suspect

    @property
    def activity(self) -> Activity:
        if self.phase is FeedingPhase.RESTING:
            return Activity.FREE
        return Activity.PAUSED if self.phase is FeedingPhase.PARKED else Activity.BUILDING

    # Injected commands -----------------------------------------------------------------------------------------------

    def _inject(self, commands: tuple[bytes, ...], action: Action | None = None, by: str = "") -> InjectedCommands:
        """Send commands between two lines of the file, or as soon as the machine is at rest."""
        injected = InjectedCommands(commands)
        if not commands:
            self._set(action, by, injected)
            injected.done = True
            return injected
        self._injections.append((injected, action, by))
        self._inject_next()
        return injected

    def _inject_next(self) -> bool:
        """Begin with the next injected commands if this is the moment for them."""
        if not self._injections or self._injected is not None:
            return False
        if self.phase is FeedingPhase.FEEDING:
            self.phase = FeedingPhase.TURNING
            self._take(self.link.hold())
            return True
        at_rest = self.phase in (FeedingPhase.RESTING, FeedingPhase.PARKED) and self.link.program is None
        at_rest = at_rest and self.link.state is not ProtocolState.ASKING
        if at_rest or self.phase is FeedingPhase.ASIDE:
            injected, *self._doing = self._injections.popleft()  # type: ignore[assignment]
            self._injected = injected
            self._carry(CommandSequence(injected.commands))
            return True
        return False

    def _injected_over(self) -> None:
        injected, (action, by) = self._injected, self._doing
        self._injected, self._doing = None, (None, "")
        assert injected is not None
        if self.spec is not None and self.phase is not FeedingPhase.RESTING:
            self._caught_up()
            for command in injected.commands:
                if command.startswith((b"M104", b"M140", b"M141", b"M106", b"M107")):
                    self._modal.apply(command)
        self._set(action, by, injected)
        injected.done = True

    def _set(self, action: Action | None, by: str, injected: InjectedCommands) -> None:
        """An action took effect, if the machine knew its words."""
        if action is not None and not isinstance(action, SendLine) and injected.unknown:
            injected.failed = f"the machine does not know this ({injected.unknown})"
            return
        if isinstance(action, Adjust):
            self.settings = self.settings.with_(action)
            if action.nozzle_c is not None:
                self.nozzle_rests = False
        elif isinstance(action, MeasureBed):
            found = read_level_map(injected.said)
            if found is None:
                injected.failed = "the machine printed no level map"
            else:
                self._tell(Levelled(found.rows))
        elif isinstance(action, Filament):
            self.change = action.step
            self._retracted = action.step == "purge"
        if self.spec is not None and self.phase is not FeedingPhase.RESTING and action is not None:
            self._changed = True
            self._tell(Adjusted(self.spec.build, adjustment(action), by))

    def _drop_injections(self, why: str) -> None:
        for injected in [*([self._injected] if self._injected else []), *(a for a, _, _ in self._injections)]:
            injected.failed = why
        self._injected, self._doing = None, (None, "")
        self._injections.clear()

    def _asked_offset(self) -> float:
        """The z offset once everything that is asked for has taken effect."""
        wanted = [a.z_offset_mm for _, a, _ in self._injections if isinstance(a, Adjust) and a.z_offset_mm is not None]
        doing = self._doing[0]
        if not wanted and isinstance(doing, Adjust) and doing.z_offset_mm is not None:
            wanted = [doing.z_offset_mm]
        return wanted[-1] if wanted else self.settings.z_offset_mm

    @property
    def asked(self) -> list[Adjust]:
        """Adjustments that are on their way to the machine."""
        actions = [self._doing[0], *(a for _, a, _ in self._injections)]
        return [a for a in actions if isinstance(a, Adjust)]

    # First contact -------------------------------------------------------------------------------------------

    def _prepare(self) -> None:
        """After a fresh contact: heaters off, since nobody is known to want them, and heat reports on."""
        if self.link.state is ProtocolState.RESTING:
            self._prepared = True
            self._carry(programs.quiet(self.model, self._report_every_s))
            self._get_acquainted()

    def _get_acquainted(self) -> None:
        """Ask what machine it is, and whether it watches its heaters itself."""
        self._injections.append((InjectedCommands((b"M115",)), None, "contact"))
        self._ask_watchdog()

    def _ask_watchdog(self) -> None:
        self._injections.append((InjectedCommands((b"M85 S%g" % self.model.watchdog_s,)), None, "watchdog"))

    def take_model(self, model: MachineModel) -> None:
        super().take_model(model)
        self._ask_watchdog()
        self._inject_next()

    def _acquainted(self, injected: InjectedCommands, which: str) -> None:
        if which == "contact":
            self.contact = read_contact(injected.said)
        elif which == "watchdog":
            self.watchdog = not injected.unknown and self.model.watchdog_s > 0

    def _forget_position(self) -> None:
        self._homed, self.position_mm = False, None

    # Time ----------------------------------------------------------------------------------------------------

    def _let_nozzle_rest(self, now: Instant) -> None:
        self._parked_at = self._parked_at or now.shop
        rest_s = self.model.rest_after_s
        waited = (now.shop - max(self._parked_at, self._touched_at or self._parked_at)).total_seconds()
        hot = (self.heat.nozzle_asked_c or 0) > 0
        if rest_s and hot and waited >= rest_s and not self.nozzle_rests:
            self.nozzle_rests = True
            self._carry(CommandSequence(programs.nozzles_off(self.model)))
            self._tell(
                Noticed("the nozzle is let cool while the build waits; resuming heats it again", self.build, True)
            )

    def _heaters_off_now(self) -> None:
        self._inject(programs.heaters_off(self.model))

    def _ask_heat(self, now: Instant) -> None:
        """Ask a machine that does not report its heat by itself, and keep its watchdog from taking a long wait for a
        dead tender."""
        every = ASK_HEAT_S * self._report_every_s if self.contact.reports_heat is False else 0.0
        if not every and self.watchdog and self.phase in (FeedingPhase.PARKED, FeedingPhase.RESTING):
            every = self.model.watchdog_s / 4
        if (
            not every
            or self.phase not in (FeedingPhase.FEEDING, FeedingPhase.PARKED, FeedingPhase.RESTING)
            or self._injections
            or self._injected
        ):
            return
        if self._query is not None:
            self._query_cost_s, self._query = now.real_s - self._query_began_s, None
            self._query_ended_s = now.real_s
        self._asked_at = self._asked_at or now.shop
        due = (now.shop - self._asked_at).total_seconds() >= every and self._prepared and not self._unsure
        if due and now.real_s - self._query_ended_s >= QUERIES_REST * self._query_cost_s:
            self._asked_at, self._query_began_s = now.shop, now.real_s
            self._query = self._inject((b"M105",))

    # The build -----------------------------------------------------------------------------------------------

    def _progress(self) -> Progress:
        assert self.progress is not None
        return self.progress

    def _here(self) -> int:
        return self._progress().acknowledged

    def _caught_up(self) -> ModalState:
        """Modes and position as the commands of the file up to here leave them. They are worked out when needed, so
        that feeding need not do it."""
        if self.spec is not None and self.progress is not None:
            program, apply, to = self.spec.program, self._modal.apply, self.progress.acknowledged
            for index in range(self._modal_at, min(to, len(program))):
                apply(program.command(index))
            self._modal_at = max(self._modal_at, to)
        return self._modal

    def _carry(self, program: Program) -> None:
        """Have the link send a sequence of the tender's own."""
        self._on_file = False
        self._changed = True
        self.link.load(program)

    @abstractmethod
    def _take(self, events: list[ProtocolEvent]) -> None:
        """Handle one event of the link."""
