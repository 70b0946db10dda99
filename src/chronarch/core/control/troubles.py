"""What goes wrong at a machine that is fed line by line, and what then becomes of the build."""

from __future__ import annotations

from chronarch.core.control import command_sequences as programs
from chronarch.core.control.build_feeder import BuildFeeder
from chronarch.core.control.checkpoint import PauseRequest
from chronarch.core.control.events import Noticed
from chronarch.core.control.line_protocol import CommandSequence, DamagedWire, OutOfStep, ProtocolState
from chronarch.core.control.phases import ON_FILE, OVER, STANDING, FeedingPhase
from chronarch.core.control.responses import FaultReported
from chronarch.core.machines.states import Outcome


class Troubles:
    def __init__(self, feeder: BuildFeeder) -> None:
        self._feeder = feeder

    def trouble(self, reason: str, *, heaters_off: bool = False) -> None:
        """Something is wrong. Pause the build if possible, and tell people in any case; the same trouble is told
        once."""
        feeder, machine = self._feeder, self._feeder.machine
        can_pause = machine.spec is not None and feeder.phase not in OVER | STANDING and feeder.pausing is None
        if can_pause:
            if heaters_off:
                feeder.link.urgent(b"M108")
            feeder.pause(PauseRequest(reason, by_itself=True, heaters_off=heaters_off))
            return
        news = machine.tell_once(reason)
        parked = feeder.phase is FeedingPhase.PARKED and feeder.link.state is ProtocolState.RESTING
        if news and heaters_off and parked:
            feeder.carry(CommandSequence((*programs.nozzles_off(machine.model), b"M140 S0")))

    def fault_reported(self, event: FaultReported) -> None:
        feeder = self._feeder
        feeder.last_words = event.text
        self.trouble(f"the machine reports a fault: {event.text}")
        if feeder.link_rests:
            feeder.link.ask()  # check whether the pause is still wanted

    def damaged_wire(self, event: DamagedWire) -> None:
        feeder = self._feeder
        if feeder.pausing is None and feeder.phase in (FeedingPhase.FEEDING, FeedingPhase.TURNING):
            self.trouble(
                f"the wire damages {event.share:.0%} of the lines, too many for the checksum to be trusted, and one "
                "before may have passed: look at cable and connectors, and at the part"
            )

    def out_of_step(self, event: OutOfStep) -> None:
        """The link has given up finding out which line the machine wants."""
        feeder, machine, text = self._feeder, self._feeder.machine, event.text
        place, link = feeder.place, feeder.link
        if place.on_file and feeder.phase in ON_FILE and machine.spec is not None and not link.untouched:
            feeder.stand_at(link.sure)
            feeder.stand_unsure(PauseRequest(text, by_itself=True))
        elif feeder.phase in ON_FILE | {FeedingPhase.ASIDE} and machine.spec is not None:
            feeder.pausing = feeder.pausing or PauseRequest(text, by_itself=True)
            if place.on_file:
                feeder.stand_at(link.acknowledged)
            feeder.queue.drop(text)
            feeder.phase = FeedingPhase.PAUSING
            feeder.go_on_held()
        elif feeder.phase in (
            FeedingPhase.STOPPING, FeedingPhase.ENDING, FeedingPhase.PARKING, FeedingPhase.REHEATING,
            FeedingPhase.RETURNING,
        ):  # fmt: skip
            feeder.broken(text, Outcome.FAILED)
        else:
            feeder.queue.drop(text)
            machine.tell(Noticed(text, machine.build))

    def tick(self) -> None:
        feeder = self._feeder
        if feeder.last_words and feeder.link.suspect:
            feeder.broken(f"the machine has not answered since it reported: {feeder.last_words}", Outcome.FAILED)
