"""A file on disk as a program: its commands by index, without holding the file in memory."""

from __future__ import annotations

import hashlib
import mmap
import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from chronarch.core.gcode.line_ends import with_plain_lines
from chronarch.core.gcode.tokens import command_of

CHUNK = 1 << 20
_WAITS = re.compile(rb"^(M0|M1|M25|M226|M600|M601)(?![\d.])", re.IGNORECASE)
_SAYS = re.compile(rb"^M11[78](?![\d.])", re.IGNORECASE)
_OF_THE_LINK = re.compile(rb"^(M108|M110)(?![\d.])", re.IGNORECASE)
"""Words that belong to whoever feeds a machine; they are left out of a file."""
_PLAIN = np.zeros(256, dtype=bool)
_PLAIN[[*b"GMTgmt"]] = True
_SPECIAL = np.zeros(256, dtype=bool)
_SPECIAL[[*b";(*"]] = True
_NOTHING = np.zeros(256, dtype=bool)
_NOTHING[[*b";\n"]] = True


def sha256_of(path: Path) -> str:
    digest = hashlib.sha256()
    with path.open("rb") as source:
        while chunk := source.read(CHUNK):
            digest.update(chunk)
    return digest.hexdigest()


def _view(values: Any) -> Any:
    """An array as a memory view, which returns a single element several times faster."""
    return memoryview(np.ascontiguousarray(values))  # type: ignore[arg-type]


class FileProgram:
    """The commands of a G-code file. For each command only the place of its line is kept, in eight bytes. `waits` are
    the commands that ask for a person: they stop the feeding and are not sent."""

    def __init__(self, path: Path) -> None:
        with path.open("rb") as file:
            self._file = mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)
        whole = np.frombuffer(self._file, np.uint8)
        lines = with_plain_lines(whole)
        self._map: mmap.mmap | bytes = self._file if lines is whole else lines.tobytes()
        starts = self._line_starts()
        first = np.frombuffer(self._map, np.uint8)[starts]
        kept = _PLAIN[first]
        for n in np.flatnonzero(~kept & ~_NOTHING[first]).tolist():
            kept[n] = bool(command_of(self._line(int(starts[n]))))
        second = np.frombuffer(self._map, np.uint8)[np.minimum(starts + 1, len(self._map) - 1)]
        numbered = np.isin(first, [*b" \tNn"])
        for n in np.flatnonzero(kept & (numbered | (np.isin(first, [*b"Mm"]) & (second == 49)))).tolist():
            kept[n] = _OF_THE_LINK.match(command_of(self._line(int(starts[n])))) is None
        ends = np.append(starts[1:] - 1, len(self._map) - (self._map[-1:] == b"\n"))
        plain = self._plain(starts, ends)
        self._starts = starts[kept]
        self._begin, self._end = _view(self._starts), _view(ends[kept])
        self._bare = _view(plain[kept].astype(np.uint8))
        self._waits, self._says = self._find_waits()

    def _plain(
        self, starts: np.ndarray[tuple[int], np.dtype[np.int64]], ends: np.ndarray[tuple[int], np.dtype[np.int64]]
    ) -> np.ndarray[tuple[int], np.dtype[np.bool_]]:
        """Lines that are a command from their first byte to their last: without comment, number, checksum or trailing
        space."""
        data = np.frombuffer(self._map, np.uint8)
        first, last = data[np.minimum(starts, len(data) - 1)], data[np.maximum(ends - 1, 0)]
        plain = _PLAIN[first] & (last > 32) & (ends > starts)
        special = np.flatnonzero(_SPECIAL[data])
        plain[np.searchsorted(starts, special, "right") - 1] = False
        return plain

    def _line_starts(self) -> np.ndarray[tuple[int], np.dtype[np.int64]]:
        data = np.frombuffer(self._map, np.uint8)
        ends = np.flatnonzero(data == 10).astype(np.int64) + 1
        return np.concatenate([np.zeros(1, np.int64), ends[ends < len(data)]])

    def _find_waits(self) -> tuple[dict[int, bytes], list[int]]:
        """The commands that ask for a person, and the places of those that say something."""
        data = np.frombuffer(self._map, np.uint8)
        at = np.minimum(self._starts, len(data) - 2)
        asking = np.isin(data[at], [*b"Mm"]) & np.isin(data[at + 1], [*b"0126"])
        found, says = {}, []
        for index in np.flatnonzero(asking).tolist():
            command = self.command(index)
            if _WAITS.match(command):
                found[index] = command
            elif _SAYS.match(command):
                says.append(index)
        return found, says

    @property
    def waits(self) -> Mapping[int, bytes]:
        return self._waits

    @property
    def says(self) -> Sequence[int]:
        return self._says

    @property
    def size(self) -> int:
        """Bytes of the whole file, for a machine that takes the whole file."""
        return len(self._file)

    def piece(self, offset: int, length: int) -> bytes:
        """A piece of the file as it is."""
        return self._file[offset : offset + length]

    def __len__(self) -> int:
        return len(self._starts)

    def _line(self, start: int) -> bytes:
        end = self._map.find(b"\n", start)
        return self._map[start : end if end >= 0 else len(self._map)]

    def command(self, index: int) -> bytes:
        if self._bare[index]:
            return self._map[self._begin[index] : self._end[index]]
        return command_of(self._line(self._begin[index]))
