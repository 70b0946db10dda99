"""The line protocol towards one machine, with no I/O: programs in, bytes out; bytes in, events out.

Two rules hold all of it up:

1.  Everything that acts is a numbered, check-summed line of a *program*. The machine takes line n only after line n - 1
    and names the one it expects when another comes; so however often a line is sent, it runs once, and in order.
2.  Before a program's first line the count is set with `M110`, which may be repeated without harm.

One line is outstanding at a time, or as many as fit `window_bytes` where the model says how much the machine buffers.
A line without an answer is sent again; the machine's count sorts out whether it was lost or its answer. The file's own
lines count from 1; programs of the tender's own (asides, heating off, parking) count from `OWN_BASE`, so that the two
can be told apart in any record of what a machine ran, and by a tender that was started anew.

After a repeat, when a line was refused with others behind it, or out of turn while another is outstanding, the link
*settles*: it listens until the wire is quiet and then goes by the last thing the machine said.

A plain `ok` does not say which line it is for, and one that comes twice puts the link ahead of the machine. So before
a program is left, at its end, for a pause or for an aside, the link *confirms* where the machine stands: it sends the
last line once more and goes on only when the machine answers that it wants the one after it, twice on a wire that has
shown trouble.

A new tender that finds a machine at work *asks*: it sends a line whose checksum is wrong on purpose, which no machine
runs, and believes the line number the machine then wants once it has said it twice alike.

The table, state x event -> state ("-" is: stay):

    state       sends            ok          resend      silence       quiet
    away        nothing          -           -           -             -
    resting     nothing          -           -           -             -
    numbering   M110 N(k)        feeding     recovering  numbering     -
    feeding     lines from n     feeding     recovering  feeding n     -
    recovering  nothing          as numbering or feeding, again        again
    settling    nothing          -           -           -             as the last answer says
    asking      a wrong line     -           -           asking        asking, or resting with what it said

Losing the connection leads to away from everywhere; a new one to resting without a program, to numbering where its
count was never set, else to feeding: the oldest outstanding line goes out again. `held` is not a state but a wish: with
it set, no new line follows; nor beyond the line that `until` names.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import Enum, auto
from functools import reduce
from operator import xor
from typing import NamedTuple, Protocol

from chronarch.core.answers import (
    Answer,
    Busy,
    Fault,
    LineComplaint,
    Ok,
    Resend,
    read_answer,
)

OWN_BASE = 900_000_000
"""Line numbers of the tender's own programs begin above this one."""

LONGEST_ANSWER = 4096
MOST_REPEATS = 25
GOES_BACK = 64
"""A machine that wants a line further back than this, and it is the first of all, has lost its count: it restarted."""

TRUSTED, TOO_BAD = 50, 8
"""A wire that damages so many of so many lines is not to be trusted: an eight-bit checksum lets about one in a hundred
of the lines pass that were damaged in more than one place."""

OUT_OF_TURN = LineComplaint(out_of_turn=True)

SUSPECT_AFTER = 2
"""Repeats of one line after which the machine is suspected not to listen."""


class Program(Protocol):
    """Commands by index, from 0; `command` gives one as it goes to the machine, `waits` are those at which the file
    asks for hands: they stop the feeding and are not sent."""

    @property
    def waits(self) -> Mapping[int, bytes]: ...

    def __len__(self) -> int: ...

    def command(self, index: int) -> bytes: ...


@dataclass(frozen=True)
class Steps:
    """A short program held in memory."""

    commands: Sequence[bytes]

    @property
    def waits(self) -> Mapping[int, bytes]:
        return {}

    def __len__(self) -> int:
        return len(self.commands)

    def command(self, index: int) -> bytes:
        return self.commands[index]


class Acknowledged(NamedTuple):
    """`taken` commands of the program are the machine's now."""

    taken: int


@dataclass(frozen=True)
class Finished:
    """The last command of the program has been taken."""


@dataclass(frozen=True)
class Drained:
    """Held: nothing is outstanding any more; `count` commands were taken."""

    count: int


@dataclass(frozen=True)
class OutOfStep:
    """The machine wants a line this program does not have, or the same one again and again."""

    text: str


@dataclass(frozen=True)
class Stands:
    """The machine was asked where it stands: the number of the line it wants, None when it does not say."""

    wants: int | None


