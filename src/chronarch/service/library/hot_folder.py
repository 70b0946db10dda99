"""Hot folders: files put there are taken into the library by a rule, then moved away with a text that says what came of
it.

    bobbin-32.gcode            waits until its size stays the same between two looks
    taken/bobbin-32.gcode      was added; bobbin-32.gcode.txt says as what
    refused/notes.gcode        was not; notes.gcode.txt says why

The rule says which folder of the library they go to, and whether copies are queued. Sub-folders are folders of the
library below that: `bobbins/bobbin-32.gcode` is filed under `bobbins`.
"""

from __future__ import annotations

import asyncio
import os
from dataclasses import dataclass, field
from pathlib import Path
from typing import Annotated, Any

from sqlalchemy import select

from chronarch.core.errors import CoreError
from chronarch.core.gcode.decompress import plain_name
from chronarch.core.library.names import SLICED, check_folder, check_name, is_sliced
from chronarch.records import tables as t
from chronarch.service.context import ServiceContext, part
from chronarch.service.library.drives import Drives
from chronarch.service.library.intake import UploadIntake
from chronarch.service.library.pieces import pieces_of
from chronarch.service.problems import ApiProblem

LOOK_EVERY_S = 0.5
TAKEN, REFUSED = "taken", "refused"
BY = "hot folder"


@dataclass
class HotFolders:
    """All of them, as the records have them."""

    context: ServiceContext
    intake: UploadIntake
    drives: Drives
    troubles: dict[int, str] = field(default_factory=dict)
    """Why one cannot be looked into now, by its number."""
    _folders: dict[int, HotFolder] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._changed = self.context.changes.watch("hot-folders")
        self._changed.event.set()

    async def look(self) -> None:
        """Look into each."""
        if self._changed.event.is_set():
            self._changed.take()
            await self._renew()
        await asyncio.gather(*(self._look(number, folder) for number, folder in self._folders.items()))

    async def _look(self, number: int, folder: HotFolder) -> None:
        try:
            await asyncio.to_thread(self._check, folder)
            await folder.look()
            self.troubles.pop(number, None)
        except ApiProblem as error:
            self.troubles[number] = str(error)
        except OSError as error:
            self.troubles[number] = f"The service cannot use it: {error.strerror or error}."

    async def _renew(self) -> None:
        async with self.context.sessions() as db:
            rules = (await db.execute(select(t.HotFolder).where(t.HotFolder.on))).scalars().all()
        kept = self._folders
        self._folders = {}
        for rule in rules:
            before = kept.get(rule.id)
            self._folders[rule.id] = HotFolder(self.intake, rule, before.seen if before else {})
        self.troubles = {number: why for number, why in self.troubles.items() if number in self._folders}

    def _check(self, folder: HotFolder) -> None:
        """Raises ApiProblem, OSError."""
        self.drives.find(str(folder.path))
        for name in (TAKEN, REFUSED):
            (folder.path / name).mkdir(exist_ok=True)


class HotFolder:
    """Looks at a folder; a file is taken once its size and time have not changed between two looks."""

    def __init__(self, intake: UploadIntake, rule: t.HotFolder, seen: dict[Path, tuple[int, int]]) -> None:
        self._intake, self._rule = intake, rule
        self.path = Path(rule.path)
        self.seen = seen

    async def look(self) -> None:
        """Take what has not changed since the last look. Raises OSError."""
        now = await asyncio.to_thread(_waiting, self.path)
        for path, mark in now.items():
            if self.seen.get(path) == mark:
                await self._take(path)
        self.seen = {path: mark for path, mark in now.items() if path.exists()}

    async def _take(self, path: Path) -> None:
        try:
            if not is_sliced(path.name):
                listed = ", ".join(SLICED[:4])
                raise ApiProblem(415, f"{path.name} is not taken for a sliced file; those end in {listed}.")
            name = check_name(plain_name(path.name))
            under = check_folder("/".join((self._rule.folder, *path.parent.relative_to(self.path).parts)))
            received = await self._intake.receive(pieces_of(path))
            wish: dict[str, Any] = {"folder": under, "queue": self._rule.queue, "how": "from a hot folder"}
            number = await self._intake.take(received, name, BY, **wish)
            row = await self._intake.settled(number, 3600)
            if row.state != "done":
                raise ApiProblem(422, row.problem or "It is still being read.")
            added = "Added to" if row.new else "The same is already in"
            queued = f" It is queued as job {row.job_id}." if row.job_id else ""
            _move(self.path, path, TAKEN, f"{added} the library as file {row.file_id}, {name}.{queued}")
        except (ApiProblem, CoreError) as error:
            _move(self.path, path, REFUSED, str(error))


def _waiting(folder: Path) -> dict[Path, tuple[int, int]]:
    """The files that are waiting, with size and time of change."""
    found = {}
    for place, below, names in os.walk(folder):
        if Path(place) == folder:
            below[:] = [name for name in below if name not in (TAKEN, REFUSED)]
        below[:] = [name for name in below if not name.startswith(".")]
        for name in names:
            path = Path(place) / name
            if not name.startswith(".") and not path.is_symlink() and path.is_file():
                status = path.stat()
                found[path] = (status.st_size, status.st_mtime_ns)
    return found


def _move(folder: Path, path: Path, to: str, text: str) -> None:
    """Move a file away and write beside it what became of it. If there is one of that name already, the new one gets a
    number."""
    target = folder / to / path.name
    n = 1
    while target.exists():
        n += 1
        target = folder / to / f"{path.stem}-{n}{path.suffix}"
    path.replace(target)
    target.with_name(f"{target.name}.txt").write_text(f"{text}\n")


TheHotFolders = Annotated[HotFolders, part(HotFolders)]
