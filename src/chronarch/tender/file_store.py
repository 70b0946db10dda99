"""Files on the tender's own disk: fetched before a build starts, checked by their hash."""

from __future__ import annotations

import asyncio
from collections import defaultdict
from pathlib import Path

from chronarch.client import AsyncClient
from chronarch.tender.file_program import FileProgram, sha256_of


class DamagedFile(Exception):
    """A file was fetched, but its hash is not the promised one."""


class FileStore:
    """A folder of files named by their hash."""

    def __init__(self, folder: Path, client: AsyncClient) -> None:
        self._folder = folder
        self._client = client
        self._fetching: defaultdict[str, asyncio.Lock] = defaultdict(asyncio.Lock)
        folder.mkdir(parents=True, exist_ok=True)

    async def program(self, sha256: str) -> FileProgram:
        """The file as a program; it is fetched if it is not here. Raises ClientError or DamagedFile."""
        path = self._folder / sha256
        async with self._fetching[sha256]:
            if not path.exists():
                await self._fetch(sha256, path)
        return await asyncio.to_thread(FileProgram, path)

    async def _fetch(self, sha256: str, path: Path) -> None:
        arriving = path.with_suffix(".arriving")
        await self._client.blob(sha256, arriving)
        if await asyncio.to_thread(sha256_of, arriving) != sha256:
            arriving.unlink()
            raise DamagedFile(f"the file {sha256[:12]}… did not arrive whole")
        arriving.replace(path)
