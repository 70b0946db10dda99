"""Lets a build outlive its tender, and finds out where a machine is whose place in the file is not known.

A new tender takes up what the earlier one kept, asks the machine which line it wants, and goes on from there if that
fits.
"""

from __future__ import annotations

from chronarch.core.control.build_feeder import BuildFeeder
from chronarch.core.control.checkpoint import BuildCheckpoint, OwnProgram, PauseRequest, take_up
from chronarch.core.control.controlled_machine import BuildSpec
from chronarch.core.control.injected_commands import InjectedCommands
from chronarch.core.control.line_protocol import FIRST_OWN_LINE_NUMBER, CommandSequence, ProtocolState
from chronarch.core.control.pending_actions import PendingAction
from chronarch.core.control.phases import FeedingPhase
from chronarch.core.machines.states import WORKING, MachineState, Outcome


class Recovery:
    def __init__(self, feeder: BuildFeeder) -> None:
        self._feeder = feeder
        self._kept: BuildCheckpoint | None = None
        """What was taken up, until the machine has said which line it wants."""

    def checkpoint(self) -> BuildCheckpoint | None:
        """What another tender needs to go on with this build; None when there is no build."""
        feeder, machine, place = self._feeder, self._feeder.machine, self._feeder.place
        if machine.spec is None or machine.progress is None or not feeder.under_way:
            return None
        asking = feeder.phase is FeedingPhase.ASKING
        if asking and self._kept is not None:
            return self._kept
        program, own = feeder.link.program, None
        if program is not None and not place.on_file:
            commands = tuple(program.command(n).decode("ascii", "replace") for n in range(len(program)))
            own = OwnProgram(commands, feeder.link.base)
        phase, p = FeedingPhase.PARKED if asking else feeder.phase, machine.progress
        return BuildCheckpoint(
            machine.spec.build, phase.name.lower(), str(machine.state), machine.spec.sha256, p.acknowledged, own,
            machine.reason, place.caught_up(), machine.settings, feeder.pausing, tuple(sorted(feeder.pauses.layers)),
            place.passed_wait, feeder.parked, feeder.retracted, machine.change,
            (str(machine.ending[0]), machine.ending[1]), p.laying_s, p.warming_s, p.laid_from_s, feeder.unsure,
            feeder.prompts.waits,
        )  # fmt: skip

    def adopt(self, spec: BuildSpec, kept: BuildCheckpoint) -> None:
        """Continue a build that an earlier tender had under way. The machine is asked first which line it wants."""
        feeder, place = self._feeder, self._feeder.place
        take_up(feeder.machine, spec, kept)
        self._kept = kept
        place.modal, place.modal_at, place.passed_wait = kept.modal, max(0, kept.at), kept.passed_wait
        feeder.pausing, feeder.pauses.layers = kept.pausing, set(kept.pauses_before)
        feeder.parked, feeder.retracted = kept.parked, kept.retracted
        feeder.unsure, feeder.prompts.waits = kept.unsure, kept.waits
        feeder.machine.ending = (Outcome(kept.ending[0]), kept.ending[1])
        feeder.prepared = True
        feeder.phase = FeedingPhase.ASKING
        if feeder.link.state is ProtocolState.RESTING:
            feeder.link.ask()

    def stands(self, wants: int | None) -> None:
        """The machine said which line it wants, or nothing: continue from there if that fits."""
        feeder = self._feeder
        if feeder.phase in (FeedingPhase.PARKED, FeedingPhase.RESTING):
            if wants == 1 and feeder.prepared:
                feeder.rebooted()
            else:
                feeder.inject_next()
            return
        if feeder.phase is not FeedingPhase.ASKING:
            return
        kept, self._kept = self._kept, None
        if kept is None:
            self._found_again(wants)
            return
        count = None if wants is None else wants - 1
        feeder.phase = FeedingPhase[kept.phase.upper()]
        feeder.get_acquainted()
        if feeder.phase is FeedingPhase.STOPPING:
            feeder.end()
        elif feeder.phase is FeedingPhase.PARKED and kept.own is None:
            feeder.inject_next()
        elif count is None or not self._fits(count, kept):
            self._astray(wants)
        elif kept.own is not None:
            self._take_up_own(count, kept.own)
        else:
            self._take_up_file(count)

    def _fits(self, count: int, kept: BuildCheckpoint) -> bool:
        """Whether a machine that has taken line `count` can be at the place of the checkpoint."""
        length, own = len(self._feeder.machine.the_spec().program), kept.own
        if kept.at < 0:
            return 0 < count <= length
        if own is not None and own.base <= count <= own.base + len(own.commands):
            return True
        if count >= FIRST_OWN_LINE_NUMBER:
            # a sequence of the tender's own was over, and what comes after it had not begun
            return True
        if own is not None:
            return count == kept.at or count == kept.passed_wait == kept.at - 1
        return kept.at <= count <= length

    def _take_up_own(self, count: int, own: OwnProgram) -> None:
        """Continue a sequence of the earlier tender's own from the line that the machine has reached."""
        feeder, at = self._feeder, count - own.base
        commands = tuple(c.encode() for c in own.commands)
        if feeder.phase is FeedingPhase.ASIDE:
            # Nobody waits any more for what people asked of the earlier tender. The rest of it is carried out without
            # an answer.
            feeder.queue.current = PendingAction(InjectedCommands(commands))
            feeder.poses.passed = feeder.place.here
        feeder.place.on_file = False
        feeder.link.load(CommandSequence(commands), at if 0 <= at <= len(commands) else 0, base=own.base)

    def _take_up_file(self, count: int) -> None:
        feeder = self._feeder
        feeder.place.on_file = True
        feeder.acknowledged(count if count < FIRST_OWN_LINE_NUMBER else feeder.place.here)
        if feeder.machine.state is MachineState.PAUSED and feeder.pausing is None:
            feeder.machine.resume()
        feeder.feed()
        feeder.inject_next()

    def _astray(self, wants: int | None) -> None:
        """The place of the machine cannot be told: pause the build and ask a person, or end it if the machine has
        restarted."""
        feeder, machine = self._feeder, self._feeder.machine
        if wants == 1:
            feeder.phase = FeedingPhase.FEEDING
            feeder.rebooted()
            return
        why = PauseRequest(
            f"the tender was started anew and the machine {_said(wants)}; the last line known to be taken is "
            f"{feeder.place.here}: look at it, then resume, which asks it again, or stop", by_itself=True,
        )  # fmt: skip
        feeder.unsure = True
        if wants is not None and machine.state in WORKING and machine.state is not MachineState.PAUSED:
            feeder.pausing = why
            feeder.park(why)
        else:
            feeder.place.on_file = True
            feeder.stand_unsure(why)

    def _found_again(self, wants: int | None) -> None:
        """A resume asks for this: go on only from a line that the machine itself names."""
        feeder = self._feeder
        if wants is not None and feeder.place.here < wants <= len(feeder.machine.the_spec().program) + 1:
            feeder.unsure, feeder.place.on_file = False, True
            feeder.place.stand_at(wants - 1)
            feeder.reheat()
        elif wants == 1:
            feeder.phase = FeedingPhase.FEEDING
            feeder.rebooted()
        else:
            feeder.stand_unsure(PauseRequest(f"the machine {_said(wants)}: stop the build", by_itself=True))


def _said(wants: int | None) -> str:
    if wants is None:
        return "does not say which line it wants"
    return f"wants line {wants}, which is not this build's"
