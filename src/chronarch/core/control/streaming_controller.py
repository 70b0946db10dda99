"""Controls one machine that is fed line by line, with no I/O, and lets a build outlive its tender.

`kept` says what must be found again. The controller of a new tender takes it up with `adopt`, asks the machine which
line it wants, and goes on from there. `build_feeder` leads the build; `own_programs` sends what goes beside the file.
"""

from __future__ import annotations

from chronarch.core.control.build_feeder import ON_FILE, BuildFeeder
from chronarch.core.control.checkpoint import BuildCheckpoint, OwnProgram
from chronarch.core.control.controller import BuildSpec, Instant, PauseRequest
from chronarch.core.control.events import BuildResumed
from chronarch.core.control.injected_commands import InjectedCommands
from chronarch.core.control.line_protocol import FIRST_OWN_LINE_NUMBER, CommandSequence, ProtocolState
from chronarch.core.control.own_programs import FeedingPhase
from chronarch.core.control.progress import Progress
from chronarch.core.machines.states import WORKING, MachineEvent, MachineState, Outcome

__all__ = ["FeedingPhase", "StreamingController"]


class StreamingController(BuildFeeder):
    """Controls a machine that is fed line by line."""

    def changed(self) -> bool:
        """Whether the checkpoint differs from the last one on disk in more than the place in the file. Then it must be
        written before `outgoing` is sent."""
        changed, self._changed = self._changed, False
        return changed

    def kept(self) -> BuildCheckpoint | None:
        """The checkpoint that another tender needs to go on with this build; None when there is no build."""
        if self.spec is None or self.progress is None or self.phase is FeedingPhase.RESTING:
            return None
        if self.phase is FeedingPhase.ASKING and self._kept is not None:
            return self._kept
        phase = FeedingPhase.PARKED if self.phase is FeedingPhase.ASKING else self.phase
        program = self.link.program
        own = None
        if program is not None and not self._on_file:
            own = OwnProgram(
                tuple(program.command(n).decode("ascii", "replace") for n in range(len(program))), self.link.base
            )
        return BuildCheckpoint(
            self.spec.build, phase.name.lower(), str(self.state), self.spec.sha256, self.progress.acknowledged,
            own, self.reason, self._caught_up(), self.settings, self._pausing, tuple(sorted(self.pauses_before)),
            self._passed_wait, self._parked, self._retracted, self.change,
            (str(self._ending[0]), self._ending[1]), self.progress.laying_s, self.progress.warming_s,
            self.progress.laid_from_s, self._unsure, self.waits,
        )  # fmt: skip

    def adopt(self, spec: BuildSpec, kept: BuildCheckpoint, now: Instant) -> None:
        """Continue a build that an earlier tender had under way. The machine is asked first which line it wants."""
        self._pass(now)
        self.spec, self.progress = spec, Progress(spec.plan, spec.pace)
        self._kept = kept
        self.progress.acknowledged = max(0, kept.at)
        self.progress.laying_s, self.progress.warming_s = kept.laying_s, kept.warming_s
        self.progress.laid_from_s = kept.laid_from_s
        self._modal, self._modal_at = kept.modal, max(0, kept.at)
        self.settings, self.change = kept.settings, kept.change
        self._pausing, self.pauses_before = kept.pausing, set(kept.pauses_before)
        self._parked, self._retracted, self._passed_wait = kept.parked, kept.retracted, kept.passed_wait
        self._unsure, self.waits = kept.unsure, kept.waits
        self._ending = (Outcome(kept.ending[0]), kept.ending[1])
        self.state, self.reason = MachineState(kept.state), kept.reason
        self._prepared = True
        self.phase = FeedingPhase.ASKING
        if self.link.state is ProtocolState.RESTING:
            self.link.ask()

    def _stands(self, wants: int | None) -> None:
        """The machine said which line it wants: continue from there if that fits the checkpoint."""
        if self.phase in (FeedingPhase.PARKED, FeedingPhase.RESTING):
            if wants == 1 and self._prepared:
                self._rebooted()
            else:
                self._inject_next()
            return
        if self.phase is not FeedingPhase.ASKING:
            return
        kept, self._kept = self._kept, None
        count = None if wants is None else wants - 1
        if kept is None:
            self._found_again(wants)
            return
        self.phase = FeedingPhase[kept.phase.upper()]
        self._get_acquainted()
        if self.phase is FeedingPhase.STOPPING:
            self._start_ending()
        elif self.phase is FeedingPhase.PARKED and kept.own is None:
            self._inject_next()
        elif count is None or not self._fits(count, kept):
            self._astray(wants)
        elif kept.own is not None:
            self._take_up_own(count, kept.own)
        else:
            self._take_up_file(count)

    def _fits(self, count: int, kept: BuildCheckpoint) -> bool:
        """Whether a machine that has taken line `count` can be at the place of the checkpoint."""
        if kept.at < 0:
            return 0 < count <= len(self._spec().program)
        if kept.own is not None and kept.own.base <= count <= kept.own.base + len(kept.own.commands):
            return True
        if count >= FIRST_OWN_LINE_NUMBER:
            # a sequence of the tender's own was over, and what comes after it had not begun
            return True
        if kept.own is not None:
            return count == kept.at or count == kept.passed_wait == kept.at - 1
        return kept.at <= count <= len(self._spec().program)

    def _take_up_own(self, count: int, own: OwnProgram) -> None:
        """Continue a sequence of the earlier tender's own from the line that the machine has reached."""
        at = count - own.base
        if not 0 <= at <= len(own.commands):
            at = 0
        if self.phase is FeedingPhase.ASIDE:
            # Nobody waits any more for what people asked of the earlier tender. The rest of it is carried out without
            # an answer.
            self._injected = InjectedCommands(tuple(c.encode() for c in own.commands))
        self._on_file = False
        self.link.load(CommandSequence(tuple(c.encode() for c in own.commands)), at, base=own.base)

    def _take_up_file(self, count: int) -> None:
        at = count if count < FIRST_OWN_LINE_NUMBER else self._here()
        self._on_file = True
        self._acknowledged(at)
        if self.phase not in ON_FILE:
            self.phase = FeedingPhase.FEEDING
        if self.state is MachineState.PAUSED and self._pausing is None:
            self._move(MachineEvent.RESUME)
            self._tell(BuildResumed(self._spec().build))
        self._feed_file(at)
        self._inject_next()

    def _astray(self, wants: int | None) -> None:
        """The place of the machine cannot be told: pause the build and ask a person, or end it if the machine has
        restarted."""
        if wants == 1:
            self.phase = FeedingPhase.FEEDING
            self._rebooted()
            return
        reason = (
            f"the tender was started anew and the machine {self._said_of(wants)}; the last line known to be taken is "
            f"{self._here()}: look at it, then resume, which asks it again, or stop"
        )
        self._unsure = True
        if wants is not None and self.state in WORKING and self.state is not MachineState.PAUSED:
            self._pausing = PauseRequest(reason, by_itself=True)
            self._park(self._pausing)
        else:
            self._on_file = True
            self._stand_unsure(PauseRequest(reason, by_itself=True))

    def _said_of(self, wants: int | None) -> str:
        if wants is None:
            return "does not say which line it wants"
        return f"wants line {wants}, which is not this build's"

    def _found_again(self, wants: int | None) -> None:
        """A resume asks for this: go on only from a line that the machine itself names."""
        if wants is not None and self._here() < wants <= len(self._spec().program) + 1:
            self._unsure, self._on_file = False, True
            self._place_at(wants - 1)
            self._reheat()
        elif wants == 1:
            self.phase = FeedingPhase.FEEDING
            self._rebooted()
        else:
            self._stand_unsure(PauseRequest(f"the machine {self._said_of(wants)}: stop the build", by_itself=True))
