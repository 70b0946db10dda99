"""Folders of the service's computer from which files may be taken: those that its settings name, and drives that are
plugged in. Nothing outside them is seen, whatever a path or a link in it says."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated

from chronarch.core.library.names import is_sliced
from chronarch.service.context import part
from chronarch.service.problems import ApiProblem
from chronarch.wire import library as w

MOUNTS = (Path("/media"), Path("/run/media"), Path("/mnt"))
"""Where Debian mounts what is plugged in; drives lie up to two levels below."""
MOST_ENTRIES = 2000
MOST_TAKEN = 500


@dataclass
class Drives:
    """`folders` are those that the settings name."""

    folders: Sequence[Path]

    def roots(self) -> list[Path]:
        """The folders that may be looked into, by path."""
        mounted = [below for place in MOUNTS for below in _below(place, 2) if os.path.ismount(below)]
        return sorted({folder.resolve() for folder in (*self.folders, *mounted) if folder.is_dir()})

    def shown(self) -> list[w.Drive]:
        """The roots, with what room they have."""
        found = []
        for root in self.roots():
            try:
                usage = shutil.disk_usage(root)
            except OSError:
                continue
            found.append(w.Drive(path=str(root), free=usage.free, size=usage.total))
        return found

    def find(self, path: str) -> Path:
        """A path within a root. Raises ApiProblem (404)."""
        try:
            found = Path(path).resolve()
        except (OSError, ValueError, RuntimeError):
            found = Path("/")
        if not any(found.is_relative_to(root) for root in self.roots()) or not found.exists():
            raise ApiProblem(
                404, f"{path!r} is not in a folder that may be looked into; `chronarch files drives` shows all."
            )
        return found

    def entries(self, path: str) -> w.DriveFolder:
        """What is in a folder: folders, and files that end as sliced ones do. Raises ApiProblem (404, 422)."""
        folder = self.find(path)
        if not folder.is_dir():
            raise ApiProblem(422, f"{path} is a file. Name the folder that it is in.")
        found = []
        try:
            for entry in sorted(_inside(folder), key=lambda one: (one.is_file(), one.name.casefold())):
                status = entry.stat()
                at = datetime.fromtimestamp(status.st_mtime, UTC)
                found.append(w.DriveEntry(
                    name=entry.name, path=str(entry), folder=entry.is_dir(), size=status.st_size, changed_at=at
                ))  # fmt: skip
        except OSError as error:
            raise ApiProblem(422, f"{path} cannot be read: {error.strerror}.") from None
        root = any(folder == one for one in self.roots())
        return w.DriveFolder(
            path=str(folder), above="" if root else str(folder.parent), entries=found[:MOST_ENTRIES],
            more=max(0, len(found) - MOST_ENTRIES),
        )  # fmt: skip

    def sliced(self, paths: Sequence[str]) -> list[tuple[Path, str]]:
        """The files that paths mean, each with the folder that it lies in below what was named: a folder means all that
        is in it. Raises ApiProblem (404, 422)."""
        found: list[tuple[Path, str]] = []
        for path in paths:
            named = self.find(path)
            if named.is_file():
                found.append((named, ""))
                continue
            for file in _walk(named):
                found.append((file, "/".join((named.name, *file.parent.relative_to(named).parts))))
                if len(found) > MOST_TAKEN:
                    raise ApiProblem(422, f"Over {MOST_TAKEN} files are in it. Take some of them at a time.")
        if not found:
            raise ApiProblem(422, "There is no sliced file in it.")
        return found


def _below(place: Path, levels: int) -> Iterator[Path]:
    try:
        inside = [path for path in place.iterdir() if path.is_dir() and not path.is_symlink()]
    except OSError:
        return
    for path in inside:
        yield path
        if levels > 1:
            yield from _below(path, levels - 1)


def _inside(folder: Path) -> Iterator[Path]:
    for path in folder.iterdir():
        plain = not path.name.startswith(".") and not path.is_symlink()
        if plain and (path.is_dir() or (path.is_file() and is_sliced(path.name))):
            yield path


def _walk(folder: Path) -> Iterator[Path]:
    for path in sorted(_inside(folder)):
        if path.is_dir():
            yield from _walk(path)
        else:
            yield path


TheDrives = Annotated[Drives, part(Drives)]
