"""Bytes kept on disk by their content (SHA-256), and beside them what was derived from them."""

from __future__ import annotations

import asyncio
import hashlib
import os
import shutil
import uuid
from collections.abc import AsyncIterator
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

from chronarch.service.context import part
from chronarch.service.problems import ApiProblem


@dataclass(frozen=True)
class Received:
    """Bytes that have arrived and are not kept yet: their path, hash and size when unpacked, and the hash as sent."""

    path: Path
    sha256: str
    size: int
    sent_sha256: str
    packed: bool = False


class ContentStore:
    """A folder of files named by their hash."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        (folder / "arriving").mkdir(parents=True, exist_ok=True)
        (folder / "logs").mkdir(exist_ok=True)
        for left in (folder / "arriving").iterdir():
            left.unlink()

    def path(self, sha256: str) -> Path:
        return self._folder / sha256[:2] / sha256

    def derived(self, sha256: str) -> Path:
        """The folder for what was derived from a content. It can be deleted and is made again."""
        return self._folder / "derived" / sha256[:2] / sha256

    def log(self, build: int) -> Path:
        """Where a build's line log is kept, packed."""
        return self._folder / "logs" / f"{build}.log.gz"

    def new_path(self) -> Path:
        """A path for bytes that are arriving."""
        return self._folder / "arriving" / uuid.uuid4().hex

    async def receive(self, chunks: AsyncIterator[bytes], largest: int) -> Received:
        """Stream bytes to a file that is not kept yet. Raises ApiProblem (413) over `largest` bytes and leaves nothing
        behind."""
        path = self.new_path()
        digest, size = hashlib.sha256(), 0
        try:
            with path.open("wb") as out:
                async for chunk in chunks:
                    size += len(chunk)
                    if size > largest:
                        limit = f"{largest / 1e6:g} MB"
                        raise ApiProblem(
                            413, f"The file is larger than the {limit} that are taken; send a smaller one."
                        )
                    digest.update(chunk)
                    out.write(chunk)
                out.flush()
                await asyncio.to_thread(os.fsync, out.fileno())
        except BaseException:
            path.unlink(missing_ok=True)
            raise
        return Received(path, digest.hexdigest(), size, digest.hexdigest())

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

    def drop(self, sha256: str) -> None:
        """Remove a content that no record names any more, and what was derived from it."""
        self.path(sha256).unlink(missing_ok=True)
        shutil.rmtree(self.derived(sha256), ignore_errors=True)


TheContentStore = Annotated[ContentStore, part(ContentStore)]
