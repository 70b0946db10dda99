"""Files that hold a secret: only their owner may read them, and they are replaced whole."""

from __future__ import annotations

import os
from contextlib import suppress
from pathlib import Path


def write_private(path: Path, data: bytes) -> None:
    """Replace a file, flushed to the disk, so that a power cut leaves the old or the new; mode 0600 from its first
    byte on. Raises OSError."""
    fresh = path.with_name(f"{path.name}.new")
    with suppress(FileNotFoundError):
        fresh.unlink()
    with os.fdopen(os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as out:
        out.write(data)
        out.flush()
        os.fsync(out.fileno())
    fresh.replace(path)
