"""The line protocol towards one machine, with no I/O: programs in, bytes out; bytes in, events out.

Two rules hold all of it up:

1.  Everything that acts is a numbered, check-summed line of a *program*, and one line is outstanding at a time.
    The machine takes line n only after line n - 1 and names the one it expects when another comes; so however
    often a line is sent, it runs once, and in order.
2.  Before a program's first line the count is set with `M110`, which may be repeated without harm.

A line without an answer is sent again; the machine's count sorts out whether the first was lost or its answer.
The file's own lines count from 1; programs of the tender's own (heating off, parking) count from `OWN_BASE`, so
that the two can be told apart in any record of what a machine ran.

A line without an answer may have been lost, or its answer may have been, or be late. After a repeat the link
therefore *settles*: it listens until the wire is quiet and then goes by the last thing the machine said.

A plain `ok` does not say which line it is for, and one that comes twice puts the link ahead of the machine. So before
a program is left, at its end or for a pause, the link *confirms* where the machine stands: it sends the last line
once more and goes on only when the machine answers that it wants the one after it. Machines that number their `ok`
need no confirming.

The table, state x event -> state ("-" is: stay):

    state       sends            ok          resend      silence       quiet
    away        nothing          -           -           -             -
    resting     nothing          -           -           -             -
    numbering   M110 N(k)        feeding     recovering  numbering     -
    feeding     line n           feeding n+1 recovering  feeding n     -
    recovering  nothing          as numbering or feeding, again        -
    settling    nothing          -           -           -             as the last answer says

Losing the connection leads to away from everywhere; a new one to resting without a program, to numbering where its
count was never set, else to feeding: the outstanding line goes out again. `held` is not a state but a wish: with it
set, no new line follows an ok.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum, auto
from typing import Protocol

from chronarch.core.answers import (
    Answer,
    Busy,
    Chatter,
    LineComplaint,
    Ok,
    Resend,
    read_answer,
)

OWN_BASE = 900_000_000
"""Line numbers of the tender's own programs begin above this one."""

LONGEST_ANSWER = 4096
MOST_REPEATS = 25
LOG_LINES = 500


class Program(Protocol):
    """Commands by index, from 0; `command` gives one as it goes to the machine."""

    def __len__(self) -> int: ...

    def command(self, index: int) -> bytes: ...


@dataclass(frozen=True)
class Steps:
    """A short program held in memory."""

    commands: Sequence[bytes]

    def __len__(self) -> int:
        return len(self.commands)

    def command(self, index: int) -> bytes:
        return self.commands[index]


@dataclass(frozen=True)
class Acknowledged:
    """`count` commands of the program have been taken by the machine."""

    count: int


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
class Silent:
    """No answer to several repeats: the connection should be made anew."""


LinkEvent = Acknowledged | Finished | Drained | OutOfStep | Silent | Answer


class LinkState(Enum):
    AWAY = auto()
    RESTING = auto()
    NUMBERING = auto()
    FEEDING = auto()
    RECOVERING = auto()
    SETTLING = auto()


_UNDER_WAY = (LinkState.NUMBERING, LinkState.FEEDING, LinkState.RECOVERING, LinkState.SETTLING)


def checksum(body: bytes) -> int:
    """The XOR of all bytes before the asterisk."""
    value = 0
    for byte in body:
        value ^= byte
    return value


def numbered(number: int, command: bytes) -> bytes:
    """A command as it goes over the wire: number, command, checksum, end of line.

    >>> numbered(3, b"G28")
    b'N3 G28*18\\n'
    """
    body = b"N%d %s" % (number, command)
    return b"%s*%d\n" % (body, checksum(body))


