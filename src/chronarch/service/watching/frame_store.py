"""The bytes of kept frames on the disk, by their content."""

from __future__ import annotations

import contextlib
import hashlib
import shutil
from collections.abc import Iterable
from pathlib import Path
from typing import Annotated

from chronarch.service.context import part

LEAST_FREE = 1 << 30
"""Bytes. With less room on the disk no frames are kept: builds and uploads come first."""


class FrameStore:
    """A folder of JPEGs named by their hash."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        folder.mkdir(parents=True, exist_ok=True)

    def path(self, sha256: str) -> Path:
        return self._folder / sha256[:2] / sha256

    def has_room(self) -> bool:
        return shutil.disk_usage(self._folder).free >= LEAST_FREE

    def write(self, jpeg: bytes) -> str:
        """Keep a frame; returns its hash. Raises OSError."""
        sha256 = hashlib.sha256(jpeg).hexdigest()
        path = self.path(sha256)
        if not path.exists():
            path.parent.mkdir(exist_ok=True)
            fresh = path.with_suffix(".new")
            fresh.write_bytes(jpeg)
            fresh.replace(path)
        return sha256

    def drop(self, hashes: Iterable[str]) -> None:
        for sha256 in hashes:
            with contextlib.suppress(OSError):
                self.path(sha256).unlink()


TheFrameStore = Annotated[FrameStore, part(FrameStore)]
