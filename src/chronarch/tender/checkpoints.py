"""What a tender must find again when it is restarted: its machines, and how far each build has come.

Each machine has a folder: `config` as the service last gave it, `kept` as its controller keeps it. A config may hold
the password of an address, so both are readable only by their owner.
"""

from __future__ import annotations

import hashlib
import json
import logging
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from urllib.parse import quote

from pydantic import TypeAdapter, ValidationError

from chronarch.core.control.checkpoint import BuildCheckpoint
from chronarch.core.control.events import BuildEnded
from chronarch.core.machines.states import MachineState
from chronarch.private_file import write_private
from chronarch.wire.control.upstream import MachineConfig

LONGEST_NAME = 120
log = logging.getLogger("chronarch.keeping")


@dataclass
class MachineCheckpoint:
    """One machine as its driver last knew it. `build` is the build on it, under way or ended."""

    state: MachineState
    reason: str = ""
    build: int | None = None
    started_at: datetime | None = None
    ended_at: datetime | None = None
    speed: int | None = None
    kept: BuildCheckpoint | None = None
    ended: BuildEnded | None = None
    """How that build ended; None while it has not."""


_standing = TypeAdapter(MachineCheckpoint)


class CheckpointStore:
    """A folder with one folder for each machine."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        folder.mkdir(parents=True, exist_ok=True)

    def folder(self, machine: str) -> Path:
        """The folder of a machine. A name too long for the file system is cut and told from others by its hash."""
        name = quote(machine.lower(), safe="").replace(".", "%2E")  # `..` is an ordinary name here
        if len(name) > LONGEST_NAME:
            name = f"{name[:LONGEST_NAME]}-{hashlib.sha256(machine.lower().encode()).hexdigest()[:16]}"
        place = self._folder / name
        place.mkdir(exist_ok=True)
        return place

    def config(self, config: MachineConfig) -> None:
        """Keep the config that the service gave. Raises OSError."""
        write_private(self.folder(config.machine) / "config", config.model_dump_json().encode())

    def standing(self, machine: str, standing: MachineCheckpoint) -> None:
        """Keep the state of a machine. Raises OSError."""
        write_private(self.folder(machine) / "kept", _standing.dump_json(standing))

    def all(self) -> Iterator[tuple[MachineConfig, MachineCheckpoint | None]]:
        """Every machine that was kept. What cannot be read is skipped and logged."""
        for place in sorted(self._folder.iterdir()):
            try:
                config = MachineConfig.model_validate_json((place / "config").read_bytes())
            except (OSError, ValidationError) as error:
                log.warning("%s: its charge cannot be read: %s", place.name, str(error).splitlines()[0])
                continue
            standing = None
            try:
                standing = _standing.validate_json((place / "kept").read_bytes())
            except FileNotFoundError:
                pass
            except (OSError, ValidationError, json.JSONDecodeError) as error:
                log.warning("%s: what was kept of it cannot be read: %s", place.name, str(error).splitlines()[0])
            yield config, standing
