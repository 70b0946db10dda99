"""Taking a backup: what is new of the store, the records as they are at one moment, then what came meanwhile.

Files of the store never change, so only those that the place has not got are copied. They are looked through before
and after the dump: before, because it takes long; after, so that all that the dump's records name is there.
"""

from __future__ import annotations

import base64
import time
from collections.abc import Callable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from pathlib import Path
from zoneinfo import ZoneInfo

from chronarch.core.clock import BootWall
from chronarch.core.errors import CoreError
from chronarch.core.system.keeping import to_keep
from chronarch.core.system.sealing import Locks, PublicKey, SharedKey
from chronarch.records.database import revision_of
from chronarch.service.system.backup import database_copy
from chronarch.service.system.backup.archive import (
    HEAD,
    Archive,
    ArchiveTrouble,
    BackupList,
    Head,
    Item,
    find_head,
    stamp_of,
    time_of,
)
from chronarch.service.system.backup.places import Place, PlaceFailed, place_at
from chronarch.service.system.backup.stored_files import KINDS, files_of
from chronarch.service.system.backup.work_messages import Going, Keys, Taken, TakeOrder

AT_A_TIME = 4
"""So many files are sealed and sent at a time."""
AHEAD = 16
"""So many are waiting for that at most."""
READ = 1 << 20
SPARE = 256 << 20
"""Bytes that a folder has to have left beside what is copied, for the dump and the lists."""
SAID_EVERY_S = 0.5
Say = Callable[[Going], None]


def begin_place(place: Place, head: Head) -> Head:
    """Take a place for a shop's backups, or find that it has it already. Raises PlaceFailed, ArchiveTrouble."""
    found = find_head(place)
    if found is None:
        if next(iter(place.names("")), None) is not None:
            raise ArchiveTrouble(
                f"{place.address} holds other things already. Give a place of their own to backups, such as a new "
                "folder in it."
            )
        place.put(HEAD, [head.as_json()])
        return head
    if found.shop != head.shop:
        raise ArchiveTrouble(
            f"{place.address} has the backups of another shop ({found.name}). Give each shop a place of its own."
        )
    return found


def open_archive(place: Place, shop: str, keys: Keys) -> Archive:
    """The backups of a shop. Raises PlaceFailed, ArchiveTrouble: they are not there, or not sealed with these keys."""
    head = find_head(place)
    if head is None:
        raise ArchiveTrouble(f"There are no backups at {place.address}. Is its drive mounted, and the address right?")
    if head.shop != shop:
        raise ArchiveTrouble(f"{place.address} has the backups of another shop ({head.name}).")
    if bool(head.sealing.public) != bool(keys.public) or head.sealing.public != bytes.fromhex(keys.public):
        raise ArchiveTrouble(f"The backups at {place.address} are not sealed as they are here. Set the place up anew.")
    shared = SharedKey(bytes.fromhex(keys.shared)) if keys.shared else None
    if shared is not None and not head.sealing.public:
        head.sealing.try_key(shared)
    locks: Locks = PublicKey(head.sealing.public) if head.sealing.public else head.sealing.locks(shared)
    return Archive(place, head, locks, shared)


def take(order: TakeOrder, say: Say) -> Taken:
    """Take a backup. Raises CoreError, OSError."""
    began = time.monotonic()
    place = place_at(order.place.address, order.place.login, order.place.password)
    archive = open_archive(place, order.shop, order.keys)
    place.sweep()
    stamp = _new_stamp(archive, BootWall(order.at, began))
    copying = _Copying(archive, order.blobs, bytes.fromhex(order.name_key), say)
    copying.copy("the files")
    records, sealed = _copy_records(archive, archive.records_name(stamp), order.database, say)
    copying.copy("what came meanwhile")
    key = order.secrets_key.read_bytes() if order.secrets_key.exists() else b""
    told = BackupList(
        stamp, time_of(stamp), order.shop, archive.head.name, order.version, revision_of(order.database),
        order.shop_at, records, base64.b64encode(key).decode(), order.name_key,
        len(copying.items), sum(item.size for item in copying.items.values()),
    )  # fmt: skip
    archive.write_names(stamp, copying.items)
    archive.write_list(told, copying.items.values())
    kept, problem = _clear_up(archive, order, say)
    return Taken(
        stamp=stamp, taken_at=told.taken_at, took_s=time.monotonic() - began, items=told.items,
        items_bytes=told.items_bytes, records_bytes=records, sent_bytes=copying.sent + sealed, kept=kept,
        problem=problem,
    )  # fmt: skip


