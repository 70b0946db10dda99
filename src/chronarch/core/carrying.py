"""What a steward has carried to its machine beside the file: programs of its own, asides, and what time asks for.

`Carrying` knows the phases and the link; `steward.Steward` leads a build through them.
"""

from __future__ import annotations

from abc import abstractmethod
from collections import deque
from datetime import datetime
from enum import Enum, auto

from chronarch.core import programs
from chronarch.core.asides import Aside
from chronarch.core.contact import read_contact
from chronarch.core.fleet import MachineModel
from chronarch.core.gcode.modal import ModalState
from chronarch.core.hands import Action, Adjust, Filament, LevelMap, Line
from chronarch.core.hands import Moment as HandsMoment
from chronarch.core.happenings import Adjusted, Levelled, Noticed
from chronarch.core.kept import Kept
from chronarch.core.level_map import read_level_map
from chronarch.core.line_link import LineLink, LinkEvent, LinkState, Program, Steps
from chronarch.core.mind import Mind, Moment, Pausing
from chronarch.core.progress import Progress
from chronarch.core.states import MachineState
from chronarch.core.wording import adjustment

QUERIES_REST = 15
"""After a query nothing is asked for so many times what it took: queries take a small share of a slow wire's turns."""
ASK_HEAT_S = 4.0
"""How often a machine that does not report its heat by itself is asked, in shop seconds."""


class Phase(Enum):
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


