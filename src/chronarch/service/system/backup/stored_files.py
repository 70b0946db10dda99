"""The files beside the records that a backup holds: of which kinds, and where they lie."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from chronarch.service.system.backup.archive import Item

HASH, LOG = re.compile(r"[0-9a-f]{64}"), re.compile(r"[0-9]{1,12}\.log\.gz")


@dataclass(frozen=True)
class StoredKind:
    """Files of one kind: the folder, whether each is named by its hash (SHA-256), and whether packing them pays."""

    folder: str
    by_hash: bool
    pack: bool

    def path(self, blobs: Path, name: str) -> Path:
        """Where a file of this kind lies. Raises ValueError for a name that none of them has."""
        if not (HASH if self.by_hash else LOG).fullmatch(name):
            raise ValueError(f"{name!r} is no name of a file in {self.folder or 'the store'}")
        return blobs / self.folder / name[:2] / name if self.by_hash else blobs / self.folder / name


KINDS = {
    "content": StoredKind("", by_hash=True, pack=True),
    "frame": StoredKind("frames", by_hash=True, pack=False),
    "film": StoredKind("films", by_hash=True, pack=False),
    "log": StoredKind("logs", by_hash=False, pack=False),
}
"""Sliced files and photos, kept frames, films, and the line logs of builds. What is derived from them is made again."""


def files_of(blobs: Path) -> Iterator[Item]:
    """All files of a store, as they are now."""
    for kind, one in KINDS.items():
        for entry in _entries(blobs / one.folder, one.by_hash):
            if (HASH if one.by_hash else LOG).fullmatch(entry.name):
                try:
                    stat = entry.stat()
                except FileNotFoundError:  # thinned just now
                    continue
                yield Item(kind, entry.name, stat.st_size, "" if one.by_hash else str(stat.st_mtime_ns))


def _entries(folder: Path, by_hash: bool) -> Iterator[os.DirEntry[str]]:
    if not folder.is_dir():
        return
    with os.scandir(folder) as found:
        for entry in found:
            if not by_hash and entry.is_file(follow_symlinks=False):
                yield entry
            elif by_hash and re.fullmatch("[0-9a-f]{2}", entry.name) and entry.is_dir(follow_symlinks=False):
                with os.scandir(entry.path) as inner:
                    yield from (file for file in inner if file.is_file(follow_symlinks=False))
