"""Events on disk until the service has committed them.

The journal is one file of JSON lines. The first line names the epoch. Each event is flushed to the disk before anything
else happens with it. When everything is committed, the file is made short again, so that its size stays bounded. A line
cut off by a power failure ends the reading: it was never acknowledged to anybody.
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import logging
import os
import uuid
from collections import OrderedDict
from datetime import datetime
from pathlib import Path
from typing import IO

from pydantic import ValidationError

from chronarch.core.control.events import ControlEvent
from chronarch.wire.control.upstream import Event

SHORTEN_OVER = 256 * 1024


log = logging.getLogger("chronarch.journal")


class InUse(Exception):
    """Another tender uses this folder."""


class Journal:
    """The events of one tender that the service has not committed yet, oldest first."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self.epoch = uuid.uuid4().hex
        self._last = 0
        self._pending: OrderedDict[int, Event] = OrderedDict()
        path.parent.mkdir(parents=True, exist_ok=True)
        self.unwritten = False
        """Whether there are events that could not be written to the disk."""
        self._lock = self._hold(path.with_suffix(".lock"))
        if path.exists():
            self._read()
        self._rewrite()
        self._file = path.open("ab", buffering=0)

    @staticmethod
    def _hold(path: Path) -> IO[str]:
        """Take the folder for this tender alone. Raises InUse."""
        file = path.open("a+")
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            file.seek(0)
            holder = file.read()
            file.close()
            raise InUse(f"{path.parent} is the folder of a tender that runs already (process {holder}).") from None
        file.truncate(0)
        file.write(str(os.getpid()))
        file.flush()
        return file

    def _read(self) -> None:
        committed = 0
        for raw in self._path.read_bytes().split(b"\n"):
            try:
                line = json.loads(raw)
                if "epoch" in line:
                    self.epoch, self._last = line["epoch"], line["last"]
                elif "committed" in line:
                    committed = line["committed"]
                else:
                    event = Event.model_validate_json(raw)
                    self._pending[event.sequence] = event
                    self._last = max(self._last, event.sequence)
            except (ValueError, KeyError, TypeError, ValidationError):
                break
        self._forget(committed)

    def _forget(self, committed: int) -> None:
        while self._pending and next(iter(self._pending)) <= committed:
            self._pending.popitem(last=False)

    def _rewrite(self) -> None:
        fresh = self._path.with_suffix(".new")
        with fresh.open("wb") as out:
            out.write(json.dumps({"epoch": self.epoch, "last": self._last}).encode() + b"\n")
            for event in self._pending.values():
                out.write(event.model_dump_json().encode() + b"\n")
            out.flush()
            os.fsync(out.fileno())
        fresh.replace(self._path)

    def add(self, machine: str, at: datetime, body: ControlEvent) -> Event:
        """Number an event and write it to the disk."""
        self._last += 1
        event = Event(sequence=self._last, machine=machine, at=at, body=body)
        self._pending[event.sequence] = event
        self._write(event.model_dump_json().encode(), sync=True)
        return event

    def _write(self, line: bytes, *, sync: bool) -> None:
        """Append a line. While the disk takes nothing, events stay in memory; all of them are written as soon as it
        does."""
        try:
            if self.unwritten:
                self._renew()
            else:
                self._file.write(line + b"\n")
                self._file.flush()
                if sync:
                    os.fsync(self._file.fileno())
        except OSError as error:
            if not self.unwritten:
                log.error("the journal cannot be written: %s", error)
            self.unwritten = True

    def _renew(self) -> None:
        self._rewrite()
        with contextlib.suppress(OSError):
            self._file.close()
        self._file = self._path.open("ab", buffering=0)
        self.unwritten = False

    def committed(self, sequence: int) -> None:
        """The service has everything up to `sequence`."""
        self._forget(sequence)
        self._write(json.dumps({"committed": sequence}).encode(), sync=False)
        if not self._pending and not self.unwritten and self._file.tell() > SHORTEN_OVER:
            with contextlib.suppress(OSError):
                self._renew()

    def pending(self, after: int = 0) -> list[Event]:
        """Events the service still has to commit, later than `after`."""
        return [event for sequence, event in self._pending.items() if sequence > after]

    def close(self) -> None:
        self._file.close()
        self._lock.close()
