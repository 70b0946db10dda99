"""What tender and machine said to each other: the newest lines in memory, and the whole log of each build on the disk.

Lines are handed over as they are, and a thread writes them now and then, so that feeding never waits for its own log.
"""

from __future__ import annotations

import contextlib
import re
from collections import deque
from datetime import datetime
from itertools import islice, takewhile
from pathlib import Path

from chronarch.core.control.line_protocol import FIRST_OWN_LINE_NUMBER, Spoken
from chronarch.wire.control.actions import LogLine

NEWEST = 20_000
LARGEST = 400_000_000
_HEAT = (b"T:", b"ok T:", b"B:")
_TROUBLE = (b"Error", b"Resend", b"rs ", b"!!")

_OF_FILE = re.compile(rb"^N\d{1,9} ")

Breath = tuple[int, datetime, list[Spoken]]
"""Lines that were heard or sent together: the number of the first line, shop time, the lines."""


def kind_of(spoken: Spoken) -> str:
    """The kind of a line, by which a log is filtered."""
    sent, line, asking = spoken
    if asking:
        return "ok"
    if sent:
        return "file" if _OF_FILE.match(line) and int(line[1 : line.index(b" ")]) <= FIRST_OWN_LINE_NUMBER else "own"
    if line == b"ok":
        return "ok"
    if line.startswith(_HEAT):
        return "heat"
    if line.startswith(_TROUBLE):
        return "trouble"
    return "ok" if line.startswith(b"ok") else "said"


class LineLog:
    """One machine's log."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._newest: deque[Breath] = deque(maxlen=NEWEST)
        self._next_number = 1
        self._unwritten: deque[Breath] = deque()
        self._build: int | None = None
        folder.mkdir(parents=True, exist_ok=True)

    def path(self, build: int) -> Path:
        return self._folder / f"{build}.log"

    def left_over(self, present: int | None) -> list[int]:
        """Builds whose complete logs an earlier tender left here, except the `present` one."""
        found = (int(p.stem) for p in self._folder.glob("*.log") if p.stem.isdigit())
        return [build for build in found if build != present]

    def begin(self, build: int) -> None:
        """From here on, lines belong to the log of a build too."""
        self._build = build

    def end(self) -> int | None:
        """The build is over: write the rest of its log. Returns its number, if there was one."""
        self.write()
        build, self._build = self._build, None
        return build

    def add(self, at: datetime, spoken: list[Spoken]) -> None:
        """Take lines that went over the wire at shop time `at`; the list is kept."""
        breath = (self._next_number, at, spoken)
        self._next_number += len(spoken)
        self._newest.append(breath)
        if self._build is not None:
            self._unwritten.append(breath)

    def write(self) -> None:
        """Write what is not on the disk yet. What cannot be written is dropped: a log is not worth a build."""
        breaths = [self._unwritten.popleft() for _ in range(len(self._unwritten))]
        if not breaths or self._build is None:
            return
        path = self.path(self._build)
        with contextlib.suppress(OSError):
            if path.exists() and path.stat().st_size > LARGEST:
                return
            with path.open("ab") as out:
                out.write(_written(breaths))

    def tail(self, after: int, limit: int, search: str) -> list[LogLine]:
        """The newest `limit` lines after a number that hold `search`, oldest first."""
        wanted = search.lower().encode()
        newest_first = (
            (number, at, said)
            for first, at, spoken in reversed(self._newest)
            for number, said in zip(range(first + len(spoken) - 1, first - 1, -1), reversed(spoken), strict=True)
        )
        later = takewhile(lambda line: line[0] > after, newest_first)
        found = list(islice((line for line in later if wanted in line[2][1].lower()), limit))
        return [
            LogLine(number=number, at=at, sent=said[0], kind=kind_of(said), text=said[1].decode("utf-8", "replace"))
            for number, at, said in reversed(found)
        ]


def _written(breaths: list[Breath]) -> bytes:
    """Lines such as `2026-10-19T09:12:03.250000Z > N3 G28*18`. The time is formatted once for lines that came
    together."""
    out: list[bytes] = []
    moment, heads = None, (b"", b"")
    for _, at, spoken in breaths:
        if at is not moment:
            stamp = at.isoformat().replace("+00:00", "Z").encode()
            moment, heads = at, (stamp + b" < ", stamp + b" > ")
        for sent, line, _ in spoken:
            out += (heads[sent], line, b"\n")
    return b"".join(out)
