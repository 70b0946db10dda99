"""Frames that are to be kept, on the tender's disk until the service has them: none is lost while it is away.

The folder is bounded. When it is full the oldest go, and when the disk is full none are kept; people are told of both.
"""

from __future__ import annotations

import contextlib
import itertools
import os
from collections.abc import Callable
from pathlib import Path

from chronarch.wire.watching.camera_messages import FrameHead, KeptAs, pack_frame

MOST_BYTES = 500_000_000
LEAST_FREE = 200_000_000
ENDING = ".frame"


class FrameSpool:
    """`told` hears what is wrong, and an empty text once it is right again."""

    def __init__(self, folder: Path, told: Callable[[str], None], most_bytes: int = MOST_BYTES) -> None:
        self._folder, self._told, self._most = folder, told, most_bytes
        self._trouble = ""
        for left in folder.glob("*.new"):
            left.unlink()
        self._sizes = {
            path.name.removesuffix(ENDING): path.stat().st_size for path in sorted(folder.glob(f"*{ENDING}"))
        }
        newest = max((int(name) for name in self._sizes if name.isdigit()), default=0)
        self._numbers = itertools.count(newest + 1)

    def keep(self, head: FrameHead, kept: KeptAs, jpeg: bytes) -> None:
        """Write a frame. It is dropped, and people are told, where that cannot be."""
        name = f"{next(self._numbers):012d}"
        data = pack_frame(head.model_copy(update={"kept": kept.model_copy(update={"id": name})}), jpeg)
        try:
            self._folder.mkdir(parents=True, exist_ok=True)
            space = os.statvfs(self._folder)
            if space.f_bavail * space.f_frsize < LEAST_FREE:
                return self._tell("the tender's disk is nearly full: frames are not kept until there is room")
            fresh = self._folder / f"{name}.new"
            fresh.write_bytes(data)
            fresh.replace(self._path(name))
        except OSError as error:
            return self._tell(f"frames cannot be kept at the tender ({error.strerror})")
        self._sizes[name] = len(data)
        trouble = ""
        while sum(list(self._sizes.values())) > self._most:  # of a copy: frames are sent and forgotten meanwhile
            self.forget([next(iter(self._sizes))])
            trouble = "the service was away for so long that the tender has dropped the oldest frames"
        self._tell(trouble)

    def waiting(self) -> list[str]:
        """The names of the frames that are here, oldest first."""
        return list(self._sizes)

    def read(self, name: str) -> bytes | None:
        """A frame as it is sent; None when it is gone."""
        try:
            return self._path(name).read_bytes()
        except OSError:
            self._sizes.pop(name, None)
            return None

    def forget(self, names: list[str]) -> None:
        """The service has them."""
        for name in names:
            if self._sizes.pop(name, None) is not None:
                with contextlib.suppress(OSError):
                    self._path(name).unlink()

    def _path(self, name: str) -> Path:
        return self._folder / f"{name}{ENDING}"

    def _tell(self, trouble: str) -> None:
        if trouble != self._trouble:
            self._trouble = trouble
            self._told(trouble)