@dataclass(frozen=True)
class LostCount:
    """The machine wants the very first line although it has taken many: it has restarted, unheard."""


@dataclass(frozen=True)
class BadWire:
    """Too many lines arrive damaged for the checksum to be trusted; `share` of the last ones."""

    share: float


@dataclass(frozen=True)
class Silent:
    """No answer to several repeats: the connection should be made anew."""


LinkEvent = Acknowledged | Finished | Drained | OutOfStep | Stands | LostCount | BadWire | Silent | Answer


class LinkState(Enum):
    AWAY = auto()
    RESTING = auto()
    NUMBERING = auto()
    FEEDING = auto()
    RECOVERING = auto()
    SETTLING = auto()
    ASKING = auto()


_UNDER_WAY = frozenset(
    {LinkState.NUMBERING, LinkState.FEEDING, LinkState.RECOVERING, LinkState.SETTLING, LinkState.ASKING}
)


def checksum(body: bytes) -> int:
    """The XOR of all bytes before the asterisk."""
    return reduce(xor, body, 0)


def numbered(number: int, command: bytes) -> bytes:
    """A command as it goes over the wire: number, command, checksum, end of line.

    >>> numbered(3, b"G28")
    b'N3 G28*18\\n'
    """
    body = b"N%d %s" % (number, command)
    return b"%s*%d\n" % (body, checksum(body))


QUESTION = b"N0 M105*%d" % (checksum(b"N0 M105") ^ 1)
"""A line that no machine takes, for its checksum is wrong: the answer names the line it wants."""

_OK = Ok()

Spoken = tuple[bool, bytes, bool]
"""One line: whether it was sent, its text, and whether it belongs to finding out where the machine stands, where a
complaint is no trouble."""

_HEARD_OK: Spoken = (False, b"ok", False)


