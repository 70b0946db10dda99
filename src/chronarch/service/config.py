"""What the service is told at its start, from the environment."""

from __future__ import annotations

import os
import time
from dataclasses import dataclass
from pathlib import Path

from chronarch.core.clock import parse_clock
from chronarch.installation import OWN, Installation, InstallFailed
from chronarch.records.server import PrivateServer

GIB = 1024**3
MOST_LARGEST = 64 * GIB
SERVER_WITHIN_S = 60.0


@dataclass(frozen=True)
class Config:
    """`blobs`: the folder where files are kept by content; `largest_file`: bytes."""

    database: str
    blobs: Path
    clock: str = ""
    shop: str = "The shop"
    largest_file: int = 2 * GIB
    session_hours: float = 14.0
    folders: tuple[Path, ...] = ()
    """Folders of this computer from which files may be taken, beside drives that are plugged in."""
    secrets_key: Path | None = None
    """The file with the key that others' secrets are encrypted with; beside the blobs without one."""
    demo_hands: Path | None = None
    """In the demo: the file that says whether its simulated hands are away."""
    local_tender: Path | None = None
    """The file that the tender of this computer has its key from."""
    port: int = 0
    """Where the service itself listens; 0 where it does not."""

    @classmethod
    def from_environment(cls) -> Config:
        """Read CHRONARCH_DATABASE, _BLOBS, _CLOCK, _SHOP, _LARGEST_FILE, _FOLDERS, _SECRETS_KEY, _LOCAL_TENDER and
        _DEMO_HANDS; without the first, those of the installation on this computer. Raises ValueError."""
        told = os.environ if "CHRONARCH_DATABASE" in os.environ else {**_installed(), **os.environ}
        try:
            database, blobs = told["CHRONARCH_DATABASE"], told["CHRONARCH_BLOBS"]
        except KeyError as missing:
            raise ValueError(f"Set {missing.args[0]}: the service does not start without it.") from None
        if database == OWN:
            server = PrivateServer(Path(told["CHRONARCH_DATABASE_FOLDER"]), int(told["CHRONARCH_DATABASE_PORT"]))
            database = _known(server)
        largest = told.get("CHRONARCH_LARGEST_FILE", str(2 * GIB))
        if not (largest.isascii() and largest.isdigit() and 0 < int(largest[:18]) <= MOST_LARGEST):
            raise ValueError(f"CHRONARCH_LARGEST_FILE is a number of bytes up to {MOST_LARGEST}; {largest!r} is none.")
        parse_clock(told.get("CHRONARCH_CLOCK", ""))
        return cls(
            database=database,
            blobs=Path(blobs),
            clock=told.get("CHRONARCH_CLOCK", ""),
            shop=told.get("CHRONARCH_SHOP", "The shop"),
            folders=tuple(Path(one) for one in told.get("CHRONARCH_FOLDERS", "").split(os.pathsep) if one),
            secrets_key=Path(key) if (key := told.get("CHRONARCH_SECRETS_KEY")) else None,
            demo_hands=Path(hands) if (hands := told.get("CHRONARCH_DEMO_HANDS")) else None,
            local_tender=Path(tender) if (tender := told.get("CHRONARCH_LOCAL_TENDER")) else None,
            largest_file=int(largest),
        )


def _installed() -> dict[str, str]:
    """The settings of the installation on this computer; none where there is none that may be read."""
    try:
        return Installation(Path("/")).read()
    except InstallFailed:
        return {}


def _known(server: PrivateServer) -> str:
    """The address of an installation's own database, once its server has made its account. Raises ValueError."""
    deadline = time.monotonic() + SERVER_WITHIN_S
    while True:
        try:
            return server.url
        except FileNotFoundError:
            if time.monotonic() > deadline:
                raise ValueError(f"The database server has not begun in {server.folder}; does it run?") from None
        except PermissionError:
            raise ValueError(f"{server.folder} may be read by the user chronarch and by root alone.") from None
        time.sleep(0.2)
