"""What the service is told at its start, from the environment."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

GIB = 1024**3


@dataclass(frozen=True)
class Settings:
    """`blobs`: the folder where files are kept by content; `largest_file`: bytes."""

    database: str
    blobs: Path
    clock: str = ""
    shop: str = "The shop"
    largest_file: int = 2 * GIB
    session_hours: float = 14.0
    hot_folder: Path | None = None
    """Files put here are taken into the library."""

    @classmethod
    def from_environment(cls) -> Settings:
        """Read CHRONARCH_DATABASE, _BLOBS, _CLOCK, _SHOP, _LARGEST_FILE and _HOT_FOLDER. Raises ValueError."""
        try:
            database, blobs = os.environ["CHRONARCH_DATABASE"], os.environ["CHRONARCH_BLOBS"]
        except KeyError as missing:
            raise ValueError(f"Set {missing.args[0]}: the service does not start without it.") from None
        return cls(
            database=database,
            blobs=Path(blobs),
            clock=os.environ.get("CHRONARCH_CLOCK", ""),
            shop=os.environ.get("CHRONARCH_SHOP", "The shop"),
            hot_folder=Path(hot) if (hot := os.environ.get("CHRONARCH_HOT_FOLDER")) else None,
            largest_file=int(os.environ.get("CHRONARCH_LARGEST_FILE", 2 * GIB)),
        )
