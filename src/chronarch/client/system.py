"""Calls about the service itself."""

from __future__ import annotations

from typing import Any

from chronarch.client.call import Call
from chronarch.wire.system.backups import Backups, BackupSettingsChange, TrialWish
from chronarch.wire.system.first_steps import FirstSteps, FirstStepsChange
from chronarch.wire.system.health import Health
from chronarch.wire.system.setup_file import SetupDone, SetupFormat, SetupText
from chronarch.wire.system.shop import HandsWish, ShopChange, ShopInfo
from chronarch.wire.system.storage import GivenUp, GiveUp, StorageShown


def shop() -> Call[ShopInfo]:
    return Call("GET", "/api/shop", ShopInfo)


def change_shop(change: ShopChange) -> Call[ShopInfo]:
    """Say what the shop is called, and in which language the console writes dates."""
    return Call("PATCH", "/api/shop", ShopInfo, body=change)


def setup_file(form: SetupFormat = SetupFormat.TOML) -> Call[bytes]:
    """What the shop has decided: all of it as TOML, the machines as CSV, or models and materials as JSON."""
    return Call("GET", "/api/setup-file", bytes, params={"format": form})


def catalogue_schema() -> Call[dict[str, Any]]:
    """The JSON Schema of a catalogue."""
    return Call("GET", "/api/setup-file/schema", dict[str, Any])


def apply_setup_file(text: str, dry_run: bool = False, form: SetupFormat = SetupFormat.TOML) -> Call[SetupDone]:
    """Have the shop be as a file says, or only say what would change."""
    return Call("POST", "/api/setup-file", SetupDone, body=SetupText(text=text, format=form, dry_run=dry_run))


def storage() -> Call[StorageShown]:
    """What takes how much of the disk, and when it will be full."""
    return Call("GET", "/api/storage", StorageShown)


def give_up_storage(asked: GiveUp) -> Call[GivenUp]:
    """Have some of what can go go for good."""
    return Call("POST", "/api/storage/give-up", GivenUp, body=asked)


def first_steps() -> Call[FirstSteps]:
    """What a new shop still wants, and what is done already."""
    return Call("GET", "/api/first-steps", FirstSteps)


def change_first_steps(change: FirstStepsChange) -> Call[FirstSteps]:
    """Skip a step, take one up again, or say that the shop is set up."""
    return Call("PATCH", "/api/first-steps", FirstSteps, body=change)


def send_hands(away: bool) -> Call[ShopInfo]:
    """In the demo: send its simulated hands away, or have them back."""
    return Call("PUT", "/api/demo/hands", ShopInfo, body=HandsWish(away=away))


def health() -> Call[Health]:
    return Call("GET", "/api/health", Health)


def backups() -> Call[Backups]:
    """Where backups go and when, what is under way, and those there are, the newest first."""
    return Call("GET", "/api/backups", Backups)


def take_backup() -> Call[Backups]:
    """Begin to take one; it goes on by itself."""
    return Call("POST", "/api/backups", Backups)


def try_backup(stamp: str = "", private_key: str | None = None) -> Call[Backups]:
    """Begin to try one, the newest without a stamp; it goes on by itself."""
    return Call("POST", "/api/backups/trial", Backups, body=TrialWish(stamp=stamp, private_key=private_key))


def change_backup_settings(change: BackupSettingsChange) -> Call[Backups]:
    """Change where backups go and when."""
    return Call("PATCH", "/api/backup-settings", Backups, body=change)
