"""What the shop has decided about backups, and how a place is taken for them."""

from __future__ import annotations

import asyncio
import os
import uuid
from dataclasses import dataclass
from datetime import datetime, time
from pathlib import Path

from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.system.backup_schedule import BackupTimes
from chronarch.core.system.keeping import KeepRule
from chronarch.core.system.sealing import ScryptCost, SharedKey, key_from, seal
from chronarch.records import tables as t
from chronarch.service.config import Config
from chronarch.service.secrets import Secrets
from chronarch.service.system.backup.archive import CHECK, ArchiveTrouble, Head, Sealing, find_head
from chronarch.service.system.backup.places import FolderPlace, place_at
from chronarch.service.system.backup.taking import begin_place
from chronarch.service.system.backup.work_messages import Keys, PlaceAccess
from chronarch.wire.common import Wire
from chronarch.wire.system.backups import BackupPlace, BackupSettings, BackupSettingsChange

NAME = "backup"
SALT = 16


class KeptSettings(Wire):
    """As the records have them. What is secret is encrypted."""

    shop: str = ""
    """The shop's own number, by which it knows its backups."""
    address: str = ""
    login: str = ""
    password: str = ""
    shared: str = ""
    public: str = ""
    name_key: str = ""
    on: bool = True
    at: time = time(2, 30)
    daily: int = 7
    weekly: int = 4
    monthly: int = 12
    try_on: int = 6
    tried_at: datetime | None = None
    """When a backup at this place was tried last, real time."""

    @property
    def times(self) -> BackupTimes:
        return BackupTimes(self.at, self.try_on)

    @property
    def rule(self) -> KeepRule:
        return KeepRule(self.daily, self.weekly, self.monthly)

    def shown(self) -> BackupSettings:
        """Without what is secret."""
        how = "public key" if self.public else "passphrase" if self.shared else ""
        fields = {name: getattr(self, name) for name in BackupSettings.model_fields if name != "sealed_with"}
        return BackupSettings(**fields, sealed_with=how)

    def access(self, secrets: Secrets) -> PlaceAccess:
        """Raises SecretLost."""
        return PlaceAccess(address=self.address, login=self.login, password=_open(self.password, secrets))

    def keys(self, secrets: Secrets, private: str = "") -> Keys:
        """Raises SecretLost."""
        return Keys(shared=_open(self.shared, secrets), public=self.public, private=private)

    def open_name_key(self, secrets: Secrets) -> str:
        """Raises SecretLost."""
        return _open(self.name_key, secrets)


def _open(sealed: str, secrets: Secrets) -> str:
    return secrets.open(sealed.encode()) if sealed else ""


async def load_backup(db: AsyncSession) -> KeptSettings:
    row = await db.get(t.Setting, NAME, populate_existing=True)
    return KeptSettings.model_validate(row.value) if row else KeptSettings()


async def keep_backup(db: AsyncSession, kept: KeptSettings) -> None:
    await db.merge(t.Setting(name=NAME, value=kept.model_dump(mode="json")))


@dataclass(frozen=True)
class PlaceTaker:
    """Takes places for the backups of a shop."""

    secrets: Secrets
    config: Config
    shop_name: str
    now: datetime

    async def taken(self, kept: KeptSettings, wish: BackupPlace) -> KeptSettings:
        """The settings with another place, which was tried. Raises CoreError."""
        if (wish.passphrase is None) == (wish.public_key is None):
            raise ArchiveTrouble("Give a passphrase, or a public key, with which the backups are sealed: one of both.")
        return await asyncio.to_thread(self._taken, kept, wish)

    def _taken(self, kept: KeptSettings, wish: BackupPlace) -> KeptSettings:
        place = place_at(wish.address, wish.login, wish.password)
        if isinstance(place, FolderPlace) and place.folder.resolve().is_relative_to(self.config.blobs.resolve()):
            raise ArchiveTrouble(f"{place.address} is within the store that is to be backed up; give another place.")
        found = find_head(place)
        shop = kept.shop or uuid.uuid4().hex
        shared: SharedKey | None = None
        if wish.passphrase is not None:
            if found is not None and found.shop == shop:
                shared = found.sealing.with_passphrase(wish.passphrase)
                sealing = found.sealing
            else:
                salt, cost = os.urandom(SALT), ScryptCost()
                shared = key_from(wish.passphrase, salt, cost)
                sealing = Sealing(salt, cost, b"".join(seal([b"chronarch"], shared, CHECK)))
        else:
            sealing = Sealing(public=bytes.fromhex(wish.public_key or ""))
        head = begin_place(place, Head(shop, self.shop_name, self.now, sealing))
        if head.sealing.public != sealing.public:
            raise ArchiveTrouble(
                f"The backups at {place.address} are sealed for another key. Give that one, or another place."
            )
        return kept.model_copy(
            update={
                "shop": shop,
                "tried_at": kept.tried_at if place.address == kept.address else None,
                "address": place.address,
                "login": wish.login,
                "public": sealing.public.hex(),
                "password": self._seal(wish.password),
                "shared": self._seal(shared.secret.hex() if shared else ""),
                "name_key": kept.name_key or self._seal(os.urandom(32).hex()),
            }
        )

    def _seal(self, text: str) -> str:
        return self.secrets.seal(text).decode() if text else ""


def changed(kept: KeptSettings, change: BackupSettingsChange) -> KeptSettings:
    """The settings with all that is to be different, but for the place."""
    return kept.model_copy(update=change.model_dump(exclude_none=True, exclude={"place"}))


def on_one_disk(address: str, blobs: Path) -> bool:
    """Whether backups lie on the disk of what they are of, which may take both with it."""
    try:
        return address.startswith("/") and Path(address).stat().st_dev == blobs.stat().st_dev
    except OSError:
        return False
