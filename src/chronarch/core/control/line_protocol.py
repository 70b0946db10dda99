"""The line protocol towards one machine, with no I/O: programs in, bytes out; bytes in, events out.

Three rules hold all of it up:

1.  Everything that acts is a numbered, check-summed line of a *program*. The machine takes line n only after line n - 1
    and names the one it expects when another comes; so however often a line is sent, it runs once, and in order.
2.  The count is set with `M110` before a program's first line, and never again while that program is carried. The first
    line goes out only after the machine itself has said that it wants just that line.
3.  A wire delivers in order. What a machine says of its place is believed when nothing older can still be on its way:
    because nothing beyond was ever sent, or because a *fence* has come back.

One line is outstanding at a time, or as many as fit `window_bytes` where the model says how much the machine buffers.
The file's own lines count from 1; commands of the tender's own (injected commands, heating off, parking) count from
`FIRST_OWN_LINE_NUMBER`, each sequence from another thousand, so that the two can be told apart in any record of what a
machine ran, and no number of one sequence can be meant for the one before it.

A *question* is a line whose checksum is wrong on purpose: no machine runs it, and the answer names the line it wants.
A *fence* is a word no machine knows; its complaint names it. Whatever is not plainly one line's answer (a late one,
one out of turn, none at all, a greeting, a new connection) makes the link *ask*: it sends a fence and a question, and
goes by the number that comes after the fence. A machine that names nothing is asked until it has said the same twice,
with several measured round trips of silence behind each.

A plain `ok` does not say which line it is for. So a program is left, at its end, for a pause or for an aside, only
after a question was answered with the line after the last one sent: that number can be said only by a machine that
has taken all of them. It is kept as the `proof`.

What each state sends, and what follows it, is the table `RULES`, which docs/states.md shows. Losing the connection
leads to `away` from everywhere; a new one to `resting` without a program, to `counting` where its count was never set,
else to `asking`. `held` is not a state but a wish: with it set, no new line follows; nor beyond the line that `until`
names.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from chronarch.core.control.fault_text import FaultText
from chronarch.core.control.framing import (
    FENCES,
    FIRST_OWN_LINE_NUMBER,
    QUESTION,
    CommandSequence,
    Program,
    checksum,
    fence,
    fence_in,
    longest_s,
    numbered,
    silent_s,
)
from chronarch.core.control.protocol_events import (
    Acknowledged,
    DamagedWire,
    Drained,
    Finished,
    LostCount,
    NextLineWanted,
    OutOfStep,
    Overdue,
    ProtocolEvent,
    ProtocolState,
    Silent,
    SlowWire,
)
from chronarch.core.control.responses import (
    Accepted,
    Busy,
    FaultReported,
    Halted,
    LineComplaint,
    OtherText,
    Resend,
    Response,
    Restarted,
    WaitsForPerson,
    is_garbled,
    read_answer,
)
from chronarch.core.control.round_trip import GRAIN_S
from chronarch.core.control.send_window import SendWindow
from chronarch.core.control.wire_quality import WireQuality

__all__ = [
    "FIRST_OWN_LINE_NUMBER",
    "QUESTION",
    "Acknowledged",
    "CommandSequence",
    "DamagedWire",
    "Drained",
    "Finished",
    "LineProtocol",
    "LostCount",
    "NextLineWanted",
    "OutOfStep",
    "Overdue",
    "Program",
    "ProtocolEvent",
    "ProtocolState",
    "Silent",
    "SlowWire",
    "checksum",
    "numbered",
]  # fmt: skip

LONGEST_ANSWER = 4096
MOST_TRIES = 25
"""After this many answers to one line that do not fit, the link gives up."""
FREE_TRIES = 3
"""After this many tries the next one waits, longer each time, so that a machine that always refuses is not asked at
full speed."""
MOST_SILENCES, RECONNECT_EVERY = 12, 3
"""Waits in which nothing at all was heard: after so many the link gives up, and the connection is made anew each so
many."""
PAUSE_S, LONGEST_PAUSE_S = 0.05, 5.0
SUSPECT_AFTER = 2
"""After this many silent waits the machine is suspected of not listening."""
SAMPLE_EVERY = 16
"""One in this many of the lines that are plainly taken is a sample of the round trip."""

OUT_OF_TURN = LineComplaint(out_of_turn=True)


_UNDER_WAY = frozenset(set(ProtocolState) - {ProtocolState.AWAY, ProtocolState.RESTING})
_PROBING = frozenset({ProtocolState.COUNTING, ProtocolState.CONFIRMING, ProtocolState.ASKING})
"""States in which complaints are expected."""

_OK = Accepted()

Spoken = tuple[bool, bytes, bool]
"""One line: whether it was sent, its text, and whether it was part of finding out the machine's place, where a
complaint is no trouble."""

_HEARD_OK: Spoken = (False, b"ok", False)


class LineProtocol:
    """Feeds programs to one machine. Times are real seconds from any start.

    `answer_timeout_s` is how long, at the least, a line may go without an answer before the machine is asked; `quiet_s`
    how long, at the least, the wire must be silent before nothing is still on its way: both grow with the measured
    round trip. `window_bytes` is how much may be outstanding, 0 for one line. `fences_from` is where the fences and the
    tender's own programs begin to count: two links to one machine should differ in it."""

    def __init__(
        self, answer_timeout_s: float = 3.0, quiet_s: float = 0.2, window_bytes: int = 0, fences_from: int = 0
    ) -> None:
        self.state = ProtocolState.AWAY
        self.resends = 0
        self.wire = WireQuality(answer_timeout_s, quiet_s)
        self._window = SendWindow(window_bytes)
        self._spoken: list[Spoken] = []
        self.now_s = 0.0
        """The time of the next request. Every receive and every tick sets it too."""
        self._due_s = 0.0
        self._out: list[bytes] = []
        self._partial = b""
        self._fault = FaultText()
        # the program
        self._program: Program | None = None
        self._length = 0
        self.base = 0
        """The number before the present program's first line."""
        self._own_programs = fences_from % 1000
        self._limit: int | None = None
        self._held = False
        # how far the machine is, in commands of the program
        self._start = 0
        self._next = 0
        self._ahead = 0
        self._out_to = 0
        """Beyond this no line of the program has ever been sent."""
        self._sure = 0
        """This many commands are taken by the word of the machine itself."""
        self._exact = False
        """Whether the machine has said that it wants `_next`, and no line has gone out since."""
        self._counted = False
        self._count: int | None = None
        """The machine's own count while nothing is outstanding; None where it is not known."""
        # asking
        self._fence = fences_from % FENCES
        self._fence_seen = self._alone = False
        self._said: int | None = None
        self._said_before: int | None = None
        self._proofs = 0
        self._oks = self._burst = self._bursts = 0
        # trouble
        self._troubled = False
        self._numbered_oks = False
        self._complained: LineComplaint | None = None
        self._tries = 0
        self._silences = 0
        self._heard_at_s = 0.0
        self._told_overdue = False

    # What is seen of it --------------------------------------------------------------------------------------

    @property
    def program(self) -> Program | None:
        return self._program

    @property
    def acknowledged(self) -> int:
        """How many commands of the present program the machine has taken."""
        return self._next

    @property
    def furthest(self) -> int:
        """How many commands of the present program have been sent at least once, or are about to be."""
        return max(self._out_to, self._ahead)

    @property
    def sure(self) -> int:
        """How many commands of the present program the machine has taken by its own word."""
        return self._sure

    @property
    def untouched(self) -> bool:
        """Whether no line of the present program has been sent, so that none can have run."""
        return self._out_to <= self._start

    @property
    def under_way(self) -> bool:
        """Whether a line is outstanding, or it is being found out which one the machine wants."""
        return self.state in _UNDER_WAY

    @property
    def suspect(self) -> bool:
        """Whether the machine has been silent for so long that it may not be listening."""
        return self.under_way and self._silences >= SUSPECT_AFTER

    # What is asked of it -------------------------------------------------------------------------------------

    def load(
        self, program: Program, at: int = 0, *, own: bool = True, until: int | None = None, base: int | None = None
    ) -> None:
        """Feed `program` from its command `at` instead of what was loaded, and stop before command `until` as if held
        there. `base` continues the numbers of an earlier tender's program. Nothing may be outstanding."""
        if self.under_way:
            raise RuntimeError("A program can be loaded only while no line is outstanding.")
        self._program, self._length = program, len(program)
        self._start = self._next = self._ahead = self._out_to = self._sure = at
        self._limit = until
        self._window.clear()
        if base is not None:
            self.base = base
        elif own:
            self._own_programs = (self._own_programs + 1) % 1000
            self.base = FIRST_OWN_LINE_NUMBER + 1000 * self._own_programs
        else:
            self.base = 0
        self._counted = self._exact = self._count == self.base + at
        self._held = self._troubled = self._numbered_oks = False
        self._complained = None
        self._bursts = self._tries = self._proofs = 0
        if self.state is ProtocolState.RESTING:
            if self._exact and at >= (self._length if until is None else min(until, self._length)):
                self.state, self._due_s = (
                    ProtocolState.RECOVERING,
                    self.now_s,
                )  # the next tick says that there is nothing to do
            else:
                self._go_on([])

    def swap(self, program: Program) -> None:
        """Continue with another program whose commands up to `furthest` equal those of the present one."""
        self._program, self._length = program, len(program)

    def until(self, index: int | None) -> None:
        """Stop before command `index` as if held there; None takes that back. What is sent already goes on."""
        self._limit = index

    def hold(self) -> list[ProtocolEvent]:
        """Send no further line. `Drained` says when none is outstanding, at once if that is so already."""
        self._held = True
        if self.state is ProtocolState.RESTING or self._program is None:
            return [Drained(self._next)]
        return []

    def drop(self) -> None:
        """Forget the program and all outstanding lines. The next program sets the count anew."""
        if self.state in _UNDER_WAY or (self._program is not None and not self._counted):
            self._count = None
        self._program = None
        if self.state is not ProtocolState.AWAY:
            self.state = ProtocolState.RESTING

    def ask(self) -> None:
        """Find out which line the machine wants; `NextLineWanted` tells. Nothing may be loaded."""
        if self.state is not ProtocolState.RESTING or self._program is not None:
            raise RuntimeError("The machine can be asked only while nothing is loaded and the link stands.")
        self._tries = 0
        self._ask()

    def connected(self) -> None:
        self._partial = b""
        self.wire.connected()
        self.state = ProtocolState.RESTING
        if self._program is not None:
            if self._counted:
                self._ask()
            else:
                self._set_count()

    def disconnected(self) -> None:
        self.state = ProtocolState.AWAY
        self._out.clear()

    def urgent(self, command: bytes) -> None:
        """Send a command before everything else and outside the count, for what firmwares take at once (M108, M112)."""
        self._out.insert(0, command + b"\n")
        self._spoken.append((True, command, False))

    def outgoing(self) -> bytes:
        """The bytes to write now. Each byte is returned once."""
        out = self._out
        if not out:
            return b""
        data = out[0] if len(out) == 1 else b"".join(out)
        out.clear()
        return data

    def spoken(self) -> list[Spoken]:
        """Every line since the last call, oldest first."""
        spoken, self._spoken = self._spoken, []
        return spoken

    # What the machine says -----------------------------------------------------------------------------------

    def receive(self, data: bytes, now_s: float) -> list[ProtocolEvent]:
        """Take bytes from the machine."""
        events: list[ProtocolEvent] = []
        self.now_s = now_s
        self._heard_at_s = now_s
        if data == b"ok\n" and not self._partial and not self._fault.lines:
            self._spoken.append(_HEARD_OK)
            plain = self.state is ProtocolState.FEEDING and self._complained is None and not self._numbered_oks
            if plain and self._ahead == self._next + 1:
                self._plainly_taken(events)
            else:
                self._answered(_OK, events)
        else:
            *lines, self._partial = (self._partial + data).split(b"\n")
            if len(self._partial) > LONGEST_ANSWER:
                self._partial = b""
            for raw in lines:
                self._line(raw[:LONGEST_ANSWER].strip(), events)
        if self._out:
            self._due_s = now_s + self.wire.lines.wait_s
        return events

    def _line(self, raw: bytes, events: list[ProtocolEvent]) -> None:
        self._spoken.append((False, raw, self.state in _PROBING))
        if raw == b"ok":
            events += self._fault.told()
            self._answered(_OK, events)
            return
        named = fence_in(raw)
        if named is not None:
            if self.state is ProtocolState.ASKING and named == fence(self._fence):
                self._fence_seen, self._said, self._oks = True, None, 0
                self.wire.question_answered(self.now_s)
            return
        for answer in read_answer(raw.decode("utf-8", "replace")):
            if isinstance(answer, Resend) and len(self._fault.lines) == 1:
                self._fault.lines.clear()  # whatever the words were, they were about a line
                self._complaint(LineComplaint(), events)
            elif self._fault.takes(answer):
                continue
            else:
                events += self._fault.told()
            if isinstance(answer, OtherText) and self.state in _UNDER_WAY and is_garbled(answer.text):
                events += self.wire.answer_damaged()
            self._answered(answer, events)

    def _plainly_taken(self, events: list[ProtocolEvent]) -> None:
        """The one outstanding line is taken and nothing is amiss. This does what `_ok` does by the shortest way,
        because nearly every answer is of this kind."""
        assert self._program is not None
        self._next = count = self._ahead
        self._tries = self._silences = 0
        events.append(Acknowledged(count))
        if not count % SAMPLE_EVERY or self.wire.lines.backed_off:
            self.wire.line_answered(self.now_s)
        last = self._length if self._limit is None else min(self._limit, self._length)
        if count >= last or self._held or self._window.most_bytes:
            self._window.clear()
            self._go_on(events)
            return
        # one line is taken and one is sent, so as many wait as before
        line = numbered(self.base + count + 1, self._program.command(count))
        self._out.append(line)
        self._spoken.append((True, line[:-1], False))
        self._ahead = count + 1
        if self._out_to <= count:
            self._out_to = count + 1
        wire = self.wire
        wire.sent += 1
        wire.sent_at_s, wire.no_sample = self.now_s, False
        self._told_overdue = False

    def _answered(self, answer: Response, events: list[ProtocolEvent]) -> None:
        match answer:
            case Accepted():
                RULES[self.state].ok.do(self, answer, events)
            case Resend():
                RULES[self.state].wanted.do(self, answer.number, events)
            case Busy() | WaitsForPerson():
                self.wire.no_sample = True
                self._due_s = self.now_s + self.wire.lines.wait_s
                if isinstance(answer, WaitsForPerson):
                    events.append(answer)
            case LineComplaint():
                self._complaint(answer, events)
            case FaultReported() if self.wire.damages_lines:
                self._complaint(LineComplaint(), events)
            case FaultReported() | Halted():
                self._fault.begin(answer, self.now_s)
            case Restarted():
                self._greeted()
                events.append(answer)
            case _:
                events.append(answer)

    def _ok_feeding(self, answer: Accepted, events: list[ProtocolEvent]) -> None:
        if self._complained is not None:
            self._ask()  # a complaint whose wish for a line was lost: this ok does not take the line
            return
        count = self._next + 1
        if answer.number is not None:
            # A number acknowledges all lines up to it; one that was heard before says nothing new.
            count = answer.number - self.base
            if not self._next < count <= self._ahead:
                return
            self._numbered_oks = True
        elif self._numbered_oks or self._next >= self._ahead:
            return
        if self._ahead == self._next + 1 and (not count % SAMPLE_EVERY or self.wire.lines.backed_off):
            self.wire.line_answered(self.now_s)
        self._taken(count, events)
        self._go_on(events)

    def _ok_recovering(self, answer: Accepted, events: list[ProtocolEvent]) -> None:
        self._recovered(events)

    def _ok_counting(self, answer: Accepted, events: list[ProtocolEvent]) -> None:
        self._oks += 1
        all_answered = self._oks >= self._burst and self._tries < FREE_TRIES
        if all_answered and not self._too_often("does not take its count", events):
            self._set_count()  # every line is answered, and the count is not what it should be

    def _ok_asking(self, answer: Accepted, events: list[ProtocolEvent]) -> None:
        self._oks += 1
        both_answered = self._fence_seen and self._oks >= 2 and self._tries < FREE_TRIES
        if both_answered and not self._too_often("does not say its line", events):
            self._ask(anew=False)  # fence and question are answered, and the wish for a line was lost

    def _wanted_feeding(self, number: int, events: list[ProtocolEvent]) -> None:
        self.resends += 1
        self._troubled = True
        damaged = self._complained is None or not self._complained.out_of_turn
        one = self._ahead == self._next + 1 and self.state is ProtocolState.FEEDING
        if one and damaged and number == self.base + self._next + 1 and (number > 1 or not self._next):
            # The one line that is outstanding arrived damaged: its ok follows, and then it goes out again.
            if not self._too_often(f"asks for line {number} again and again", events):
                self._back_up()
                self._recover()
        else:
            self._ask()

    def _wanted_confirming(self, number: int, events: list[ProtocolEvent]) -> None:
        if number != self.base + self._next + 1 or self.furthest > self._next:
            self._troubled = True
            self._ask()
            return
        # Nothing beyond was ever sent, so however old this answer is, all before it is taken. Where the wire damages
        # lines this very number may be damaged, so there it must be said twice.
        self.wire.question_answered(self.now_s)
        self._proofs += 1
        if self._proofs >= (2 if self._troubled else 1):
            self._prove(self._next)
            self._recover()
        else:
            self._confirm()

    def _wanted_asking(self, number: int, events: list[ProtocolEvent]) -> None:
        if self._fence_seen:
            self._told(number, events)
            return
        if self._alone:
            self.wire.question_answered(self.now_s)
        self._said = number
        self._due_s = self.now_s + self.wire.quiet_s

    def _wanted_counting(self, number: int, events: list[ProtocolEvent]) -> None:
        if number == self.base + self._next + 1:
            self._counted = True
            self.wire.question_answered(self.now_s)
            self._prove(self._next)
            if self._bursts > 1:
                self._ask()  # answers to earlier tries may still be on their way
            else:
                self._recover()
        elif number == 1 and self._count:
            self._lose_count(events)

    def _told(self, number: int, events: list[ProtocolEvent]) -> None:
        """The machine was asked, no older answer can be on its way, and it wants line `number`. What decides over a
        build, or comes over a wire that damages lines, must be said twice."""
        if number != self._said_before and (self._troubled or self._program is None or self._is_loss(number)):
            self._said_before = number
            if not self._too_often("does not say the same line twice", events):
                self._ask(anew=False)
            return
        self._said_before = None
        if self._program is None:
            known, self._count = self._count, number - 1
            self.state = ProtocolState.RESTING
            self._silences = 0
            if known and number == 1:
                self._lose_count(events)
            else:
                events.append(NextLineWanted(number))
            return
        index = number - self.base - 1
        if self._is_loss(number):
            self._lose_count(events)
        elif index > self.furthest:
            text = f"wants line {number}, which it was never sent" if index <= self._length else f"wants line {number}"
            if not self._too_often(text, events):
                self._ask()
        else:
            self.resends += index < self._next or index < self._ahead
            if index > self._next:
                self._taken(index, events)
            elif not self._too_often(f"asks for line {number} again and again", events):
                self._next = index
            else:
                return
            self._back_up()
            self._prove(index)
            self._recover()

    def _is_loss(self, number: int) -> bool:
        """Whether a machine that wants line `number` has lost its count. That ends a build, so a machine must say it
        twice: one answer may be damaged."""
        return (number == 1 and bool(self.base or self._next)) or number - self.base - 1 < self._sure

    def _lose_count(self, events: list[ProtocolEvent]) -> None:
        self.drop()
        self._count = None
        events.append(LostCount())

    def _greeted(self) -> None:
        """The machine says that it has started. It may have restarted, or a port was opened: ask which line it
        wants."""
        if self.state in (ProtocolState.FEEDING, ProtocolState.RECOVERING, ProtocolState.CONFIRMING):
            self._ask()
        elif self.state is ProtocolState.RESTING and self._program is None and self._count is not None:
            self._tries = 0
            self._ask()

    def _complaint(self, answer: LineComplaint, events: list[ProtocolEvent]) -> None:
        if self.state in _PROBING or self.state is ProtocolState.AWAY:
            return
        self._complained = answer
        self._troubled = True
        if answer.out_of_turn or self._next == self._sure:
            return  # right after a question this may be the same greeting a second time
        events += self.wire.line_damaged()

    # Time ----------------------------------------------------------------------------------------------------

    def tick(self, now_s: float) -> list[ProtocolEvent]:
        """Let time pass. A machine that has not answered is asked."""
        self.now_s = now_s
        events: list[ProtocolEvent] = []
        if self._fault.settled(now_s):
            events += self._fault.told()
        events += self.wire.slow()
        if self.under_way and now_s >= self._due_s:
            RULES[self.state].silence.do(self, events)
        return events

    def _silence_recovering(self, events: list[ProtocolEvent]) -> None:
        self._recovered(events, waited=True)

    def _silence_asking(self, events: list[ProtocolEvent]) -> None:
        if self._said is not None and not self._fence_seen:
            self._quiet_after_question(events)
        elif not self._oks:
            if self._overdue(events):
                self._ask(anew=False)
        elif not self._too_often("does not say which line it wants", events):
            self._ask(anew=False)  # it answers, but not what it was asked

    def _silence_counting(self, events: list[ProtocolEvent]) -> None:
        if self._overdue(events) and not self._too_often("does not take its count", events):
            self._set_count()

    def _silence(self, events: list[ProtocolEvent]) -> None:
        if self._overdue(events):
            self._ask()

    def _overdue(self, events: list[ProtocolEvent]) -> bool:
        """No useful answer has come in time. Returns whether to try again on this connection."""
        heard = self._heard_at_s > self._due_s - self.wire.lines.wait_s + GRAIN_S
        self.wire.lines.back_off()
        self._due_s = self.now_s + self.wire.lines.wait_s
        if self.state is not ProtocolState.ASKING:
            self.wire.asked_at_s = (
                None  # an answer from now on may be to another try; only a fence says which it is for
            )
        command, waited_s = self._outstanding, self.now_s - self.wire.sent_at_s
        if command is not None and waited_s > longest_s(command) and not self._told_overdue:
            self._told_overdue = True
            events.append(Overdue(command.decode("ascii", "replace"), waited_s))
        if heard:
            self._silences = 0
        elif command is None or waited_s > silent_s(command):
            self._silences += 1
            if self._silences >= MOST_SILENCES:
                self._give_up("has given no answer", events)
                return False
            if self._silences % RECONNECT_EVERY == 0:
                events.append(Silent())
                return False
        return True

    @property
    def _outstanding(self) -> bytes | None:
        """The oldest command that is outstanding."""
        feeding = self._program is not None and self._counted and self._next < self.furthest
        return self._program.command(self._next) if feeding and self._program is not None else None

    def _quiet_after_question(self, events: list[ProtocolEvent]) -> None:
        """The machine has answered the question and named no fence, and the wire has been quiet since."""
        said, self._said = self._said, None
        assert said is not None
        if said == self._said_before:
            self._told(said, events)
            return
        self._said_before = said
        if not self._too_often("does not say the same line twice", events):
            self._ask(anew=False, alone=True)

    def _too_often(self, what: str, events: list[ProtocolEvent]) -> bool:
        self._tries += 1
        if self._tries <= MOST_TRIES:
            return False
        self._give_up(f"{what}; {MOST_TRIES} tries did not help", events)
        return True

    def _give_up(self, what: str, events: list[ProtocolEvent]) -> None:
        placed = self._program is not None
        self.drop()
        self._silences = 0
        events.append(OutOfStep(f"the machine {what}") if placed else NextLineWanted(None))

    # What goes out -------------------------------------------------------------------------------------------

    def _taken(self, count: int, events: list[ProtocolEvent]) -> None:
        self._window.taken(count - self._next)
        self._next = count
        if count > self._ahead:
            self._ahead = count
        self._tries = self._silences = 0
        events.append(Acknowledged(count))

    def _prove(self, count: int) -> None:
        """The machine itself has said that it has taken exactly `count` commands, and no more are on their way."""
        self._sure = count
        self._out_to = max(count, self._start)
        self._exact = True
        self._silences = 0

    def _back_up(self) -> None:
        """Treat nothing as sent: the next line to send is the first that is not acknowledged."""
        self._out_to = max(self._out_to, self._ahead)
        self._ahead = self._next
        self._window.clear()

    def _recover(self) -> None:
        """Wait for the ok that ends a complaint, then go on; it may be lost."""
        self.state = ProtocolState.RECOVERING
        self._due_s = self.now_s + self.wire.quiet_s

    def _recovered(self, events: list[ProtocolEvent], waited: bool = False) -> None:
        """Go on after a complaint: at once the first times, then after a pause that doubles each time."""
        if self._tries > FREE_TRIES and not waited:
            self._due_s = self.now_s + min(PAUSE_S * 2 ** (self._tries - FREE_TRIES), LONGEST_PAUSE_S)
            return
        self._complained = None
        self._go_on(events)

    def _go_on(self, events: list[ProtocolEvent]) -> None:
        """Send what comes next, or say that there is nothing more."""
        if self._program is None:
            return
        if not self._counted:
            self._set_count()
            return
        last = self._length if self._limit is None else min(self._limit, self._length)
        if not self._held:
            while self._ahead < last and self._window.room:
                self._send()
        if self._ahead > self._next:
            return
        if not self._exact:
            self._proofs = 0
            self._confirm()
            return
        self._count = self.base + self._next
        self.state = ProtocolState.RESTING
        if self._next >= self._length:
            self._program = None
            events.append(Finished(self._next))
        else:
            events.append(Drained(self._next))

    def _send(self) -> None:
        assert self._program is not None
        self.state = ProtocolState.FEEDING
        self._complained, self._exact, self._count = None, False, None
        line = numbered(self.base + self._ahead + 1, self._program.command(self._ahead))
        self._out.append(line)
        self._due_s = self.now_s + self.wire.lines.wait_s
        self._spoken.append((True, line[:-1], False))
        self._window.add(len(line))
        self.wire.no_sample = self._ahead < self._out_to
        self._ahead += 1
        self._out_to = max(self._out_to, self._ahead)
        self.wire.sent += 1
        self.wire.sent_at_s = self.now_s
        self._told_overdue = False

    def _put(self, *lines: bytes) -> None:
        self._due_s = self.now_s + self.wire.lines.wait_s
        for line in lines:
            self._out.append(line + b"\n")
            self._spoken.append((True, line, True))

    def _set_count(self) -> None:
        """Set the count. A question after it shows that the machine has it. A question before it, where the count is
        known, shows a machine that has lost its count. No line of the program has gone out yet."""
        self.state = ProtocolState.COUNTING
        self._bursts += 1
        self.wire.asked_at_s = self.now_s if self._bursts == 1 else None
        number = self.base + self._next
        before = (QUESTION,) if self._count else ()
        burst = (*before, numbered(number, b"M110 N%d" % number)[:-1], QUESTION)
        self._oks, self._burst = 0, len(burst)
        self._put(*burst)

    def _confirm(self) -> None:
        """Ask whether the machine has taken all that was sent."""
        self.state = ProtocolState.CONFIRMING
        self.wire.asked_at_s = None if self._proofs else self.now_s
        self._put(QUESTION)

    def _ask(self, anew: bool = True, alone: bool = False) -> None:
        """Send a fence and a question. `anew` forgets what was said before; `alone` says that nothing else can still be
        on its way."""
        self._back_up()
        if anew:
            self._said_before = None
        self.state = ProtocolState.ASKING
        self.wire.asked_at_s, self._alone = self.now_s, alone
        self._fence = (self._fence + 1) % FENCES
        self._fence_seen, self._said, self._complained, self._oks = False, None, None, 0
        self._put(fence(self._fence), QUESTION)


