"""What tender and machine said to each other: the newest lines in memory, and each build's whole log on the disk.

Lines are handed over as they are and written by a thread, now and then: feeding never waits for its own log.
"""

from __future__ import annotations

import contextlib
import re
from collections import deque
from collections.abc import Iterable
from datetime import datetime
from itertools import islice
from pathlib import Path

from chronarch.core.line_link import OWN_BASE, Spoken
from chronarch.wire.hands import LogLine

NEWEST = 20_000
LARGEST = 400_000_000
_HEAT = (b"T:", b"ok T:", b"B:")
_TROUBLE = (b"Error", b"Resend", b"rs ", b"!!")

_OF_FILE = re.compile(rb"^N\d{1,9} ")

Entry = tuple[int, datetime, bool, bytes, bool]
"""Number, shop time, whether it was sent, the line, whether it only finds out where the machine stands."""


def kind_of(entry: Entry) -> str:
    """One of the kinds a log is filtered by."""
    _, _, sent, line, asking = entry
    if asking:
        return "ok"
    if sent:
        return "file" if _OF_FILE.match(line) and int(line[1 : line.index(b" ")]) <= OWN_BASE else "own"
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
        self._lines: deque[Entry] = deque(maxlen=NEWEST)
        self._number = 0
        self._unwritten: list[Entry] = []
        self._build: int | None = None
        folder.mkdir(parents=True, exist_ok=True)

    def path(self, build: int) -> Path:
        return self._folder / f"{build}.log"

    def left_over(self, present: int | None) -> list[int]:
        """Builds whose logs an earlier tender left here, complete, but for the `present` one."""
        found = (int(p.stem) for p in self._folder.glob("*.log") if p.stem.isdigit())
        return [build for build in found if build != present]

    def begin(self, build: int) -> None:
        """From here on lines belong to a build's log too."""
        self._build = build

    def end(self) -> int | None:
        """The build is over: write what is left of its log; its number, if there was one."""
        self.write()
        build, self._build = self._build, None
        return build

    def add(self, at: datetime, spoken: Iterable[Spoken]) -> None:
        """Take lines that went over the wire at shop time `at`."""
        number = self._number
        for sent, line, asking in spoken:
            number += 1
            entry = (number, at, sent, line, asking)
            self._lines.append(entry)
            if self._build is not None:
                self._unwritten.append(entry)
        self._number = number

    def write(self) -> None:
        """Put on the disk what is not there yet; what cannot be written is dropped, the log is not worth a build."""
        entries, self._unwritten = self._unwritten, []
        if not entries or self._build is None:
            return
        path = self.path(self._build)
        with contextlib.suppress(OSError):
            if path.exists() and path.stat().st_size > LARGEST:
                return
            with path.open("ab") as out:
                out.write(b"".join(_written(entry) for entry in entries))

    def tail(self, after: int, limit: int, search: str) -> list[LogLine]:
        """The newest `limit` lines after a number that hold `search`, oldest first."""
        wanted = search.lower().encode()
        newest_first = (e for e in reversed(self._lines) if e[0] > after and wanted in e[3].lower())
        found = list(islice(newest_first, limit))
        return [
            LogLine(number=e[0], at=e[1], sent=e[2], kind=kind_of(e), text=e[3].decode("utf-8", "replace"))
            for e in reversed(found)
        ]


def _written(entry: Entry) -> bytes:
    """`2026-10-19T09:12:03.250000Z > N3 G28*18`"""
    _, at, sent, line, _ = entry
    return b"%s %s %s\n" % (at.isoformat().replace("+00:00", "Z").encode(), b">" if sent else b"<", line)
