"""The hot folder: files put there are taken into the library, then moved away with a text that says what came of it.

    bobbin-32.gcode            waits until its size stays the same between two looks
    taken/bobbin-32.gcode      was added; bobbin-32.gcode.txt says as what
    refused/notes.gcode        was not; notes.gcode.txt says why

Sub-folders are folders of the library: `bobbins/bobbin-32.gcode` is filed under `bobbins`.
"""

from __future__ import annotations

import asyncio
import logging
import os
from collections.abc import AsyncIterator
from pathlib import Path

from chronarch.core.errors import CoreError
from chronarch.core.gcode.decompress import plain_name
from chronarch.core.library.names import check_folder, check_name
from chronarch.service.library.intake import UploadIntake
from chronarch.service.problems import ApiProblem

LOOK_EVERY_S = 0.5
TAKEN, REFUSED = "taken", "refused"
BY = "hot folder"
ENDINGS = (".gcode", ".gco", ".g", ".nc", ".gcode.gz", ".gcode.zst", ".gco.gz", ".g.gz")
PIECE = 1 << 20
log = logging.getLogger("chronarch.hot-folder")


class HotFolder:
    """Looks at a folder; a file is taken once its size and time have not changed between two looks."""

    def __init__(self, intake: UploadIntake, folder: Path) -> None:
        self._intake, self._folder = intake, folder
        self._seen: dict[Path, tuple[int, int]] = {}
        for name in (TAKEN, REFUSED):
            (folder / name).mkdir(parents=True, exist_ok=True)

    async def look(self) -> None:
        """Take what has not changed since the last look."""
        now = await asyncio.to_thread(_look, self._folder)
        for path, mark in now.items():
            if self._seen.get(path) == mark:
                await _take(self._intake, self._folder, path)
        self._seen = {path: mark for path, mark in now.items() if path.exists()}


def _look(folder: Path) -> dict[Path, tuple[int, int]]:
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


async def _take(intake: UploadIntake, folder: Path, path: Path) -> None:
    try:
        if not path.name.lower().endswith(ENDINGS):
            listed = ", ".join(ENDINGS[:4])
            raise ApiProblem(415, f"{path.name} is not taken for a sliced file; those end in {listed}.")
        name = check_name(plain_name(path.name))
        under = check_folder("/".join(path.parent.relative_to(folder).parts))
        received = await intake.receive(_pieces(path))
        number = await intake.take(received, name, BY, folder=under, how="from the hot folder")
        row = await intake.settled(number, 3600)
        if row.state != "done":
            raise ApiProblem(422, row.problem or "It is still being read.")
        added = "Added to" if row.new else "The same is already in"
        _move(folder, path, TAKEN, f"{added} the library as file {row.file_id}, {name}.")
    except (ApiProblem, CoreError) as error:
        _move(folder, path, REFUSED, str(error))


async def _pieces(path: Path) -> AsyncIterator[bytes]:
    with path.open("rb") as source:
        while piece := await asyncio.to_thread(source.read, PIECE):
            yield piece


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
