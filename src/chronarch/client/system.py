"""Calls about the service itself."""

from __future__ import annotations

from chronarch.client.call import Call
from chronarch.wire.system.backups import Backups, BackupSettingsChange, TrialWish
from chronarch.wire.system.health import Health
from chronarch.wire.system.shop import HandsWish, ShopInfo


def shop() -> Call[ShopInfo]:
    return Call("GET", "/api/shop", ShopInfo)


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