class LineLink:
    """Feeds programs to one machine. Times are real seconds from any start.

    `answer_timeout_s` is how long a line may go without `ok` or `busy` before it is sent again; `quiet_s` how long
    the wire must be silent after a repeat before its answers are believed.
    """

    def __init__(self, answer_timeout_s: float = 3.0, quiet_s: float = 0.2) -> None:
        self.state = LinkState.AWAY
        self.log: deque[tuple[str, str]] = deque(maxlen=LOG_LINES)
        self.resends = 0
        self._timeout_s = answer_timeout_s
        self._quiet_s = quiet_s
        self._program: Program | None = None
        self._base = 0
        self._own_programs = 0
        self._next = 0
        self._furthest = 0
        self._counted = False
        self._held = False
        self._confirming = False
        self._confirmed = False
        self._numbered_oks = False
        self._complained = False
        self._repeated = False
        self._repeats = 0
        self._start = 0
        self._stray: tuple[int, int] | None = None
        self._sent = 0
        self._said: int | None = None
        self._out = bytearray()
        self._partial = b""
        self._due_s = 0.0

    @property
    def program(self) -> Program | None:
        return self._program

    @property
    def acknowledged(self) -> int:
        """Commands of the present program the machine has taken."""
        return self._next

    def load(self, program: Program, at: int = 0, *, own: bool = True) -> None:
        """Feed `program` from its command `at`, in place of what was loaded. Nothing may be outstanding."""
        if self.state in _UNDER_WAY:
            raise RuntimeError("A program can be loaded only while no line is outstanding.")
        self._program, self._start, self._next, self._furthest = program, at, at, at
        self._stray = None
        self._base = self._own_base() if own else 0
        self._counted = self._held = self._confirming = self._confirmed = self._repeated = False
        self._repeats = 0
        if self.state is LinkState.RESTING:
            self._go_on([])

    def _own_base(self) -> int:
        """Numbers the last programs of the tender's own did not have, so that their counts cannot be mixed up."""
        self._own_programs = (self._own_programs + 1) % 1000
        return OWN_BASE + 1000 * self._own_programs

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
        self._out[:0] = command + b"\n"
        self.log.append((">", command.decode("ascii", "replace")))

    def outgoing(self) -> bytes:
        """The bytes to write now; they are handed out once."""
        data = bytes(self._out)
        self._out.clear()
        return data

    def receive(self, data: bytes, now_s: float) -> list[LinkEvent]:
        """Take bytes from the machine."""
        events: list[LinkEvent] = []
        *lines, self._partial = (self._partial + data).split(b"\n")
        if len(self._partial) > LONGEST_ANSWER:
            self._partial = b""
        for raw in lines:
            text = raw[:LONGEST_ANSWER].decode("ascii", "replace").strip()
            for answer in read_answer(text):
                if not isinstance(answer, Ok):
                    self.log.append(("<", text))
                self._answered(answer, events, now_s)
        if self._out:
            self._due_s = now_s + self._timeout_s
        return events

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
        if self.state is LinkState.SETTLING:
            self._settled(events)
            return events
        if self._too_often("gave no usable answer", events):
            return events
        if self._repeats % 5 == 0:
            return [Silent()]
        self._repeated = True
        self._again()
        return events

    def _answered(self, answer: Answer, events: list[LinkEvent], now_s: float) -> None:
        match answer:
            case Ok() if self._complained and self.state in (LinkState.NUMBERING, LinkState.FEEDING):
                # A complaint whose request to resend was lost: this ok does not take the line.
                self._repeated = True
                self._again()
            case Ok() | Resend() if self._repeated and self.state in _UNDER_WAY:
                self._listen(answer, now_s)
            case Ok():
                self._ok(answer, events)
            case Resend():
                self._resend(answer, events)
            case Busy():
                self._due_s = now_s + self._timeout_s
            case LineComplaint():
                self._complained = True
            case Chatter():
                pass
            case _:
                events.append(answer)

    def _ok(self, answer: Ok, events: list[LinkEvent]) -> None:
        if self.state is LinkState.NUMBERING:
            self._counted = True
            self._repeats = 0
            self._go_on(events)
        elif self.state is LinkState.RECOVERING:
            self._go_on(events)
        elif self.state is LinkState.FEEDING and answer.number in (None, self._base + self._next + 1):
            self._numbered_oks = answer.number is not None
            self._taken(self._next + 1, events)
            self._go_on(events)

    def _resend(self, answer: Resend, events: list[LinkEvent]) -> None:
        if self.state not in (LinkState.NUMBERING, LinkState.FEEDING, LinkState.RECOVERING):
            return
        self.resends += 1
        if self._counted:
            self._wanted(answer.number, events)
        if self._program is not None:
            self.state = LinkState.RECOVERING

    def _wanted(self, number: int, events: list[LinkEvent]) -> None:
        """Go to the line the machine asks for; a number that cannot be (damaged on the way) changes nothing."""
        assert self._program is not None
        index = number - self._base - 1
        if not self._start <= index <= len(self._program):
            self._astray(number)
        if index == self._next + 1 and index <= len(self._program):
            self._taken(index, events)
        elif self._too_often(f"asks for line {number} again and again", events):
            return
        elif self._next < index <= min(self._furthest + 1, len(self._program)):
            self._taken(index, events)
        elif self._start <= index <= self._next:
            self._next = index

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
        if isinstance(answer, Resend):
            self._said = answer.number
        self._due_s = now_s + self._quiet_s

    def _settled(self, events: list[LinkEvent]) -> None:
        self._repeated = False
        self.state = LinkState.RECOVERING
        if not self._counted:
            self._counted = self._said is None
        elif self._confirming:
            self._confirmed = self._said == self._base + self._next + 1
            if self._said is None:
                if not self._too_often("does not say where it stands", events):
                    self._confirm()
                return
            self._confirming = False
            if not self._confirmed:
                self._wanted(self._said, events)
        elif self._said is None:
            self._taken(self._next + 1, events)
        else:
            self.resends += 1
            self._wanted(self._said, events)
        if self.state is LinkState.RECOVERING:
            self._go_on(events)

    def _taken(self, count: int, events: list[LinkEvent]) -> None:
        self._next = count
        self._furthest = max(self._furthest, count)
        self._repeats = 0
        events.append(Acknowledged(count))

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
        elif self._next < len(self._program) and not self._held:
            self._send()
        elif not (self._confirmed or self._numbered_oks or self._next == 0):
            self._confirm()
        elif self._next >= len(self._program):
            self._program = None
            self.state = LinkState.RESTING
            events.append(Finished())
        else:
            self.state = LinkState.RESTING
            events.append(Drained(self._next))

    def _again(self) -> None:
        """Send what is outstanding once more."""
        if not self._counted:
            self._number()
        elif self._confirming or (self._program is not None and self._next >= len(self._program)):
            self._confirm()
        else:
            self._send()

    def _send(self) -> None:
        self._confirming = self._confirmed = False
        self._put(self._next)

    def _confirm(self) -> None:
        """Ask where the machine stands, by the last line once more."""
        self._confirming = self._repeated = True
        self._put(self._next - 1)

    def _put(self, index: int) -> None:
        assert self._program is not None
        self.state = LinkState.FEEDING
        self._complained = False
        self._sent += 1
        command = self._program.command(index)
        self._furthest = max(self._furthest, index)
        self._out += numbered(self._base + index + 1, command)
        if self._base and not self._confirming:
            self.log.append((">", command.decode("ascii", "replace")))

    def _number(self) -> None:
        self.state = LinkState.NUMBERING
        self._complained = False
        number = self._base + self._next
        self._out += numbered(number, b"M110 N%d" % number)
