"""What can be asked of every machine, whichever way it is fed.

A controller takes what the machine says, what people ask for and the passing of time, and returns what to send and what
happened. It is put together from small parts, which share one `ControlledMachine`. `StreamingController` feeds a
machine line by line; `StoredFileController` is for one that runs the file itself.
"""

from __future__ import annotations

from abc import ABC, abstractmethod

from chronarch.core.control.actions import Action, Activity, Adjust, MachineSituation
from chronarch.core.control.checkpoint import BuildCheckpoint
from chronarch.core.control.connection import Connection
from chronarch.core.control.controlled_machine import BuildSpec, ControlledMachine, Instant
from chronarch.core.control.hands_display import asking, put_back
from chronarch.core.control.heater_safety import HeaterSafety
from chronarch.core.control.injected_commands import InjectedCommands
from chronarch.core.control.line_protocol import CommandSequence, Program
from chronarch.core.gcode.plan import TimePlan
from chronarch.core.machines.materials import USUAL_MATERIALS
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MACHINE, MachineEvent, MachineState, Outcome, WrongState, after

RUNS_ITSELF = "This machine runs the whole file itself; what it runs cannot be changed under way."


class MachineController(ABC):
    """Controls one machine. Raises WrongState when asked for what its state does not allow."""

    def __init__(self, model: MachineModel, state: MachineState) -> None:
        self.machine = ControlledMachine(model, state)
        self.connection = Connection(self.machine)
        self.heaters = HeaterSafety(self.machine, self._heaters_off_now)
        self.wants_reconnect = False
        self.materials = USUAL_MATERIALS

    # How it stands -------------------------------------------------------------------------------------------

    @property
    @abstractmethod
    def ready(self) -> bool:
        """Whether a build may begin."""

    @property
    @abstractmethod
    def activity(self) -> Activity:
        """What the machine is doing, as far as actions by hand are concerned."""

    @property
    @abstractmethod
    def suspect(self) -> bool:
        """Whether the machine leaves what it was sent without an answer."""

    @property
    @abstractmethod
    def can_resume(self) -> bool:
        """Whether a paused build is parked, so that it can go on."""

    @property
    @abstractmethod
    def stopping(self) -> bool:
        """Whether the end of a build has begun or is over."""

    @property
    @abstractmethod
    def asked(self) -> list[Adjust]:
        """Adjustments that are on their way to the machine."""

    @property
    @abstractmethod
    def pauses_before(self) -> set[int]:
        """Layers before which a person wants a pause."""

    @property
    def fan_pct(self) -> float | None:
        """The part fan as the build left it a moment ago, %; None while that is not known."""
        return None

    def changed(self) -> bool:
        """Whether the checkpoint differs from the last one on disk in more than the place in the file. Then it must be
        written before anything is sent."""
        changed, self.machine.changed = self.machine.changed, False
        return changed

    @abstractmethod
    def kept(self) -> BuildCheckpoint | None:
        """The checkpoint that another tender needs to go on with this build; None when there is no build."""

    # What the driver says ------------------------------------------------------------------------------------

    @abstractmethod
    def connected(self, now: Instant) -> None:
        """The connection is open. Whether a machine is behind it shows once that says something."""

    @abstractmethod
    def disconnected(self, now: Instant) -> None: ...

    @abstractmethod
    def tick(self, now: Instant) -> None:
        """Let time pass."""

    @abstractmethod
    def adopt(self, spec: BuildSpec, kept: BuildCheckpoint, now: Instant) -> None:
        """Continue a build that an earlier tender had under way."""

    # What people and the service ask -------------------------------------------------------------------------

    def begin(self, spec: BuildSpec, now: Instant) -> None:
        """Start a build."""
        self._pass(now)
        after(MACHINE, self.machine.state, MachineEvent.START)
        if not self.ready:
            raise WrongState("The machine is still being made ready; try again in a moment.")
        self._begin(spec)

    @abstractmethod
    def pause(self, reason: str, now: Instant, *, by_itself: bool = False, heaters_off: bool = False) -> None: ...

    @abstractmethod
    def resume(self, now: Instant) -> None: ...

    @abstractmethod
    def stop(self, reason: str, now: Instant, outcome: Outcome = Outcome.STOPPED) -> None:
        """End the build: heaters off, park, bed presented."""

    @abstractmethod
    def emergency(self, now: Instant) -> None:
        """Halt the machine before everything else."""

    @abstractmethod
    def act(self, action: Action, now: Instant, by: str = "") -> InjectedCommands:
        """Carry out an action by hand. Raises NotPossible (outside limits, not now) and WrongState."""

    def ask_hands(self, text: str, now: Instant) -> None:
        """Have the machine's own display and light ask for hands; an empty text puts back what was there before.
        Raises WrongState when it cannot be told just now."""
        self._pass(now)
        if text == self.machine.asks_hands:
            return
        commands = asking(self.machine.model, text) if text else put_back(self.machine)
        self._tell_machine(commands)
        self.machine.asks_hands = text

    @abstractmethod
    def pause_before(self, layer: int, now: Instant) -> None:
        """Pause once everything below `layer` is laid; 0 means once the present layer is laid."""

    @abstractmethod
    def no_pause_before(self, layer: int, now: Instant) -> None:
        """Take back a pause before a layer."""

    @abstractmethod
    def change_filament(self, reason: str, now: Instant) -> None:
        """Pause for a filament change, or turn the present pause into one."""

    def skip(
        self, program: Program, plan: TimePlan, sha256: str, from_index: int, text: str, by: str, now: Instant
    ) -> None:
        """Continue with an edited file that equals the present one up to `from_index`. Raises TooLate when the machine
        has gone further than that."""
        raise WrongState(RUNS_ITSELF)

    def clear(self, now: Instant) -> None:
        """A person has cleared the bed."""
        self._pass(now)
        machine = self.machine
        machine.spec = machine.progress = None
        if machine.state is not MachineState.DOWN:
            machine.move(MachineEvent.CLEAR)
            self._cleared()

    def take_model(self, model: MachineModel) -> None:
        """The figures of the model have changed."""
        self.machine.model = model

    def take_out(self, reason: str, now: Instant) -> None:
        """A person takes the machine out of work."""
        self._pass(now)
        self.machine.move(MachineEvent.TAKE_OUT, reason)

    def put_back(self, now: Instant) -> None:
        """A person gives the machine back to work, after service or a fault."""
        self._pass(now)
        machine = self.machine
        if machine.state is MachineState.DOWN:
            self._mended()
            machine.move(MachineEvent.MENDED_WITH_PART if machine.spec is not None else MachineEvent.MENDED)
        else:
            machine.move(MachineEvent.PUT_BACK)

    def uncleared(self, build: int, plan: TimePlan) -> None:
        """A build that has ended still lies on the bed; the service says so after a restart."""
        self.machine.spec = BuildSpec(build, plan, CommandSequence(()))

    def situation(self) -> MachineSituation:
        """What `actions.check` must know of the machine now."""
        m = self.machine
        laden = m.spec is not None or m.state in (MachineState.COOLING, MachineState.UNCLEARED)
        return MachineSituation(self.activity, m.heat.nozzle_c, m.position_mm, laden, self.materials)

    # For the kinds of controller -----------------------------------------------------------------------------

    def _pass(self, now: Instant) -> None:
        """Account for the time since the last call."""
        self.machine.pass_time(now)

    @abstractmethod
    def _begin(self, spec: BuildSpec) -> None:
        """The machine is ready: start the build."""

    @abstractmethod
    def _heaters_off_now(self) -> None: ...

    @abstractmethod
    def _tell_machine(self, commands: tuple[bytes, ...]) -> None:
        """Have the machine take commands that change nothing of a build. Raises WrongState."""

    @abstractmethod
    def _cleared(self) -> None:
        """The bed is clear."""

    @abstractmethod
    def _mended(self) -> None:
        """A person has seen to a fault."""
