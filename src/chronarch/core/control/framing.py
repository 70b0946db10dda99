"""One line as it goes over the wire, and the two lines that only ask: no machine runs either of them."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import reduce
from operator import xor
from typing import Protocol

FIRST_OWN_LINE_NUMBER = 900_000_000
"""Line numbers of the tender's own programs begin above this one."""


class Program(Protocol):
    """Commands by index, from 0. `command` gives one as it goes to the machine. `waits` are the commands at which the
    file asks for a person: they stop the feeding and are not sent. `says` are the places of those that say something
    at the machine, in order."""

    @property
    def waits(self) -> Mapping[int, bytes]: ...

    @property
    def says(self) -> Sequence[int]: ...

    def __len__(self) -> int: ...

    def command(self, index: int) -> bytes: ...


@dataclass(frozen=True)
class CommandSequence:
    """A short program held in memory."""

    commands: Sequence[bytes]

    @property
    def waits(self) -> Mapping[int, bytes]:
        return {}

    @property
    def says(self) -> Sequence[int]:
        return ()

    def __len__(self) -> int:
        return len(self.commands)

    def command(self, index: int) -> bytes:
        return self.commands[index]


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


QUESTION = b"N0 M105*%d" % (checksum(b"N0 M105") ^ 0x80)
"""A line that no machine takes, for its checksum is wrong: the answer names the line the machine wants. It is wrong by
the highest bit, so that no other plain byte in place of one of its own can make it right."""

FENCES = 5000
_FENCE = re.compile(rb"\bQ[5-9]\d{3}\b")


def fence(number: int) -> bytes:
    """A word that no machine knows: its complaint names the word, and a wire delivers in order, so everything that was
    sent before it has been answered by then. Damage to one of its bytes makes no word that a machine knows.

    >>> fence(7)
    b'Q5007'
    """
    return b"Q%d" % (5000 + number % FENCES)


def fence_in(line: bytes) -> bytes | None:
    """The fence that a machine's line names, if it names one.

    >>> fence_in(b'echo:Unknown command: "Q5007"')
    b'Q5007'
    """
    found = _FENCE.search(line)
    return found[0] if found else None


_LONGEST_S = {
    **dict.fromkeys(("G28", "T"), 180.0),
    **dict.fromkeys(("G29", "G30", "G32", "G33", "G34", "M48"), 1200.0),
    **dict.fromkeys(("M109", "M190", "M191", "M116", "M303", "M600", "M601"), 2400.0),
    **dict.fromkeys(("G", "G1", "G2", "G3", "G5", "M400"), 600.0),
}
"""How long a command may plausibly take, in seconds of the machine."""
OTHERS_LONGEST_S = 60.0
_DWELL = re.compile(rb"G0?4\b.*?([SP])\s*([\d.]+)", re.IGNORECASE)
_WORD = re.compile(rb"^\s*([A-Za-z])0*(\d*)")


def longest_s(command: bytes) -> float:
    """How long a machine may plausibly take for a command before something is wrong, in seconds.
    >>> longest_s(b"M190 S60"), longest_s(b"G4 S90"), longest_s(b"M105")
    (2400.0, 150.0, 60.0)"""
    dwell = _DWELL.match(command)
    if dwell:
        try:
            asked = float(dwell[2]) / (1000 if dwell[1].upper() == b"P" else 1)
        except ValueError:
            asked = 0.0
        return OTHERS_LONGEST_S + min(asked, 86_400.0)
    word = _WORD.match(command)
    if word is None:
        return OTHERS_LONGEST_S
    letter = word[1].decode().upper()
    return _LONGEST_S.get("T" if letter == "T" else f"{letter}{word[2].decode()}", OTHERS_LONGEST_S)


def silent_s(command: bytes) -> float:
    """How long a machine may plausibly say nothing during a command, in seconds. 0 for commands that are answered at
    once."""
    word = _WORD.match(command)
    moves = word is not None and word[1] in b"Gg" and word[2] in (b"", b"1", b"2", b"3", b"5")
    longest = longest_s(command)
    return 0.0 if moves or longest <= OTHERS_LONGEST_S else longest
