"""Folders of frames and of films: each file has its hash as its name."""

from __future__ import annotations

import contextlib
import hashlib
import shutil
from collections.abc import Iterable
from pathlib import Path
from typing import Annotated

from chronarch.service.context import part

LEAST_FREE = 1 << 30
"""Bytes. With less room on the disk nothing is kept here: builds and uploads come first."""
PIECE = 1 << 20


class ContentFolder:
    """A folder of files named by their hash."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        folder.mkdir(parents=True, exist_ok=True)

    def path(self, sha256: str) -> Path:
        return self._folder / sha256[:2] / sha256

    def fresh(self, name: str) -> Path:
        """Where something may be written that is to be kept afterwards."""
        return self._folder / f"{name}.new"

    def has_room(self) -> bool:
        return shutil.disk_usage(self._folder).free >= LEAST_FREE

    def write(self, content: bytes) -> str:
        """Keep bytes; returns their hash. Raises OSError."""
        sha256 = hashlib.sha256(content).hexdigest()
        path = self.path(sha256)
        if not path.exists():
            path.parent.mkdir(exist_ok=True)
            fresh = path.with_suffix(".new")
            fresh.write_bytes(content)
            fresh.replace(path)
        return sha256

    def adopt(self, fresh: Path) -> str:
        """Keep a file that was written at `fresh`; returns its hash. Raises OSError."""
        with fresh.open("rb") as source:
            sha256 = hashlib.file_digest(source, "sha256").hexdigest()
        path = self.path(sha256)
        path.parent.mkdir(exist_ok=True)
        fresh.replace(path)
        return sha256

    def sweep(self) -> None:
        """Remove what was being written when an earlier service ended."""
        for path in self._folder.glob("*.new*"):
            with contextlib.suppress(OSError):
                path.unlink()

    def drop(self, hashes: Iterable[str]) -> None:
        for sha256 in hashes:
            with contextlib.suppress(OSError):
                self.path(sha256).unlink()


class FrameStore(ContentFolder):
    """The bytes of kept frames."""


class FilmStore(ContentFolder):
    """The bytes of films and of the pictures that stand for them."""


TheFrameStore = Annotated[FrameStore, part(FrameStore)]
TheFilmStore = Annotated[FilmStore, part(FilmStore)]
