"""What the service is told at its start, from the environment."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

from chronarch.core.clock import parse_clock

GIB = 1024**3
MOST_LARGEST = 64 * GIB


@dataclass(frozen=True)
class Config:
    """`blobs`: the folder where files are kept by content; `largest_file`: bytes."""

    database: str
    blobs: Path
    clock: str = ""
    shop: str = "The shop"
    largest_file: int = 2 * GIB
    session_hours: float = 14.0
    hot_folder: Path | None = None
    """Files put here are taken into the library."""
    secrets_key: Path | None = None
    """The file with the key that others' secrets are encrypted with; beside the blobs without one."""
    demo_hands: Path | None = None
    """In the demo: the file that says whether its simulated hands are away."""
    port: int = 0
    """Where the service itself listens; 0 where it does not."""

    @classmethod
    def from_environment(cls) -> Config:
        """Read CHRONARCH_DATABASE, _BLOBS, _CLOCK, _SHOP, _LARGEST_FILE, _HOT_FOLDER, _SECRETS_KEY and
        _DEMO_HANDS. Raises ValueError."""
        try:
            database, blobs = os.environ["CHRONARCH_DATABASE"], os.environ["CHRONARCH_BLOBS"]
        except KeyError as missing:
            raise ValueError(f"Set {missing.args[0]}: the service does not start without it.") from None
        largest = os.environ.get("CHRONARCH_LARGEST_FILE", str(2 * GIB))
        if not (largest.isascii() and largest.isdigit() and 0 < int(largest[:18]) <= MOST_LARGEST):
            raise ValueError(f"CHRONARCH_LARGEST_FILE is a number of bytes up to {MOST_LARGEST}; {largest!r} is none.")
        parse_clock(os.environ.get("CHRONARCH_CLOCK", ""))
        return cls(
            database=database,
            blobs=Path(blobs),
            clock=os.environ.get("CHRONARCH_CLOCK", ""),
            shop=os.environ.get("CHRONARCH_SHOP", "The shop"),
            hot_folder=Path(hot) if (hot := os.environ.get("CHRONARCH_HOT_FOLDER")) else None,
            secrets_key=Path(key) if (key := os.environ.get("CHRONARCH_SECRETS_KEY")) else None,
            demo_hands=Path(hands) if (hands := os.environ.get("CHRONARCH_DEMO_HANDS")) else None,
            largest_file=int(largest),
        )
