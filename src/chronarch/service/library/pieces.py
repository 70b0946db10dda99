"""A file of this computer, piece by piece."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from pathlib import Path

PIECE = 1 << 20


async def pieces_of(path: Path) -> AsyncIterator[bytes]:
    """Its bytes, read beside the loop. Raises OSError."""
    with path.open("rb") as source:
        while piece := await asyncio.to_thread(source.read, PIECE):
            yield piece
