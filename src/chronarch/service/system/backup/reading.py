"""Reading the files of a backup back, several at a time: each is compared with what its name and the list say of it."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait

from chronarch.core.system.sealing import SealBroken
from chronarch.service.system.backup.archive import Archive, Item
from chronarch.service.system.backup.places import NotThere
from chronarch.service.system.backup.stored_files import KINDS

AT_A_TIME, AHEAD = 4, 16
Keep = Callable[[Item, Iterator[bytes]], None]
Read = tuple[Item, str]
"""A file, and what is wrong with it; empty when it is what it should be."""


def read_all(archive: Archive, name_key: bytes, items: Sequence[Item], keep: Keep) -> Iterator[Read]:
    """Read files of a backup; `keep` is handed the bytes of each as they come. What it raises ends all, a file that is
    missing or damaged does not."""

    def one(item: Item) -> Read:
        name = Archive.object_name(name_key, item)
        try:
            keep(item, _checked(archive.read(name, KINDS[item.kind].pack), item))
        except NotThere:
            return item, "it is missing"
        except SealBroken as error:
            return item, str(error)
        return item, ""

    under_way: set[Future[Read]] = set()
    with ThreadPoolExecutor(AT_A_TIME) as pool:
        try:
            for item in items:
                under_way.add(pool.submit(one, item))
                if len(under_way) >= AHEAD:
                    done, under_way = wait(under_way, return_when=FIRST_COMPLETED)
                    yield from (future.result() for future in done)
            for future in under_way:
                yield future.result()
        except BaseException:
            pool.shutdown(cancel_futures=True)
            raise


def _checked(pieces: Iterator[bytes], item: Item) -> Iterator[bytes]:
    """The same bytes. Raises SealBroken at their end when they are others than were to come."""
    digest, size = hashlib.sha256(), 0
    for piece in pieces:
        digest.update(piece)
        size += len(piece)
        yield piece
    if size != item.size:
        raise SealBroken(f"it has {size:,} bytes; {item.size:,} were kept")
    if KINDS[item.kind].by_hash and digest.hexdigest() != item.name:
        raise SealBroken("its hash is not the one it is named by")