def _new_stamp(archive: Archive, clock: BootWall) -> str:
    """One that no backup has, by the service's clock: this process's own may have been set since."""
    there = set(archive.stamps())
    while (stamp := stamp_of(clock.now())) in there:
        time.sleep(0.1)
    return stamp


def _copy_records(archive: Archive, name: str, database: str, say: Say) -> tuple[int, int]:
    """Copy the records; how many bytes they are, and how many that came to."""
    counted = _Counted(database_copy.dump(database), lambda done: say(Going(step="the records", done=done)))
    sealed = archive.write(name, counted, pack=True)
    return counted.bytes, sealed


def _clear_up(archive: Archive, order: TakeOrder, say: Say) -> tuple[list[str], str]:
    """Remove what is not kept any more; the backups that are left, and what went wrong."""
    say(Going(step="clearing up"))
    stamps = archive.stamps()
    try:
        keep = to_keep([time_of(stamp) for stamp in stamps], order.rule, ZoneInfo(order.zone))
        gone = [stamp for stamp in stamps if time_of(stamp) not in keep]
        archive.drop_backups(gone)
        archive.drop_unneeded()
        return [stamp for stamp in stamps if stamp not in gone], ""
    except CoreError as error:
        return stamps, f"older backups could not be cleared up: {error}"


class _Copying:
    """Copies what the place has not got of a store, several files at a time."""

    def __init__(self, archive: Archive, blobs: Path, name_key: bytes, say: Say) -> None:
        self._archive, self._blobs, self._name_key, self._say = archive, blobs, name_key, say
        self._there = archive.objects()
        self.items: dict[str, Item] = {}
        """By the name of their object."""
        self.sent = 0
        self._done = self._total = 0
        self._said_s = 0.0

    def copy(self, step: str) -> None:
        """Copy what is not there yet. Raises CoreError, OSError."""
        new: list[tuple[str, Item]] = []
        for item in files_of(self._blobs):
            name = Archive.object_name(self._name_key, item)
            if name in self.items:
                continue
            if name in self._there:
                self.items[name] = item
            else:
                new.append((name, item))
        self._total += sum(item.size for _, item in new)
        self._check_room(self._total - self._done)
        under_way: set[Future[tuple[str, Item, int]]] = set()
        with ThreadPoolExecutor(AT_A_TIME) as pool:
            try:
                for name, item in new:
                    if len(under_way) >= AHEAD:
                        under_way = self._settle(under_way, step)
                    under_way.add(pool.submit(self._one, name, item))
                while under_way:
                    under_way = self._settle(under_way, step)
            except BaseException:
                pool.shutdown(cancel_futures=True)
                raise

    def _settle(self, under_way: set[Future[tuple[str, Item, int]]], step: str) -> set[Future[tuple[str, Item, int]]]:
        done, rest = wait(under_way, return_when=FIRST_COMPLETED)
        for one in done:
            name, item, sent = one.result()
            self._done += item.size
            if sent:
                self.items[name] = item
                self._there.add(name)
                self.sent += sent
        if time.monotonic() - self._said_s > SAID_EVERY_S:
            self._said_s = time.monotonic()
            self._say(Going(step=step, done=self._done, total=self._total))
        return rest

    def _one(self, name: str, item: Item) -> tuple[str, Item, int]:
        """Copy one file; how many bytes were sent: none when it is gone."""
        kind = KINDS[item.kind]
        try:
            source = kind.path(self._blobs, item.name).open("rb")
        except FileNotFoundError:  # thinned, or dropped, since it was seen: no record names it any more
            return name, item, 0
        with source:
            return name, item, self._archive.write(name, iter(lambda: source.read(READ), b""), kind.pack)

    def _check_room(self, wanted: int) -> None:
        free = self._archive.place.free()
        if free is not None and free < wanted + SPARE:
            raise PlaceFailed(
                f"{self._archive.place.address} has {free / 1e9:.1f} GB left; up to {(wanted + SPARE) / 1e9:.1f} GB "
                "are needed. Make room there, keep fewer backups, or take a larger place."
            )


class _Counted:
    """Pieces that are counted as they go by."""

    def __init__(self, pieces: Iterator[bytes], told: Callable[[int], None]) -> None:
        self._pieces, self._told = pieces, told
        self.bytes = 0

    def __iter__(self) -> Iterator[bytes]:
        said_s = 0.0
        for piece in self._pieces:
            self.bytes += len(piece)
            if time.monotonic() - said_s > SAID_EVERY_S:
                said_s = time.monotonic()
                self._told(self.bytes)
            yield piece
