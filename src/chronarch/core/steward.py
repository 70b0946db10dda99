"""Minds one machine that is fed line by line, with no I/O, and lets a build outlive its tender.

What must be found again is told by `kept`; a new tender's steward takes it up with `adopt`, asks the machine which line
it wants, and goes on from there. `leading` leads the build, `carrying` knows what goes beside the file.
"""

from __future__ import annotations

from chronarch.core.asides import Aside
from chronarch.core.carrying import Phase
from chronarch.core.happenings import BuildResumed
from chronarch.core.kept import Kept, Own
from chronarch.core.leading import ON_FILE, Leading
from chronarch.core.line_link import OWN_BASE, LinkState, Steps
from chronarch.core.mind import Errand, Moment, Pausing
from chronarch.core.progress import Progress
from chronarch.core.states import WORKING, MachineEvent, MachineState, Outcome

__all__ = ["Phase", "Steward"]


class Steward(Leading):
    """The mind of a machine on a line link."""

    def changed(self) -> bool:
        """Whether what is kept of the build differs from what was last kept in more than how far it is: it must be on
        the disk before `outgoing` is sent."""
        changed, self._changed = self._changed, False
        return changed

    def kept(self) -> Kept | None:
        """What must be on the disk for another tender to go on with this build; None when there is none."""
        if self.errand is None or self.progress is None or self.phase is Phase.RESTING:
            return None
        if self.phase is Phase.ASKING and self._kept is not None:
            return self._kept
        phase = Phase.PARKED if self.phase is Phase.ASKING else self.phase
        program = self.link.program
        own = None
        if program is not None and not self._on_file:
            own = Own(tuple(program.command(n).decode("ascii", "replace") for n in range(len(program))), self.link.base)
        return Kept(
            self.errand.build, phase.name.lower(), str(self.state), self.errand.sha256, self.progress.acknowledged,
            own, self.reason, self._caught_up(), self.settings, self._pausing, tuple(sorted(self.pauses_before)),
            self._passed_wait, self._parked, self._retracted, self.change,
            (str(self._ending[0]), self._ending[1]), self.progress.laying_s, self.progress.warming_s,
            self.progress.laid_from_s, self._unsure, self.waits,
        )  # fmt: skip

    def adopt(self, errand: Errand, kept: Kept, now: Moment) -> None:
        """Go on with a build that an earlier tender had under way: the machine is asked where it stands first."""
        self._pass(now)
        self.errand, self.progress = errand, Progress(errand.plan, errand.pace)
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
        self.phase = Phase.ASKING
        if self.link.state is LinkState.RESTING:
            self.link.ask()

    def _stands(self, wants: int | None) -> None:
        """The machine said which line it wants: go on from there, if that fits what was kept."""
        if self.phase in (Phase.PARKED, Phase.RESTING):
            if wants == 1 and self._prepared:
                self._rebooted()
            else:
                self._next_aside()
            return
        if self.phase is not Phase.ASKING:
            return
        kept, self._kept = self._kept, None
        count = None if wants is None else wants - 1
        if kept is None:
            self._found_again(wants)
            return
        self.phase = Phase[kept.phase.upper()]
        self._get_acquainted()
        if self.phase is Phase.STOPPING:
            self._start_ending()
        elif self.phase is Phase.PARKED and kept.own is None:
            self._next_aside()
        elif count is None or not self._fits(count, kept):
            self._astray(wants)
        elif kept.own is not None:
            self._take_up_own(count, kept.own)
        else:
            self._take_up_file(count)

    def _fits(self, count: int, kept: Kept) -> bool:
        """Whether a machine that has taken line `count` can be where the kept build was."""
        if kept.at < 0:
            return 0 < count <= len(self._errand().program)
        if kept.own is not None and kept.own.base <= count <= kept.own.base + len(kept.own.commands):
            return True
        if count >= OWN_BASE:
            # a program of the tender's own was over; what came next had not begun
            return True
        if kept.own is not None:
            return count == kept.at or count == kept.passed_wait == kept.at - 1
        return kept.at <= count <= len(self._errand().program)

    def _take_up_own(self, count: int, own: Own) -> None:
        """Go on with a program of the earlier tender's own at the line the machine has come to."""
        at = count - own.base
        if not 0 <= at <= len(own.commands):
            at = 0
        if self.phase is Phase.ASIDE:
            # What hands asked of the earlier tender nobody waits for any more; what is left of it is made, unheard.
            self._aside = Aside(tuple(c.encode() for c in own.commands))
        self._on_file = False
        self.link.load(Steps(tuple(c.encode() for c in own.commands)), at, base=own.base)

    def _take_up_file(self, count: int) -> None:
        at = count if count < OWN_BASE else self._here()
        self._on_file = True
        self._acknowledged(at)
        if self.phase not in ON_FILE:
            self.phase = Phase.FEEDING
        if self.state is MachineState.PAUSED and self._pausing is None:
            self._move(MachineEvent.RESUME)
            self._tell(BuildResumed(self._errand().build))
        self._feed_file(at)
        self._next_aside()

    def _astray(self, wants: int | None) -> None:
        """Where the machine stands cannot be told: the build is paused and a person asked, or over if it restarted."""
        if wants == 1:
            self.phase = Phase.FEEDING
            self._rebooted()
            return
        reason = (
            f"the tender was started anew and the machine {self._said_of(wants)}; the last line known to be taken is "
            f"{self._here()}: look at it, then resume, which asks it again, or stop"
        )
        self._unsure = True
        if wants is not None and self.state in WORKING and self.state is not MachineState.PAUSED:
            self._pausing = Pausing(reason, by_itself=True)
            self._park(self._pausing)
        else:
            self._on_file = True
            self._stand_unsure(Pausing(reason, by_itself=True))

    def _said_of(self, wants: int | None) -> str:
        if wants is None:
            return "does not say which line it wants"
        return f"wants line {wants}, which is not this build's"

    def _found_again(self, wants: int | None) -> None:
        """Asked for by a resume: go on only from a line that the machine itself names."""
        if wants is not None and self._here() < wants <= len(self._errand().program) + 1:
            self._unsure, self._on_file = False, True
            self._place_at(wants - 1)
            self._reheat()
        elif wants == 1:
            self.phase = Phase.FEEDING
            self._rebooted()
        else:
            self._stand_unsure(Pausing(f"the machine {self._said_of(wants)}: stop the build", by_itself=True))
