"""Bytes kept on disk by their content (SHA-256)."""

from __future__ import annotations

import hashlib
import os
import uuid
from collections.abc import AsyncIterator
from pathlib import Path

from chronarch.service.problems import Refused


class Blobs:
    """A folder of files named by their hash."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        (folder / "arriving").mkdir(parents=True, exist_ok=True)
        for left in (folder / "arriving").iterdir():
            left.unlink()

    def path(self, sha256: str) -> Path:
        return self._folder / sha256[:2] / sha256

    async def receive(self, chunks: AsyncIterator[bytes], largest: int) -> tuple[Path, str, int]:
        """Stream bytes to a file that is not kept yet: its path, hash and size. Raises Refused (413) over `largest`
        bytes; then nothing is left behind."""
        path = self._folder / "arriving" / uuid.uuid4().hex
        digest, size = hashlib.sha256(), 0
        try:
            with path.open("wb") as out:
                async for chunk in chunks:
                    size += len(chunk)
                    if size > largest:
                        limit = f"{largest / 1e6:g} MB"
                        raise Refused(
                            413, f"The file is larger than the {limit} this service takes; send a smaller one."
                        )
                    digest.update(chunk)
                    out.write(chunk)
                out.flush()
                os.fsync(out.fileno())
        except BaseException:
            path.unlink(missing_ok=True)
            raise
        return path, digest.hexdigest(), size

    def keep(self, arrived: Path, sha256: str) -> None:
        """Move a received file to its place."""
        target = self.path(sha256)
        target.parent.mkdir(exist_ok=True)
        arrived.replace(target)
        folder = os.open(target.parent, os.O_RDONLY)
        try:
            os.fsync(folder)
        finally:
            os.close(folder)
