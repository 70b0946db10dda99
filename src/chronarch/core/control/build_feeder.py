"""Leads a build that is fed line by line through its phases: what the link carries, and what comes after it.

`phases` holds the rules; each of their steps is one method here.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import datetime

from chronarch.core.control import command_sequences as programs
from chronarch.core.control.actions import Action, Adjust, Filament
from chronarch.core.control.checkpoint import PauseRequest
from chronarch.core.control.command_queue import CommandQueue
from chronarch.core.control.controlled_machine import BuildSpec, ControlledMachine
from chronarch.core.control.file_place import FilePlace
from chronarch.core.control.film_poses import FilmPoses
from chronarch.core.control.firmware_info import read_contact
from chronarch.core.control.hands_display import put_back
from chronarch.core.control.injected_commands import InjectedCommands
from chronarch.core.control.line_protocol import CommandSequence, Drained, LineProtocol, Program, ProtocolState
from chronarch.core.control.machine_prompts import MachinePrompts
from chronarch.core.control.pending_actions import PendingAction, take_effect
from chronarch.core.control.phases import PHASES, FeedingPhase, Step
from chronarch.core.control.planned_pauses import PlannedPauses
from chronarch.core.machines.states import MachineEvent, MachineState, Outcome

_LASTING_WORDS = (b"M104", b"M140", b"M141", b"M106", b"M107")
"""Words of injected commands that a build keeps to once it goes on after a pause."""


class BuildFeeder:
    """Decides which program the link carries."""

    def __init__(self, machine: ControlledMachine, link: LineProtocol, report_every_s: int) -> None:
        self.machine = machine
        self.link = link
        self.report_every_s = report_every_s
        self.phase = FeedingPhase.RESTING
        self.pauses = PlannedPauses(machine)
        self.poses = FilmPoses(machine)
        self.place = FilePlace(machine, self.pauses, self.poses)
        self.prompts = MachinePrompts(machine, link)
        self.queue = CommandQueue()
        self.pausing: PauseRequest | None = None
        """The pause that is wanted and has not come about."""
        self.parked = self.retracted = False
        self.parked_at: datetime | None = None
        self.nozzle_rests = False
        """Whether the nozzle was let cool while the build waits."""
        self.unsure = False
        """Whether the machine's place in the file is unknown."""
        self.prepared = False
        """Whether the machine has been greeted since it was last found, so that a build may begin."""
        self.homed = False
        """Whether the axes are homed, and nothing has been sent since that may have moved them unseen."""
        self.placed = False
        """Whether the place that the machine tells is where its head is, as far as nobody has pushed it."""
        self.last_words = ""
        """A fault that the machine has reported, since which it has taken nothing."""
        self._proof = 0

    # How it stands -------------------------------------------------------------------------------------------

    @property
    def under_way(self) -> bool:
        """Whether a build is under way, its end included."""
        return self.machine.spec is not None and self.phase is not FeedingPhase.RESTING

    @property
    def link_rests(self) -> bool:
        return self.link.state is ProtocolState.RESTING and self.link.program is None

    @property
    def ready(self) -> bool:
        return self.phase is FeedingPhase.RESTING and self.link_rests and self.prepared and not self.queue.waiting

    @property
    def beyond(self) -> int:
        """How many commands of the file are taken or on their way."""
        return self.link.furthest if self.place.on_file and self.link.program is not None else self.place.here

    # Injected commands ---------------------------------------------------------------------------------------

    def inject(self, commands: tuple[bytes, ...], action: Action | None = None, by: str = "") -> InjectedCommands:
        """Send commands between two lines of the file, or as soon as the machine is at rest."""
        pending = PendingAction(InjectedCommands(commands), action, by)
        if commands:
            self.queue.waiting.append(pending)
            self.inject_next()
        else:
            self._effect(pending)
            pending.injected.done = True
        return pending.injected

    def inject_next(self) -> bool:
        """Begin with the next injected commands if this is the moment for them."""
        queue = self.queue
        if not queue.waiting or queue.current is not None:
            return False
        if self.phase is FeedingPhase.FEEDING:
            self.phase = FeedingPhase.TURNING
            self.hold()
            return True
        at_rest = self.phase in (FeedingPhase.RESTING, FeedingPhase.PARKED) and self.link.program is None
        if (at_rest and self.link.state is not ProtocolState.ASKING) or self.phase is FeedingPhase.ASIDE:
            queue.current = queue.waiting.popleft()
            self.carry(CommandSequence(queue.current.injected.commands))
            return True
        return False

    def _injected(self, done: PendingAction) -> None:
        """The machine has taken injected commands."""
        self.queue.current = None
        if done.then is not None:
            done.then(done.injected)
        if self.under_way:
            modal = self.place.caught_up()
            for command in done.injected.commands:
                if command.startswith(_LASTING_WORDS):
                    modal.apply(command)
        self._effect(done)
        done.injected.done = True

    def _effect(self, done: PendingAction) -> None:
        if not take_effect(self.machine, done, building=self.under_way):
            return
        if isinstance(done.action, Adjust) and done.action.nozzle_c is not None:
            self.nozzle_rests = False
        elif isinstance(done.action, Filament):
            self.retracted = done.action.step == "purge"

    # First contact -------------------------------------------------------------------------------------------

    def prepare(self) -> None:
        """After a fresh contact: heaters off, since nobody is known to want them, and heat reports on."""
        if self.link.state is ProtocolState.RESTING:
            self.prepared = True
            self.carry(programs.quiet(self.machine.model, self.report_every_s))
            self.get_acquainted()

    def get_acquainted(self) -> None:
        """Ask what machine it is, and whether it watches its heaters itself."""

        def contact(said: InjectedCommands) -> None:
            self.machine.contact = read_contact(said.said)

        self.queue.waiting.append(PendingAction(InjectedCommands((b"M115",)), then=contact))
        self.ask_watchdog()

    def ask_watchdog(self) -> None:
        machine = self.machine

        def watchdog(said: InjectedCommands) -> None:
            machine.watchdog = not said.unknown and machine.model.watchdog_s > 0

        command = b"M85 S%g" % machine.model.watchdog_s
        self.queue.waiting.append(PendingAction(InjectedCommands((command,)), then=watchdog))

    def forget_position(self) -> None:
        self.homed = self.placed = False
        self.machine.position_mm = self.machine.head_mm = None

    def may_have_moved(self) -> None:
        """Something was sent that may move the head: it tells where it is, and must be homed to be moved by hand."""
        self.homed, self.placed, self.machine.position_mm = False, True, None

    def take_position(self, at_mm: tuple[float, float, float]) -> None:
        """The machine has told where its head is."""
        self.machine.position_mm = at_mm if self.homed else None
        self.machine.head_mm = at_mm if self.homed or self.placed else None

    # What the link carries -----------------------------------------------------------------------------------

    def carry(self, program: Program) -> None:
        """Have the link send a sequence of the tender's own."""
        self.place.on_file = False
        self.machine.changed = True
        self.link.load(program)

    def hold(self) -> None:
        """Send no further line; what follows does so once no line is outstanding."""
        for event in self.link.hold():
            if isinstance(event, Drained):
                self.held(event.count)

    def begin(self, spec: BuildSpec) -> None:
        self.machine.begin(spec)
        self.place.begin()
        self.forget_position()
        self.pauses.layers = set()
        self.poses.passed = -1
        self.pausing = None
        self.parked = self.retracted = self.nozzle_rests = self.unsure = False
        self.prompts.waits = ""
        self.feed()

    def feed(self) -> None:
        """Feed the file from here on."""
        self.phase = FeedingPhase.FEEDING
        self.place.on_file = True
        self.machine.changed = True
        here = self.place.here
        self.link.load(self.machine.the_spec().program, here, own=False, until=self.place.next_stop())
        if self.pausing is not None:
            self.start_pausing()

    def stop_where_planned(self) -> None:
        """Planned pauses have changed."""
        if self.phase is FeedingPhase.FEEDING:
            self.link.until(self.place.next_stop())

    def replace_file(self, spec: BuildSpec) -> None:
        """Continue with another file, which equals the present one up to what has been sent."""
        self.place.caught_up()
        self.machine.spec = spec
        self.machine.the_progress().plan = spec.plan
        self.machine.changed = True
        if self.place.on_file and self.link.program is not None:
            self.link.swap(spec.program)
            self.link.until(self.place.next_stop())

    # Standing and going on -----------------------------------------------------------------------------------

    def pause(self, why: PauseRequest) -> None:
        """Pause as soon as the phase allows it."""
        self.pausing = why
        if self.phase in (FeedingPhase.FEEDING, FeedingPhase.REHEATING):
            self.start_pausing()

    def start_pausing(self) -> None:
        self.phase = FeedingPhase.PAUSING
        self.hold()

    def park(self, why: PauseRequest) -> None:
        progress, machine = self.machine.the_progress(), self.machine
        if progress.acknowledged == self.place.passed_wait:
            progress.acknowledged += 1  # a pause that the file asked for is not a pause of the machine
        machine.pause(why.reason, why.by_itself)
        self.prompts.waits = ""
        self.phase = FeedingPhase.PARKING
        lift = machine.laying_begun() and not self.parked
        self.retracted = self.retracted or lift
        self.parked_at = None
        self.carry(programs.park(machine.model, self.place.caught_up(), lift=lift, heaters_off=why.heaters_off))

    def stand_unsure(self, why: PauseRequest) -> None:
        """The machine's place in the file is not known: send nothing until a person has looked at it."""
        self.queue.drop(why.reason)
        self.pausing = None
        self.unsure = self.machine.changed = True
        self.phase = FeedingPhase.PARKED
        self.machine.pause(why.reason, why.by_itself)

    def resume(self) -> None:
        """Undo a pause: heat, go back, continue with the very next line. If the place in the file is not known, the
        machine is asked first."""
        self.machine.resume()
        self.machine.change = ""
        self.nozzle_rests = False
        self.parked_at = None
        if self.unsure:
            self.phase = FeedingPhase.ASKING
            self.link.ask()
        else:
            self.reheat()

    def reheat(self) -> None:
        self.phase = FeedingPhase.REHEATING
        back, self.machine.asks_hands = put_back(self.machine), ""
        self.carry(CommandSequence((*back, *programs.heat_again(self.place.caught_up()).commands)))

    def stop(self, outcome: Outcome, reason: str) -> None:
        """End the build as soon as no line is outstanding."""
        self.machine.ending = (outcome, reason)
        self.queue.drop("the build was stopped")
        self.phase = FeedingPhase.STOPPING
        self.machine.changed = True
        self.link.urgent(b"M108")
        self.hold()

    def broken(self, reason: str, outcome: Outcome) -> None:
        """The machine has stopped itself: its build is over, and a person must see to it."""
        self.link.drop()
        self.queue.drop(reason)
        self.prepared = self.unsure = False
        self.last_words = self.prompts.waits = ""
        self.forget_position()
        if self.under_way:
            self.machine.ending = (outcome, reason)
            self.machine.end()
        self.phase = FeedingPhase.RESTING
        self.machine.changed = True
        self.pausing = None
        self.machine.fault(reason)

    def rebooted(self) -> None:
        """The machine has restarted: its heaters are off and its position is lost."""
        if self.last_words:
            self.broken(f"the machine restarted after it reported: {self.last_words}", Outcome.FAILED)
            return
        self.link.drop()
        self.prompts.waits, self.unsure = "", False
        self.queue.drop("the machine restarted itself")
        self.prepared = False
        self.forget_position()
        if self.under_way:
            self.machine.ending = (Outcome.FAILED, "the machine restarted itself during the build")
            self.phase = FeedingPhase.ENDING
            self.pausing = None
            self.carry(programs.quiet(self.machine.model, self.report_every_s))
            self.get_acquainted()
            self.prepared = True
        elif self.machine.state is not MachineState.DOWN:
            self.prepare()

    # What the link says --------------------------------------------------------------------------------------

    def acknowledged(self, count: int) -> None:
        machine, progress = self.machine, self.machine.progress
        self.last_words = ""
        if self.prompts.waits and count > self.prompts.beyond:
            self.machine_goes_on()
        if not self.place.on_file and self.queue.current is not None:
            self.queue.current.taken(count)
        if progress is None or not self.place.on_file:
            return
        machine.advance(count)
        if machine.state is MachineState.WARMING:
            machine.lay()

    def machine_goes_on(self) -> None:
        """The machine no longer waits for anybody."""
        standing = self.phase is FeedingPhase.PARKED or self.pausing is not None
        self.prompts.go_on(build_goes_on=not standing)

    def stand_at(self, count: int) -> None:
        """The machine has certainly taken `count` commands of the file. An extra `ok` may have suggested more."""
        if self.machine.progress is None or not self.place.on_file:
            return
        if count >= self.place.here:
            self.acknowledged(count)
        else:
            self.place.stand_at(count)

    def held(self, count: int) -> None:
        """The link was held, and no line is outstanding."""
        self.stand_at(count)
        self.go_on_held()

    def go_on_held(self) -> None:
        STEPS[PHASES[self.phase].held](self)

    def finished(self, proof: int) -> None:
        """The machine has taken all that was carried: `proof` commands, by its own word."""
        self.last_words = ""
        self._proof = proof
        if self.queue.current is not None:
            self._injected(self.queue.current)
        STEPS[PHASES[self.phase].finished](self)

    # The steps of `phases` -----------------------------------------------------------------------------------

    def _park_if_wanted(self) -> bool:
        if self.pausing is None and self.place.on_file and self.phase is not FeedingPhase.PAUSING:
            self.pausing = self.place.why_stop()
        if self.pausing is not None:
            self.poses.passed = self.place.here
            self.park(self.pausing)
        return self.pausing is not None

    def _pose_if_due(self) -> None:
        """Put what takes the head out of the picture before all that people have asked for."""
        pose = self.poses.take(self.place.here, self.place.caught_up()) if self.place.on_file else None
        if pose is not None:
            self.queue.waiting.appendleft(pose)

    def _park_or_inject(self) -> None:
        if not self._park_if_wanted():
            self._pose_if_due()
            self.phase = FeedingPhase.ASIDE
            if not self.inject_next():
                self.feed()

    def _inject_or_feed(self) -> None:
        if self.pausing is not None or not self.inject_next():
            self.feed()

    def _park_or_complete(self) -> None:
        if self.place.on_file:
            self._complete()
        else:
            self._park_if_wanted()

    def _complete(self) -> None:
        self.pausing = None
        self.queue.drop("the build ended")
        lines, proof = len(self.machine.the_spec().program), self._proof
        short = f"the machine's own count says that it took {proof} of the file's {lines} commands"
        self.machine.ending = (Outcome.COMPLETED, "") if proof == lines else (Outcome.FAILED, short)
        self.end()

    def _stand(self) -> None:
        self.phase = FeedingPhase.PARKED
        self.machine.changed = True
        self.parked = True
        self.pausing = None
        self.inject_next()

    def _return(self) -> None:
        self.phase = FeedingPhase.RETURNING
        lifted = self.machine.laying_begun()
        self.carry(programs.go_back(self.place.caught_up(), lifted=lifted, retracted=self.retracted))

    def _feed_on(self) -> None:
        self.parked = self.retracted = False
        self.machine.lay()
        self.feed()
        self.inject_next()

    def end(self) -> None:
        """Carry what ends the build."""
        machine = self.machine
        self.phase = FeedingPhase.ENDING
        self.link.drop()
        s = machine.settings
        self.carry(
            programs.end(
                machine.model, self.place.caught_up(), lift=machine.ending[0] is not Outcome.COMPLETED,
                report_every_s=self.report_every_s, undo=programs.undo(s.speed_pct, s.flow_pct, s.z_offset_mm),
            )
        )  # fmt: skip
        self.prepared = True

    def _rest(self) -> None:
        self.phase = FeedingPhase.RESTING
        self.machine.changed = True
        self.placed = self.machine.laying_begun()
        self.machine.end()
        self.machine.move(MachineEvent.END, self.machine.ending[1])
        if self.placed:
            self.queue.waiting.append(PendingAction(InjectedCommands((b"M400", b"M114"))))
        self.inject_next()


def _nothing(feeder: BuildFeeder) -> None:
    pass


STEPS: Mapping[Step, Callable[[BuildFeeder], object]] = {
    Step.NOTHING: _nothing,
    Step.INJECT: BuildFeeder.inject_next,
    Step.PARK_OR_INJECT: BuildFeeder._park_or_inject,
    Step.INJECT_OR_FEED: BuildFeeder._inject_or_feed,
    Step.PARK: BuildFeeder._park_if_wanted,
    Step.PARK_OR_COMPLETE: BuildFeeder._park_or_complete,
    Step.COMPLETE: BuildFeeder._complete,
    Step.STAND: BuildFeeder._stand,
    Step.RETURN: BuildFeeder._return,
    Step.FEED_ON: BuildFeeder._feed_on,
    Step.END: BuildFeeder.end,
    Step.REST: BuildFeeder._rest,
}
