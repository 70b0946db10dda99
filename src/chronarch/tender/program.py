"""A file on disk as a program: its commands by index, without holding the file in memory."""

from __future__ import annotations

import hashlib
import mmap
from array import array
from pathlib import Path

from chronarch.core.gcode.words import command_of

CHUNK = 1 << 20


def sha256_of(path: Path) -> str:
    digest = hashlib.sha256()
    with path.open("rb") as source:
        while chunk := source.read(CHUNK):
            digest.update(chunk)
    return digest.hexdigest()


class FileProgram:
    """The commands of a G-code file. Eight bytes a command are kept: where its line begins."""

    def __init__(self, path: Path) -> None:
        self._file = path.open("rb")
        self._map = mmap.mmap(self._file.fileno(), 0, access=mmap.ACCESS_READ)
        self._starts = array("q")
        at, size = 0, len(self._map)
        while at < size:
            end = self._map.find(b"\n", at)
            end = size if end < 0 else end
            if command_of(self._map[at:end]):
                self._starts.append(at)
            at = end + 1

    def __len__(self) -> int:
        return len(self._starts)

    def command(self, index: int) -> bytes:
        start = self._starts[index]
        end = self._map.find(b"\n", start)
        return command_of(self._map[start : end if end >= 0 else len(self._map)])

    def close(self) -> None:
        self._map.close()
        self._file.close()
