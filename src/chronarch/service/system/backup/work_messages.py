"""What the process that works on backups is told, and what it says."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field

from chronarch.core.system.keeping import KeepRule
from chronarch.wire.common import Wire


class PlaceAccess(Wire):
    """Where backups are kept, and how one is let in there."""

    address: str
    login: str = ""
    password: str = ""


class Keys(Wire):
    """What opens and seals backups, in hexadecimal; what is not known is empty."""

    shared: str = ""
    """What the passphrase came to."""
    public: str = ""
    private: str = ""


class TakeOrder(Wire):
    """Take a backup, and remove those that are not kept any more."""

    what: Literal["take"] = "take"
    place: PlaceAccess
    keys: Keys
    database: str
    blobs: Path
    secrets_key: Path
    shop: str
    name_key: str
    version: str
    at: datetime
    """Real time as the service has it, when the work begins."""
    shop_at: datetime
    zone: str
    rule: KeepRule


class TryOrder(Wire):
    """Try a backup: restore it into a server of its own, walk the ledger and all hashes."""

    what: Literal["try"] = "try"
    place: PlaceAccess
    keys: Keys
    shop: str
    stamp: str = ""
    """The newest without one."""
    scratch: Path
    """An empty folder; it is removed afterwards."""


Order = Annotated[TakeOrder | TryOrder, Field(discriminator="what")]


class Going(Wire):
    """How far the work has come, in bytes; `total` 0 while that is not known."""

    kind: Literal["going"] = "going"
    step: str
    done: int = 0
    total: int = 0


class Taken(Wire):
    """A backup was taken. Sizes are bytes: of all that it holds, and of what was new and went to the place."""

    kind: Literal["taken"] = "taken"
    stamp: str
    taken_at: datetime
    took_s: float
    items: int
    items_bytes: int
    records_bytes: int
    sent_bytes: int
    kept: list[str]
    """The stamps of all backups that are there now."""
    problem: str = ""
    """What went wrong after it was complete: older ones could not be cleared up."""


class Tried(Wire):
    """A backup was tried. `faults` says what is wrong with it: empty when a restore would bring everything back."""

    kind: Literal["tried"] = "tried"
    stamp: str
    took_s: float
    restore_s: float
    """How long a restore would take on this computer."""
    machines: int
    builds: int
    items: int
    found: int
    """How many faults there are; the first are told."""
    faults: list[str]
    damaged: list[str]
    """The objects that must be copied anew."""


class Failed(Wire):
    kind: Literal["failed"] = "failed"
    text: str


Line = Annotated[Going | Taken | Tried | Failed, Field(discriminator="kind")]
