"""Backups: what there are, taking and trying one, and where they go."""

from __future__ import annotations

from fastapi import APIRouter

from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.permissions import Caller
from chronarch.service.system.backup.keeper import TheBackupKeeper
from chronarch.wire.system.backups import Backups, BackupSettingsChange, TrialWish

router = APIRouter(tags=["setup"], route_class=RetryingRoute)


@router.get("/backups")
async def backups(keeper: TheBackupKeeper) -> Backups:
    """Where backups go and when, what is under way, and those there are, the newest first."""
    return await keeper.shown()


@router.post("/backups", status_code=202)
async def take_backup(who: Caller, keeper: TheBackupKeeper) -> Backups:
    """Begin to take one. It goes on by itself; `work` says how far it is."""
    await keeper.take(who.signature)
    return await keeper.shown()


@router.post("/backups/trial", status_code=202)
async def try_backup(wish: TrialWish, keeper: TheBackupKeeper) -> Backups:
    """Begin to try one: restore it into a database server of its own, prove the ledger there, compare all hashes."""
    await keeper.try_one(wish)
    return await keeper.shown()


@router.patch("/backup-settings")
async def change_backup_settings(change: BackupSettingsChange, keeper: TheBackupKeeper) -> Backups:
    """Change where backups go and when. Another place is tried at once."""
    await keeper.change(change)
    return await keeper.shown()