class LineLink:
    """Feeds programs to one machine. Times are real seconds from any start.

    `answer_timeout_s` is how long a line may go without `ok` or `busy` before it is sent again; `quiet_s` how long
    the wire must be silent after a repeat before its answers are believed; `window_bytes` how much may be outstanding,
    0 for one line.
    """

    def __init__(self, answer_timeout_s: float = 3.0, quiet_s: float = 0.2, window_bytes: int = 0) -> None:
        self.state = LinkState.AWAY
        self.resends = 0
        self._timeout_s = answer_timeout_s
        self._quiet_s = quiet_s
        self._window = window_bytes
        self._spoken: list[Spoken] = []
        self._program: Program | None = None
        self._length = 0
        self.base = 0
        """The number before the present program's first line."""
        self._own_programs = 0
        self._next = 0
        self._ahead = 0
        self._limit: int | None = None
        self._waiting: deque[int] = deque()
        self._waiting_bytes = 0
        self._furthest = 0
        self._out_to = 0
        self._untouched = True
        self._counted = False
        self._held = False
        self._confirming = False
        self._confirmed = False
        self._proofs = 0
        self._troubled = False
        self._numbered_oks = False
        self._complained: LineComplaint | None = None
        self._repeated = False
        self._repeats = 0
        self._start = 0
        self._stray: tuple[int, int] | None = None
        self._first_wanted = -1
        self._known_count = False
        self._sent = 0
        self._complaints: deque[int] = deque(maxlen=TOO_BAD)
        self._said: int | None = None
        self._said_before: int | None = None
        self._out: list[bytes] = []
        self._partial = b""
        self._due_s = 0.0

    @property
    def program(self) -> Program | None:
        return self._program

    @property
    def acknowledged(self) -> int:
        """Commands of the present program the machine has taken."""
        return self._next

    @property
    def furthest(self) -> int:
        """Commands of the present program that have been sent at least once, or are about to be."""
        return max(self._furthest + 1, self._ahead) if self._counted else self._next

    @property
    def suspect(self) -> bool:
        """Whether the machine has left a line without an answer for so long that it may not be listening."""
        return self.state in _UNDER_WAY and self._repeats >= SUSPECT_AFTER

    def load(
        self, program: Program, at: int = 0, *, own: bool = True, until: int | None = None, base: int | None = None
    ) -> None:
        """Feed `program` from its command `at`, in place of what was loaded, and stand before command `until` as if
        held there; `base` takes up a program of an earlier link's. Nothing may be outstanding."""
        if self.state in _UNDER_WAY:
            raise RuntimeError("A program can be loaded only while no line is outstanding.")
        self._program, self._length = program, len(program)
        self._start = self._next = self._ahead = self._furthest = self._out_to = at
        self._limit = until
        self._stray = None
        self._forget_waiting()
        if base is not None:
            self.base = base
            self._own_programs = max(0, (base - OWN_BASE) // 1000)
        else:
            self.base = self._own_base() if own else 0
        self._counted = self._held = self._confirming = self._confirmed = self._repeated = False
        self._troubled = False
        self._untouched = True
        self._repeats = self._proofs = 0
        if self.state is LinkState.RESTING:
            self._go_on([])

    def _own_base(self) -> int:
        """Numbers the last programs of the tender's own did not have, so that their counts cannot be mixed up."""
        self._own_programs = (self._own_programs + 1) % 1000
        return OWN_BASE + 1000 * self._own_programs

    def swap(self, program: Program) -> None:
        """Go on with another program whose commands up to `furthest` are those of the present one."""
        self._program, self._length = program, len(program)

    def until(self, index: int | None) -> None:
        """Stand before command `index` as if held there; None takes that back. What is sent already goes on."""
        self._limit = index

    def hold(self) -> list[LinkEvent]:
        """Send no further line; `Drained` tells when none is outstanding, at once if so already."""
        self._held = True
        if self.state is LinkState.RESTING or self._program is None:
            return [Drained(self._next)]
        return []

    def drop(self) -> None:
        """Forget the program and whatever is outstanding: what follows starts with a fresh count."""
        self._program = None
        if self.state is not LinkState.AWAY:
            self.state = LinkState.RESTING

    def ask(self) -> None:
        """Find out which line the machine wants; `Stands` tells. Nothing may be loaded."""
        if self.state is not LinkState.RESTING or self._program is not None:
            raise RuntimeError("The machine can be asked only while nothing is loaded and the link stands.")
        self._said = self._said_before = None
        self._repeats = 0
        self.state = LinkState.ASKING
        self._put_question()

    def connected(self) -> None:
        self._partial = b""
        self._repeats = 0
        self.state = LinkState.RESTING
        if self._program is not None:
            self._repeated = self._counted
            self._again()

    def disconnected(self) -> None:
        self.state = LinkState.AWAY
        self._out.clear()

    def urgent(self, command: bytes) -> None:
        """Put a command before everything, outside the count: for what firmwares take at once (M108, M112)."""
        self._out.insert(0, command + b"\n")
        self._spoken.append((True, command, False))

    def outgoing(self) -> bytes:
        """The bytes to write now; they are handed out once."""
        out = self._out
        if not out:
            return b""
        data = out[0] if len(out) == 1 else b"".join(out)
        out.clear()
        return data

    def spoken(self) -> list[Spoken]:
        """Every line since last asked, oldest first."""
        spoken, self._spoken = self._spoken, []
        return spoken

    def receive(self, data: bytes, now_s: float) -> list[LinkEvent]:
        """Take bytes from the machine."""
        events: list[LinkEvent] = []
        if data == b"ok\n" and not self._partial:
            self._spoken.append(_HEARD_OK)
            plain = self.state is LinkState.FEEDING and not (self._complained or self._repeated or self._numbered_oks)
            if plain and self._ahead == self._next + 1:
                self._plainly_taken(events)
            else:
                self._answered(_OK, events, now_s)
            if self._out:
                self._due_s = now_s + self._timeout_s
            return events
        *lines, self._partial = (self._partial + data).split(b"\n")
        if len(self._partial) > LONGEST_ANSWER:
            self._partial = b""
        for raw in lines:
            raw = raw[:LONGEST_ANSWER].strip()
            self._spoken.append((False, raw, self._confirming or self.state is LinkState.ASKING))
            if raw == b"ok":
                self._answered(_OK, events, now_s)
                continue
            for answer in read_answer(raw.decode("ascii", "replace")):
                self._answered(answer, events, now_s)
        if self._out:
            self._due_s = now_s + self._timeout_s
        return events

    def _plainly_taken(self, events: list[LinkEvent]) -> None:
        """The one line that was outstanding is taken and nothing is amiss: what `_ok` does, by the shortest way, for
        this is what nearly every answer is."""
        assert self._program is not None
        self._next = count = self._ahead
        self._repeats = 0
        self._first_wanted = -1
        events.append(Acknowledged(count))
        last = self._length if self._limit is None else min(self._limit, self._length)
        if count >= last or self._held or self._window:
            self._forget_waiting()
            self._furthest = max(self._furthest, count)
            self._go_on(events)
            return
        # one taken, one sent: as many wait as before
        line = numbered(self.base + count + 1, self._program.command(count))
        self._out.append(line)
        self._spoken.append((True, line[:-1], False))
        self._ahead = count + 1
        self._furthest = max(self._furthest, count)
        self._confirmed = False
        self._sent += 1

    def tick(self, now_s: float) -> list[LinkEvent]:
        """Let time pass: an outstanding line without an answer goes out again."""
        if self.state not in _UNDER_WAY:
            return []
        if self._out:
            self._due_s = now_s + self._timeout_s
            return []
        if now_s < self._due_s:
            return []
        events: list[LinkEvent] = []
        self._due_s = now_s + self._timeout_s
        if self.state is LinkState.ASKING:
            self._asked(events)
            return events
        if self.state is LinkState.SETTLING:
            self._settled(events)
            return events
        if self.state is LinkState.RECOVERING and self._confirmed:
            self._go_on(events)
            return events
        if self._too_often("gave no usable answer", events):
            return events
        if self._repeats % 5 == 0:
            return [Silent()]
        self._repeated = self._troubled = True
        self._again()
        return events

    def _answered(self, answer: Answer, events: list[LinkEvent], now_s: float) -> None:
        match answer:
            case Ok() | Resend() if self.state is LinkState.ASKING:
                if isinstance(answer, Resend):
                    self._said = answer.number
                    self._due_s = now_s + self._quiet_s
            case Ok() if self._complained and self.state in (LinkState.NUMBERING, LinkState.FEEDING):
                # A complaint whose request to resend was lost: this ok does not take the line.
                self._repeated = True
                self._again()
            case Resend() if (
                self._confirming and self.state is not LinkState.AWAY and self._stands_right(answer.number)
            ):
                # The machine wants the very next line, which never went out: it has all before, whatever else is on
                # its way. On a wire that damages lines this very number may be damaged, so there it must be said twice.
                self._proofs += 1
                if self._proofs < (2 if self._troubled else 1):
                    self._confirm()
                    return
                self._confirming = self._repeated = False
                self._confirmed = True
                self.state = LinkState.RECOVERING
                self._due_s = now_s + self._quiet_s
            case Resend() if self._ahead > self._next + 1 and self.state is LinkState.FEEDING and self._counted:
                self._listen(answer, now_s)
            case Resend() if self._complained == OUT_OF_TURN and self._is_outstanding(answer.number):
                # The line that is wanted cannot be the one that was out of turn: that was an earlier one, come twice,
                # and this one may well be on its way. Sent at once, it too would come twice, and so on for ever.
                self._listen(answer, now_s)
            case Ok() | Resend() if self._repeated and self.state in _UNDER_WAY:
                self._listen(answer, now_s)
            case Resend() if self._counted and self.state in _UNDER_WAY and not self._can_want(answer.number):
                # A number of another program's: an answer from before this one, unless it is said on a quiet wire too.
                self._listen(answer, now_s)
            case Ok():
                self._ok(answer, events)
            case Resend():
                self._resend(answer, events)
            case Busy():
                self._due_s = now_s + self._timeout_s
            case Fault() if self._sent - (self._complaints[0] if len(self._complaints) > 2 else -TRUSTED) < TRUSTED:
                # On a wire that damages lines, what cannot be read is a damaged complaint rather than a fault.
                self._answered(LineComplaint(), events, now_s)
            case LineComplaint():
                self._complained = answer
                if not self._confirming and self.state is not LinkState.ASKING:
                    self._troubled = True
                    if not answer.out_of_turn:
                        self._count_complaint(events)
            case _:
                events.append(answer)

    def _count_complaint(self, events: list[LinkEvent]) -> None:
        self._complaints.append(self._sent)
        seen = self._sent - self._complaints[0]
        if len(self._complaints) == TOO_BAD and seen <= TRUSTED:
            events.append(BadWire(TOO_BAD / max(seen, TOO_BAD)))
            self._complaints.clear()

    def _is_outstanding(self, number: int) -> bool:
        """Whether a number is that of the one line that is outstanding."""
        feeding = self.state is LinkState.FEEDING and self._counted
        return feeding and number == self.base + self._next + 1 and self._ahead == self._next + 1

    def _stands_right(self, number: int) -> bool:
        """Whether the machine wants the first line that is not acknowledged, and certainly: where that line has been
        sent before, it may be on its way or taken, and this answer one to what was sent before it."""
        return number == self.base + self._next + 1 and max(self._out_to, self._ahead) <= self._next

    def _ok(self, answer: Ok, events: list[LinkEvent]) -> None:
        if self.state is LinkState.FEEDING:
            count = self._next + 1
            if answer.number is not None:
                # A number tells of all lines up to it; one that was told before tells nothing.
                count = answer.number - self.base
                if not self._next < count <= self._ahead:
                    return
                self._numbered_oks = True
            elif self._numbered_oks or self._next >= self._ahead:
                return
            self._taken(count, events)
            self._go_on(events)
        elif self.state is LinkState.NUMBERING:
            self._counted = True
            self._repeats = 0
            self._go_on(events)
        elif self.state is LinkState.RECOVERING:
            self._go_on(events)

    def _resend(self, answer: Resend, events: list[LinkEvent]) -> None:
        if self.state not in (LinkState.NUMBERING, LinkState.FEEDING, LinkState.RECOVERING):
            return
        self.resends += 1
        self._troubled = True
        if self._counted:
            self._wanted(answer.number, events)
        if self._program is not None:
            self._back_up()
            self.state = LinkState.RECOVERING

    def _wanted(self, number: int, events: list[LinkEvent]) -> None:
        """Go to the line the machine asks for; a number that cannot be (damaged on the way) changes nothing."""
        assert self._program is not None
        index = number - self.base - 1
        if number == 1 and self._has_lost_count(events):
            return
        if not self._can_want(number):
            self._astray(number)
        if index == self._next + 1 and index <= self._length:
            self._taken(index, events)
        elif self._too_often(f"asks for line {number} again and again", events):
            return
        elif self._next < index <= min(self._furthest + 1, self._length):
            self._taken(index, events)
        elif self._start <= index <= self._next:
            self._next = index

    def _can_want(self, number: int) -> bool:
        """Whether a number is one of the present program's."""
        return self._start <= number - self.base - 1 <= self._length

    def _has_lost_count(self, events: list[LinkEvent]) -> bool:
        """Whether a wish for the first line of all is not to be believed as it is: the machine had a count and is not
        just at the beginning. Said of a second sending too, it has restarted."""
        before, self._first_wanted = self._first_wanted, self._sent
        begun = self.base + self._next > GOES_BACK if self._start == 0 and not self.base else self._known_count
        if not begun:
            return False
        if before not in (-1, self._sent):
            self.drop()
            self._known_count = False
            events.append(LostCount())
        return True

    def _astray(self, number: int) -> None:
        """The machine counts in another program's numbers. Said alike of two lines it is no damage: the machine never
        had this program's count, and so none of its lines."""
        before, self._stray = self._stray, (number, self._sent)
        if before is not None and before[0] == number and before[1] != self._sent:
            self._next = self._furthest = self._start
            self._counted = self._confirming = False
            self._stray = None

    def _listen(self, answer: Ok | Resend, now_s: float) -> None:
        if self.state is not LinkState.SETTLING:
            self.state = LinkState.SETTLING
            self._said = None
        self._repeated = True
        if isinstance(answer, Resend):
            self._said = answer.number
        self._due_s = now_s + self._quiet_s

    def _settled(self, events: list[LinkEvent]) -> None:
        self._repeated = False
        self.state = LinkState.RECOVERING
        self._back_up()
        if not self._counted:
            self._counted = self._said is None
        elif self._confirming:
            if self._said is None:
                if not self._too_often("does not say where it stands", events):
                    self._confirm()
                return
            self._confirming = False
            self._wanted(self._said, events)
        elif self._said is None:
            self._taken(self._next + 1, events)
        else:
            self.resends += 1
            self._wanted(self._said, events)
        self._back_up()
        if self._said == self.base + self._next + 1:
            self._out_to = self._next  # the wire is quiet, and the machine wants just that
        if self.state is LinkState.RECOVERING:
            self._go_on(events)

    def _asked(self, events: list[LinkEvent]) -> None:
        """The wire is quiet after a question: believe what was said twice alike, else ask again."""
        said, self._said = self._said, None
        if said is not None and said == self._said_before:
            self._known_count = True
            self.state = LinkState.RESTING
            self._repeats = 0
            events.append(Stands(said))
            return
        self._said_before = said
        self._repeats += 1
        if self._repeats > MOST_REPEATS:
            self.state = LinkState.RESTING
            events.append(Stands(None))
        else:
            self.state = LinkState.ASKING
            self._put_question()

    def _taken(self, count: int, events: list[LinkEvent]) -> None:
        for _ in range(self._next, min(count, self._next + len(self._waiting))):
            self._waiting_bytes -= self._waiting.popleft()
        self._next = count
        self._first_wanted = -1
        if count > self._ahead:
            self._ahead = count
        if count > self._furthest:
            self._furthest = count
        self._repeats = 0
        events.append(Acknowledged(count))

    def _forget_waiting(self) -> None:
        self._waiting.clear()
        self._waiting_bytes = 0

    def _back_up(self) -> None:
        """Nothing counts as sent any more: the next line to go out is the first that is not acknowledged."""
        self._out_to = max(self._out_to, self._ahead)
        self._ahead = self._next
        self._forget_waiting()

    def _too_often(self, what: str, events: list[LinkEvent]) -> bool:
        self._repeats += 1
        if self._repeats <= MOST_REPEATS:
            return False
        self.drop()
        events.append(OutOfStep(f"the machine {what}; {MOST_REPEATS} repeats did not help"))
        return True

    def _go_on(self, events: list[LinkEvent]) -> None:
        """Send what comes next, or tell that there is nothing more."""
        if self._program is None:
            return
        if not self._counted:
            self._number()
            return
        last = self._length if self._limit is None else min(self._limit, self._length)
        if not self._held:
            while self._ahead < last and self._room():
                self._send()
        if self._ahead > self._next:
            return
        if not (self._confirmed or self._untouched):
            self._confirm()
        elif self._next >= self._length:
            self._program = None
            self._known_count = True
            self.state = LinkState.RESTING
            events.append(Finished())
        else:
            self._known_count = True
            self.state = LinkState.RESTING
            events.append(Drained(self._next))

    def _room(self) -> bool:
        """Whether one more line may be outstanding. A line's exact length is not known before it is made, so what is
        usual stands for it."""
        if not self._waiting:
            return self._ahead == self._next
        return bool(self._window) and self._waiting_bytes + max(self._waiting) <= self._window and not self._repeated

    def _again(self) -> None:
        """Send the oldest line that is outstanding once more, alone."""
        if not self._counted:
            self._number()
        elif self._confirming or self._next >= self._length:
            self._confirm()
        elif self._ahead > self._next or self._repeated:
            self._back_up()
            self._send()
        else:
            self._go_on([])

    def _send(self) -> None:
        self._confirming = self._confirmed = False
        self._proofs = 0
        size = self._put(self._ahead)
        self._waiting.append(size)
        self._waiting_bytes += size
        self._ahead += 1

    def _confirm(self) -> None:
        """Ask where the machine stands: by the last line once more, or, before the first, by one it cannot take."""
        self._confirming = self._repeated = True
        if self._next:
            self._put(self._next - 1)
        else:
            self.state = LinkState.FEEDING
            self._complained = None
            self._put_question()

    def _put(self, index: int) -> int:
        assert self._program is not None
        self.state = LinkState.FEEDING
        self._complained, self._untouched = None, False
        self._sent += 1
        if index > self._furthest:
            self._furthest = index
        line = numbered(self.base + index + 1, self._program.command(index))
        self._out.append(line)
        self._spoken.append((True, line[:-1], self._confirming))
        return len(line)

    def _number(self) -> None:
        self.state = LinkState.NUMBERING
        self._complained = None
        number = self.base + self._next
        line = numbered(number, b"M110 N%d" % number)
        self._out.append(line)
        self._spoken.append((True, line[:-1], self._confirming))

    def _put_question(self) -> None:
        self._out.append(QUESTION + b"\n")
        self._spoken.append((True, QUESTION, True))