class Carrying(Mind):
    """The part of a steward that has programs of its own carried; times are the steward's."""

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
        self.phase = Phase.RESTING
        self.change = ""
        """How far a change of filament has come: empty, `wanted`, or the last step done."""
        self.pauses_before: set[int] = set()
        """Layers before which hands want a pause."""
        self.nozzle_rests = False
        self.waits = ""
        """What the machine itself waits for a person for."""
        self._waits_beyond = 0
        """What was sent before it began to wait may yet be taken; more only once it has gone on."""
        self.question = ""
        self.choices: tuple[str, ...] = ()
        """What it asks of a person, and what may be answered."""
        self.link = LineLink(answer_timeout_s, window_bytes=model.window_bytes, fences_from=fences_from)
        self._report_every_s = report_every_s
        self._modal = ModalState()
        self._modal_at = 0
        self._pausing: Pausing | None = None
        self._prepared = False
        self._parked = False
        self._retracted = False
        self._unsure = False
        """Whether it is not known how far the machine is in the file."""
        self._last_words = ""
        """A fault that the machine has reported and since which it has taken nothing."""
        self._homed = False
        self._on_file = False
        self._passed_wait = -1
        self._aside: Aside | None = None
        self._asides: deque[tuple[Aside, Action | None, str]] = deque()
        self._doing: tuple[Action | None, str] = (None, "")
        self._kept: Kept | None = None
        self._changed = False
        self._parked_at: datetime | None = None
        self._asked_at: datetime | None = None
        self._query: Aside | None = None
        self._query_began_s = self._query_ended_s = self._query_cost_s = 0.0

    def _pass(self, now: Moment) -> None:
        super()._pass(now)
        self.link.now_s = now.real_s

    def outgoing(self) -> bytes:
        """Bytes to write to the machine now."""
        return self.link.outgoing()

    @property
    def suspect(self) -> bool:
        return self.link.suspect

    @property
    def moment(self) -> HandsMoment:
        if self.phase is Phase.RESTING:
            return HandsMoment.FREE
        return HandsMoment.PAUSED if self.phase is Phase.PARKED else HandsMoment.BUILDING

    # Asides --------------------------------------------------------------------------------------------------

    def _slip(self, commands: tuple[bytes, ...], action: Action | None = None, by: str = "") -> Aside:
        """Have commands carried between two lines of the file, or as soon as the machine is at rest."""
        aside = Aside(commands)
        if not commands:
            self._set(action, by, aside)
            aside.done = True
            return aside
        self._asides.append((aside, action, by))
        self._next_aside()
        return aside

    def _next_aside(self) -> bool:
        """Begin with the next aside if this is the moment for it."""
        if not self._asides or self._aside is not None:
            return False
        if self.phase is Phase.FEEDING:
            self.phase = Phase.TURNING
            self._take(self.link.hold())
            return True
        at_rest = self.phase in (Phase.RESTING, Phase.PARKED) and self.link.program is None
        at_rest = at_rest and self.link.state is not LinkState.ASKING
        if at_rest or self.phase is Phase.ASIDE:
            aside, *self._doing = self._asides.popleft()  # type: ignore[assignment]
            self._aside = aside
            self._carry(Steps(aside.commands))
            return True
        return False

    def _aside_over(self) -> None:
        aside, (action, by) = self._aside, self._doing
        self._aside, self._doing = None, (None, "")
        assert aside is not None
        if self.errand is not None and self.phase is not Phase.RESTING:
            self._caught_up()
            for command in aside.commands:
                if command.startswith((b"M104", b"M140", b"M141", b"M106", b"M107")):
                    self._modal.apply(command)
        self._set(action, by, aside)
        aside.done = True

    def _set(self, action: Action | None, by: str, aside: Aside) -> None:
        """An action took effect, if the machine knew what was asked of it."""
        if action is not None and not isinstance(action, Line) and aside.unknown:
            aside.failed = f"the machine does not know this ({aside.unknown})"
            return
        if isinstance(action, Adjust):
            self.settings = self.settings.with_(action)
            if action.nozzle_c is not None:
                self.nozzle_rests = False
        elif isinstance(action, LevelMap):
            found = read_level_map(aside.said)
            if found is None:
                aside.failed = "the machine printed no level map"
            else:
                self._tell(Levelled(found.rows))
        elif isinstance(action, Filament):
            self.change = action.step
            self._retracted = action.step == "purge"
        if self.errand is not None and self.phase is not Phase.RESTING and action is not None:
            self._changed = True
            self._tell(Adjusted(self.errand.build, adjustment(action), by))

    def _drop_asides(self, why: str) -> None:
        for aside in [*([self._aside] if self._aside else []), *(a for a, _, _ in self._asides)]:
            aside.failed = why
        self._aside, self._doing = None, (None, "")
        self._asides.clear()

    def _asked_offset(self) -> float:
        """The z offset once all that is asked for took effect."""
        wanted = [a.z_offset_mm for _, a, _ in self._asides if isinstance(a, Adjust) and a.z_offset_mm is not None]
        doing = self._doing[0]
        if not wanted and isinstance(doing, Adjust) and doing.z_offset_mm is not None:
            wanted = [doing.z_offset_mm]
        return wanted[-1] if wanted else self.settings.z_offset_mm

    @property
    def asked(self) -> list[Adjust]:
        """Adjustments that are on their way to the machine."""
        actions = [self._doing[0], *(a for _, a, _ in self._asides)]
        return [a for a in actions if isinstance(a, Adjust)]

    # First contact -------------------------------------------------------------------------------------------

    def _prepare(self) -> None:
        """After a fresh contact: heaters off, since nobody is known to want them, and reports by itself."""
        if self.link.state is LinkState.RESTING:
            self._prepared = True
            self._carry(programs.quiet(self.model, self._report_every_s))
            self._get_acquainted()

    def _get_acquainted(self) -> None:
        """Ask what the machine is, and whether it watches its heaters itself."""
        self._asides.append((Aside((b"M115",)), None, "contact"))
        self._ask_watchdog()

    def _ask_watchdog(self) -> None:
        self._asides.append((Aside((b"M85 S%g" % self.model.watchdog_s,)), None, "watchdog"))

    def take_model(self, model: MachineModel) -> None:
        super().take_model(model)
        self._ask_watchdog()
        self._next_aside()

    def _acquainted(self, aside: Aside, which: str) -> None:
        if which == "contact":
            self.contact = read_contact(aside.said)
        elif which == "watchdog":
            self.watchdog = not aside.unknown and self.model.watchdog_s > 0

    def _forget_position(self) -> None:
        self._homed, self.position_mm = False, None

    # Time ----------------------------------------------------------------------------------------------------

    def _let_nozzle_rest(self, now: Moment) -> None:
        self._parked_at = self._parked_at or now.shop
        rest_s = self.model.rest_after_s
        waited = (now.shop - max(self._parked_at, self._touched_at or self._parked_at)).total_seconds()
        hot = (self.heat.nozzle_asked_c or 0) > 0
        if rest_s and hot and waited >= rest_s and not self.nozzle_rests:
            self.nozzle_rests = True
            self._carry(Steps(programs.nozzles_off(self.model)))
            self._tell(
                Noticed("the nozzle is let cool while the build waits; resuming heats it again", self.build, True)
            )

    def _heaters_off_now(self) -> None:
        self._slip(programs.heaters_off(self.model))

    def _ask_heat(self, now: Moment) -> None:
        """Ask a machine that does not report by itself; and keep its watchdog from taking a long wait for our death."""
        every = ASK_HEAT_S * self._report_every_s if self.contact.reports_heat is False else 0.0
        if not every and self.watchdog and self.phase in (Phase.PARKED, Phase.RESTING):
            every = self.model.watchdog_s / 4
        if not every or self.phase not in (Phase.FEEDING, Phase.PARKED, Phase.RESTING) or self._asides or self._aside:
            return
        if self._query is not None:
            self._query_cost_s, self._query = now.real_s - self._query_began_s, None
            self._query_ended_s = now.real_s
        self._asked_at = self._asked_at or now.shop
        due = (now.shop - self._asked_at).total_seconds() >= every and self._prepared and not self._unsure
        if due and now.real_s - self._query_ended_s >= QUERIES_REST * self._query_cost_s:
            self._asked_at, self._query_began_s = now.shop, now.real_s
            self._query = self._slip((b"M105",))

    # The build -----------------------------------------------------------------------------------------------

    def _progress(self) -> Progress:
        assert self.progress is not None
        return self.progress

    def _here(self) -> int:
        return self._progress().acknowledged

    def _caught_up(self) -> ModalState:
        """Modes and position as the file's commands up to here leave them: worked out when they are needed, so that
        feeding need not."""
        if self.errand is not None and self.progress is not None:
            program, apply, to = self.errand.program, self._modal.apply, self.progress.acknowledged
            for index in range(self._modal_at, min(to, len(program))):
                apply(program.command(index))
            self._modal_at = max(self._modal_at, to)
        return self._modal

    def _carry(self, program: Program) -> None:
        """Have the link carry a program of the tender's own."""
        self._on_file = False
        self._changed = True
        self.link.load(program)

    @abstractmethod
    def _take(self, events: list[LinkEvent]) -> None:
        """What the link says happened."""
