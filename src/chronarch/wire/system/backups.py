"""Backups: where they go and when, those that were taken, and what is under way."""

from __future__ import annotations

from datetime import time
from typing import Annotated, Literal

from pydantic import Field

from chronarch.core.system.keeping import MOST_KEPT
from chronarch.wire.common import Time, Wire

Passphrase = Annotated[str, Field(min_length=12, max_length=300)]
Address = Annotated[str, Field(min_length=1, max_length=500, pattern=r"^[^\x00-\x1f\x7f]+$")]
Secret = Annotated[str, Field(max_length=300)]
KeyHex = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]
Stamp = Annotated[str, Field(max_length=24, pattern=r"^[0-9tz-]*$")]
Kept = Annotated[int, Field(ge=0, le=MOST_KEPT)]
Weekday = Annotated[int, Field(ge=0, le=6)]


class BackupPlace(Wire):
    """Where backups go, and how they are sealed: with a passphrase, or for a public key (X25519, hexadecimal)."""

    address: Address
    """A folder, or `s3+https://HOST/BUCKET/PREFIX`."""
    login: Secret = ""
    password: Secret = ""
    passphrase: Passphrase | None = None
    public_key: KeyHex | None = None


class BackupSettingsChange(Wire):
    """What is to be different; what is left out stays as it is."""

    place: BackupPlace | None = None
    at: time | None = None
    on: bool | None = None
    daily: Kept | None = None
    weekly: Kept | None = None
    monthly: Kept | None = None
    try_on: Weekday | None = None


class BackupSettings(Wire):
    """Where backups go and when: each day at a time of the shop's zone, so many kept of days, weeks and months; on one
    day of the week (0: Monday) the newest is tried."""

    address: str = ""
    """Empty while no place was given."""
    login: str = ""
    sealed_with: Literal["", "passphrase", "public key"] = ""
    on: bool = True
    at: time = time(2, 30)
    daily: Kept = 7
    weekly: Kept = 4
    monthly: Kept = 12
    try_on: Weekday = 6


class BackupWork(Wire):
    """What is under way; `share` is None while it is not known how much there is."""

    what: Literal["backup", "trial"]
    step: str
    since: Time
    """Real time."""
    share: float | None = None


class Backup(Wire):
    """A backup that was taken, or failed (`problem`). Times are real; sizes are bytes."""

    number: int
    stamp: str
    """What it is called at its place; empty where it failed."""
    at: Time
    asked_by: str
    problem: str
    took_s: float
    items: int
    items_bytes: int
    records_bytes: int
    sent_bytes: int
    tried_at: Time | None
    restore_s: float | None
    """How long a restore would take, as measured by its trial."""
    faults: int
    first_faults: list[str]


class Backups(Wire):
    """All there is to know of backups; the newest first."""

    settings: BackupSettings
    same_disk: bool
    """Whether they lie on the disk of what they are of."""
    work: BackupWork | None
    troubles: list[str]
    """What is not as it should be, in words."""
    next_at: Time | None
    """When the next is due, real time."""
    zone: str
    backups: list[Backup]


class TrialWish(Wire):
    """Which backup is to be tried: the newest without a stamp. Of those that are sealed for a public key only with the
    private key, which is kept nowhere."""

    stamp: Stamp = ""
    private_key: KeyHex | None = None
