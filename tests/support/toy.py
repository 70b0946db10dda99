"""A firmware in a few lines, and a wire to it that damages, loses, repeats and delays what it carries, but never
changes its order."""

from __future__ import annotations

import random
import re
from collections import deque


class ToyMachine:
    """The rules of a firmware in a few lines, with a wire that damages, loses and repeats lines."""

    def __init__(
        self, seed: int, damage: float = 0.0, lose: float = 0.0, repeat: float = 0.0, numbered_oks: bool = False,
        names: bool = True,
    ) -> None:  # fmt: skip
        self.random = random.Random(seed)
        self.damage, self.lose, self.repeat = damage, lose, repeat
        self.numbered_oks, self.names = numbered_oks, names
        self.last = 0
        self.ran: list[bytes] = []
        self.dumb = False
        """Answers ok and nothing else, and takes nothing."""
        self.reports = True
        self.asked_heat = 0

    def wire(self, line: bytes) -> list[bytes]:
        """What arrives of one line."""
        luck = self.random.random()
        if luck < self.lose:
            return []
        if luck < self.lose + self.damage:
            at = self.random.randrange(len(line) - 1)
            line = line[:at] + bytes([self.random.randrange(33, 127)]) + line[at + 1 :]
        return [line, line] if self.random.random() < self.repeat else [line]

    def take(self, data: bytes) -> bytes:
        out = b""
        for sent in data.splitlines(keepends=True):
            for line in self.wire(sent):
                for answer in self.answer(line.strip()):
                    out += b"".join(self.wire(answer))
        return out

    def answer(self, line: bytes) -> list[bytes]:
        if self.dumb:
            return [b"ok\n"]
        if b"*" not in line and not line.startswith(b"N"):
            return [b'echo:Unknown command: "%s"\n' % line, b"ok\n"] if self.names else [b"ok\n"]
        found = re.fullmatch(rb"N(\d+) (.*)\*(\d+)", line)
        given = re.search(rb"\*(\d+)$", line)
        body = line[: line.rfind(b"*")]
        total = 0
        for byte in body:
            total ^= byte
        if not found or not given or int(given[1]) != total:
            return self.refuse(b"checksum mismatch")
        number, command = int(found[1]), found[2]
        if command.startswith(b"M110"):
            self.last = int(command.split(b"N")[1])
            return [b"ok\n"]
        if number != self.last + 1:
            return self.refuse(b"line number is not the last line number + 1")
        self.last = number
        self.ran.append(command)
        if command == b"M115" and not self.reports:
            return [b"FIRMWARE_NAME:toy\n", b"Cap:AUTOREPORT_TEMP:0\n", b"ok\n"]
        self.asked_heat += command == b"M105"
        return [b"ok N%d\n" % number if self.numbered_oks else b"ok\n"]

    def refuse(self, why: bytes) -> list[bytes]:
        return [b"Error:%s, last line: %d\n" % (why, self.last), b"Resend: %d\n" % (self.last + 1), b"ok\n"]


class SlowWire:
    """Bytes on their way in both directions: in order, each line late by a time drawn by lot, up to `late_s`, or always
    by that where it is `even`."""

    def __init__(self, machine: ToyMachine, late_s: float, even: bool = False) -> None:
        self.machine, self.late_s, self.even = machine, late_s, even
        self.lot = random.Random(machine.random.random())
        self.there: deque[tuple[float, bytes]] = deque()
        self.back: deque[tuple[float, bytes]] = deque()

    def _put(self, queue: deque[tuple[float, bytes]], line: bytes, now: float) -> None:
        at = now + (1.0 if self.even else self.lot.random() ** 6) * self.late_s
        queue.append((max(at, queue[-1][0]) if queue else at, line))

    def next_at(self) -> float:
        """When something arrives next, at either end."""
        return min((queue[0][0] for queue in (self.there, self.back) if queue), default=float("inf"))

    def forget(self) -> None:
        """All that is on its way is lost."""
        self.there.clear()
        self.back.clear()

    def pass_on(self, data: bytes, now: float) -> bytes:
        """Take what the link sends at `now`; returns what arrives at it by then."""
        for sent in data.splitlines(keepends=True):
            for line in self.machine.wire(sent):
                self._put(self.there, line, now)
        while self.there and self.there[0][0] <= now:
            at, line = self.there.popleft()
            for answer in self.machine.answer(line.strip()):
                for said in self.machine.wire(answer):
                    self._put(self.back, said, at)
        arrived = b""
        while self.back and self.back[0][0] <= now:
            arrived += self.back.popleft()[1]
        return arrived
