"""Trying a backup: its records are restored into a server of their own, the ledger of each machine is proved there, and
each file is read back and compared with its hash."""

from __future__ import annotations

import asyncio
import shutil
import time
from collections.abc import Iterator
from dataclasses import dataclass, field

from chronarch.core.system.sealing import Opens, PrivateKey, SealBroken, SharedKey
from chronarch.records.database import make_engine, make_sessions, migrate
from chronarch.records.ledger.proof import prove
from chronarch.records.server import PrivateServer
from chronarch.records.system.backups import NamedFiles, named_files
from chronarch.service.system.backup import database_copy
from chronarch.service.system.backup.archive import Archive, ArchiveTrouble, BackupList, Item, find_head
from chronarch.service.system.backup.database_copy import CopyFailed
from chronarch.service.system.backup.places import NotThere, place_at
from chronarch.service.system.backup.reading import read_all
from chronarch.service.system.backup.taking import SAID_EVERY_S, Say
from chronarch.service.system.backup.work_messages import Going, Keys, Tried, TryOrder

MOST_FAULTS = 50


@dataclass
class _Found:
    """What is wrong with a backup."""

    count: int = 0
    texts: list[str] = field(default_factory=list)
    damaged: list[str] = field(default_factory=list)

    def add(self, text: str) -> None:
        self.count += 1
        if len(self.texts) < MOST_FAULTS:
            self.texts.append(text)


def open_to_read(order: TryOrder) -> Archive:
    """The backups of a place, opened with the keys that are there. Raises PlaceFailed, ArchiveTrouble."""
    place = place_at(order.place.address, order.place.login, order.place.password)
    head = find_head(place)
    if head is None:
        raise ArchiveTrouble(f"There are no backups at {place.address}. Is its drive mounted, and the address right?")
    if order.shop and head.shop != order.shop:
        raise ArchiveTrouble(f"{place.address} has the backups of another shop ({head.name}).")
    return Archive(place, head, None, opens_with(head.sealing.public, order.keys))


def opens_with(public: bytes, keys: Keys) -> Opens:
    """Raises ArchiveTrouble."""
    if public:
        if not keys.private:
            raise ArchiveTrouble(
                "These backups are sealed for a public key: only with the private key can one be tried. Try it with "
                "`chronarch backup verify --private-key FILE`."
            )
        return PrivateKey(bytes.fromhex(keys.private))
    if not keys.shared:
        raise ArchiveTrouble("The passphrase of these backups is not known here.")
    return SharedKey(bytes.fromhex(keys.shared))


def newest_of(archive: Archive, stamp: str) -> str:
    """The stamp of a backup, or of the newest. Raises ArchiveTrouble."""
    stamps = archive.stamps()
    if stamp and stamp not in stamps:
        there = ", ".join(stamps[-5:]) or "none"
        raise ArchiveTrouble(f"There is no backup {stamp} at {archive.place.address}; the newest are: {there}.")
    if not stamps:
        raise ArchiveTrouble(f"There is no complete backup at {archive.place.address}.")
    return stamp or stamps[-1]


def try_backup(order: TryOrder, say: Say) -> Tried:
    """Try one. Raises CoreError, ServerFailed, OSError: it could not be tried, which says nothing about it."""
    began = time.monotonic()
    archive = open_to_read(order)
    stamp = newest_of(archive, order.stamp)
    found, named = _Found(), NamedFiles()
    try:
        told, items = archive.read_list(stamp)
    except (NotThere, SealBroken) as error:
        found.add(f"its list: {error}")
        return _tried(stamp, began, 0.0, named, [], found)
    shutil.rmtree(order.scratch, ignore_errors=True)
    server = PrivateServer(order.scratch)
    try:
        say(Going(step="the records"))
        server.start()
        loaded = time.monotonic()
        named = _try_records(archive, told, server, found, say)
        records_s = time.monotonic() - loaded
    finally:
        server.stop()
        shutil.rmtree(order.scratch, ignore_errors=True)
    _compare(named, items, found)
    read_s = _try_files(archive, told, items, found, say)
    archive.place.drop(found.damaged)  # the next backup copies anew what the store still has of them
    return _tried(stamp, began, records_s + read_s, named, items, found)


def _tried(stamp: str, began: float, restore_s: float, named: NamedFiles, items: list[Item], found: _Found) -> Tried:
    return Tried(
        stamp=stamp, took_s=time.monotonic() - began, restore_s=restore_s, machines=len(named.machines),
        builds=named.builds, items=len(items), found=found.count, faults=found.texts, damaged=found.damaged,
    )  # fmt: skip


def _try_records(archive: Archive, told: BackupList, server: PrivateServer, found: _Found, say: Say) -> NamedFiles:
    """Restore the records, and prove the ledger that they have."""
    name = archive.records_name(told.stamp)
    try:
        size = database_copy.load(server.url, archive.read(name, packed=True))
        if size != told.records_bytes:
            raise SealBroken(f"they have {size:,} bytes; {told.records_bytes:,} were kept")
    except (NotThere, SealBroken, CopyFailed) as error:
        found.add(f"its records: {error}")
        return NamedFiles()
    migrate(server.url)
    return asyncio.run(_walk(server.url, found, say))


async def _walk(database: str, found: _Found, say: Say) -> NamedFiles:
    engine = make_engine(database)
    sessions = make_sessions(engine)
    async with sessions() as db:
        named = await named_files(db)
    for done, (number, name) in enumerate(named.machines):
        say(Going(step="the ledger", done=done, total=len(named.machines)))
        async with sessions() as db:
            for fault in (await prove(db, number)).faults:
                found.add(f"the ledger of {name}: {fault.text}")
    await engine.dispose()
    return named


def _compare(named: NamedFiles, items: list[Item], found: _Found) -> None:
    """That all that the records name is there."""
    there: dict[str, set[str]] = {}
    for item in items:
        there.setdefault(item.kind, set()).add(item.name)
    for kind, hashes in named.hashes.items():
        for sha256 in sorted(hashes - there.get(kind, set())):
            found.add(f"the records name the {kind} {sha256}, which is not in it")


def _try_files(archive: Archive, told: BackupList, items: list[Item], found: _Found, say: Say) -> float:
    """Read all files back; how long that took, s."""
    began = said_s = time.monotonic()
    done, total = 0, sum(item.size for item in items)
    name_key = bytes.fromhex(told.name_key)
    for item, wrong in read_all(archive, name_key, items, _drained):
        done += item.size
        if wrong:
            found.add(f"the {item.kind} {item.name}: {wrong}")
            found.damaged.append(Archive.object_name(name_key, item))
        if time.monotonic() - said_s > SAID_EVERY_S:
            said_s = time.monotonic()
            say(Going(step="the files", done=done, total=total))
    return time.monotonic() - began


def _drained(item: Item, pieces: Iterator[bytes]) -> None:
    for _ in pieces:
        pass