@dataclass(frozen=True)
class Rule:
    """What follows an event in a state: in words, and the method that does it."""

    then: str
    do: Callable[..., Any]


@dataclass(frozen=True)
class StateRules:
    """What a state has sent, and what follows: an `ok`, the number of the line that the machine wants, silence."""

    sent: str
    ok: Rule
    wanted: Rule
    silence: Rule


_NOTHING = Rule("-", lambda *_: None)
_ASK = Rule("asking", LineProtocol._silence)

RULES = {
    ProtocolState.AWAY: StateRules("nothing", _NOTHING, _NOTHING, _NOTHING),
    ProtocolState.RESTING: StateRules("nothing", _NOTHING, _NOTHING, _NOTHING),
    ProtocolState.COUNTING: StateRules(
        "a question where a count is known, M110, a question",
        Rule("counting, once all were answered in vain", LineProtocol._ok_counting),
        Rule("recovering if it is the first line; asking after a second try", LineProtocol._wanted_counting),
        Rule("counting", LineProtocol._silence_counting),
    ),
    ProtocolState.FEEDING: StateRules(
        "lines from the first that is not acknowledged",
        Rule("feeding; confirming at the end", LineProtocol._ok_feeding),
        Rule("recovering if the one outstanding line was damaged; else asking", LineProtocol._wanted_feeding),
        _ASK,
    ),
    ProtocolState.RECOVERING: StateRules(
        "nothing",
        Rule("feeding", LineProtocol._ok_recovering),
        Rule("asking", LineProtocol._wanted_feeding),
        Rule("feeding", LineProtocol._silence_recovering),
    ),
    ProtocolState.CONFIRMING: StateRules(
        "a question",
        _NOTHING,
        Rule("recovering, then resting, if all are taken; else asking", LineProtocol._wanted_confirming),
        _ASK,
    ),
    ProtocolState.ASKING: StateRules(
        "a fence, a question",
        Rule("asking, once both were answered in vain", LineProtocol._ok_asking),
        Rule("recovering from that line, or resting without a program", LineProtocol._wanted_asking),
        Rule("asking", LineProtocol._silence_asking),
    ),
}
"""What each state does with what the machine says, and with silence."""
