"""What a tender must find again when it is started anew: its machines, and each build as far as it has come.

One folder a machine: `charge` as the service last gave it, `kept` as the steward keeps it. A charge may hold a link's
password: both are for their owner's eyes only.
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

from chronarch.core.kept import Kept
from chronarch.core.states import MachineState
from chronarch.private_file import write_private
from chronarch.wire.upstream import Charge

LONGEST_NAME = 120
log = logging.getLogger("chronarch.keeping")


@dataclass
class Standing:
    """One machine as its link last knew it. `build` is the one that lies on it, under way or ended."""

    state: MachineState
    reason: str = ""
    build: int | None = None
    started_at: datetime | None = None
    ended_at: datetime | None = None
    speed: int | None = None
    kept: Kept | None = None


_standing = TypeAdapter(Standing)


class Keeping:
    """A folder with one folder a machine."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        folder.mkdir(parents=True, exist_ok=True)

    def folder(self, machine: str) -> Path:
        """A machine's own folder. A name too long for a file system is cut, and told from others by its hash."""
        name = quote(machine.lower(), safe="").replace(".", "%2E")  # `..` is a name like any other
        if len(name) > LONGEST_NAME:
            name = f"{name[:LONGEST_NAME]}-{hashlib.sha256(machine.lower().encode()).hexdigest()[:16]}"
        place = self._folder / name
        place.mkdir(exist_ok=True)
        return place

    def charge(self, charge: Charge) -> None:
        """Keep what the service says of a machine. Raises OSError."""
        write_private(self.folder(charge.machine) / "charge", charge.model_dump_json().encode())

    def standing(self, machine: str, standing: Standing) -> None:
        """Keep how a machine stands. Raises OSError."""
        write_private(self.folder(machine) / "kept", _standing.dump_json(standing))

    def all(self) -> Iterator[tuple[Charge, Standing | None]]:
        """Every machine that was kept; what cannot be read is passed over and told in the log."""
        for place in sorted(self._folder.iterdir()):
            try:
                charge = Charge.model_validate_json((place / "charge").read_bytes())
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
            yield charge, standing
