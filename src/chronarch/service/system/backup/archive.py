"""The backups of one shop at one place: what is kept under which name. docs/protocols/backup.md has the format."""

from __future__ import annotations

import base64
import gzip
import hashlib
import hmac
import json
import re
from collections.abc import Iterable, Iterator
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from typing import Any

import zstandard

from chronarch.core.errors import CoreError
from chronarch.core.system.sealing import (
    USUAL_COST,
    Locks,
    Opens,
    PrivateKey,
    PublicKey,
    ScryptCost,
    SealBroken,
    SharedKey,
    key_from,
    open_sealed,
    seal,
)
from chronarch.service.system.backup.places import NotThere, Place

HEAD = "chronarch-backup.json"
FORMAT = 1
STAMP = "%Y-%m-%dt%H-%M-%Sz"
CHECK = "check"
LONGEST_LINE = 4096
MOST_HEAD = 65_536


class ArchiveTrouble(CoreError):
    """The backups at a place cannot be used as they are; says why, and what to do."""


@dataclass(frozen=True)
class Sealing:
    """How the backups of a place are sealed: with a passphrase (its salt and cost, and a sealed word that tells whether
    a passphrase is the right one) or for a public key."""

    salt: bytes = b""
    cost: ScryptCost = USUAL_COST
    check: bytes = b""
    public: bytes = b""

    def with_passphrase(self, passphrase: str) -> SharedKey:
        """Raises ArchiveTrouble."""
        if self.public:
            raise ArchiveTrouble("These backups are sealed for a public key; give the file with its private key.")
        key = key_from(passphrase, self.salt, self.cost)
        self.try_key(key)
        return key

    def with_private_key(self, key: PrivateKey) -> PrivateKey:
        """Raises ArchiveTrouble."""
        if not self.public:
            raise ArchiveTrouble("These backups are sealed with a passphrase; a private key does not open them.")
        if key.public != self.public:
            raise ArchiveTrouble("These backups were sealed for another public key than this private key's.")
        return key

    def try_key(self, key: SharedKey) -> None:
        """Raises ArchiveTrouble for the wrong one."""
        try:
            list(open_sealed([self.check], key, CHECK))
        except SealBroken:
            raise ArchiveTrouble("That is not the passphrase of these backups.") from None

    def locks(self, key: SharedKey | None) -> Locks:
        """What new files are sealed with."""
        if self.public:
            return PublicKey(self.public)
        if key is None:
            raise ArchiveTrouble("The passphrase of these backups is not known here.")
        return key


@dataclass(frozen=True)
class Head:
    """What a place says of itself to everybody: whose backups these are, and how they are sealed."""

    shop: str
    """The shop's own number, by which it knows its backups."""
    name: str
    begun: datetime
    sealing: Sealing

    def as_json(self) -> bytes:
        s = self.sealing
        how: dict[str, Any] = {"public_key": s.public.hex()} if s.public else {
            "passphrase": {"salt": s.salt.hex(), **asdict(s.cost), "check": base64.b64encode(s.check).decode()}
        }  # fmt: skip
        told = {"format": FORMAT, "shop": self.shop, "name": self.name, "begun": self.begun.isoformat(), "sealed": how}
        return json.dumps(told, indent=1).encode()

    @classmethod
    def read(cls, data: bytes, where: str) -> Head:
        """Raises ArchiveTrouble."""
        try:
            told = json.loads(data)
            if told["format"] != FORMAT:
                raise ArchiveTrouble(
                    f"The backups at {where} have format {told['format']}; this version reads format {FORMAT}."
                )
            how = told["sealed"]
            if "public_key" in how:
                sealing = Sealing(public=bytes.fromhex(how["public_key"]))
            else:
                given = how["passphrase"]
                sealing = Sealing(
                    bytes.fromhex(given["salt"]), ScryptCost(given["n"], given["r"], given["p"]),
                    base64.b64decode(given["check"]),
                )  # fmt: skip
            return cls(str(told["shop"]), str(told["name"]), datetime.fromisoformat(told["begun"]), sealing)
        except (ValueError, KeyError, TypeError):
            raise ArchiveTrouble(f"{HEAD} at {where} is damaged; the backups there cannot be opened by it.") from None


@dataclass(frozen=True)
class Item:
    """One file of the store: of which kind, its name, its bytes, and its version where its name does not tell what is
    in it."""

    kind: str
    name: str
    size: int
    version: str = ""


@dataclass(frozen=True)
class BackupList:
    """What belongs to a backup, but for its items. Times are real."""

    stamp: str
    taken_at: datetime
    shop: str
    name: str
    version: str
    revision: str
    """Of the tables."""
    shop_at: datetime
    """Shop time."""
    records_bytes: int
    """Of the dump, before it was packed."""
    secrets_key: str
    name_key: str
    """What names of objects are made with, in hexadecimal."""
    items: int
    items_bytes: int


class Archive:
    """What is kept at a place, opened with what seals and what opens it; either may be missing."""

    def __init__(self, place: Place, head: Head, locks: Locks | None, opens: Opens | None) -> None:
        self.place, self.head = place, head
        self._locks, self._opens = locks, opens

    # One thing at a time -------------------------------------------------------------------------------------

    def write(self, name: str, pieces: Iterable[bytes], pack: bool) -> int:
        """Seal bytes under a name, packed first (Zstandard, RFC 8878) where that is worth it; how many are kept."""
        assert self._locks is not None
        source = zstandard.ZstdCompressor(level=3).read_to_iter(_source(pieces)) if pack else pieces
        return self.place.put(name, seal(source, self._locks, name))

    def read(self, name: str, packed: bool) -> Iterator[bytes]:
        """The bytes of a name. Raises NotThere, SealBroken."""
        assert self._opens is not None
        pieces = open_sealed(self.place.get(name), self._opens, name)
        if not packed:
            yield from pieces
            return
        try:
            yield from zstandard.ZstdDecompressor().read_to_iter(_source(pieces))
        except zstandard.ZstdError as error:
            raise SealBroken(f"it cannot be unpacked ({error})") from None

    # Objects -------------------------------------------------------------------------------------------------

    def objects(self) -> set[str]:
        """The names of all files of the store that are there, of whichever backup."""
        return set(self.place.names("contents/"))

    @staticmethod
    def object_name(name_key: bytes, item: Item) -> str:
        """Under which name a file of the store is kept: one that tells nothing of it."""
        told = f"{item.kind}/{item.name}/{item.version}".encode()
        digest = hmac.new(name_key, told, hashlib.sha256).hexdigest()
        return f"contents/{digest[:2]}/{digest}"

    # Backups -------------------------------------------------------------------------------------------------

    def stamps(self) -> list[str]:
        """All backups that are complete, the oldest first."""
        found = (re.fullmatch(r"backups/([0-9tz-]+)/list", name) for name in self.place.names("backups/"))
        return sorted(match[1] for match in found if match)

    def write_names(self, stamp: str, names: Iterable[str]) -> None:
        """Which objects a backup needs, for whoever clears up without opening anything."""
        self.place.put(f"backups/{stamp}/names", [gzip.compress("\n".join(sorted(names)).encode(), mtime=0)])

    def names_of(self, stamp: str) -> set[str]:
        """Raises NotThere, ArchiveTrouble."""
        try:
            text = gzip.decompress(b"".join(self.place.get(f"backups/{stamp}/names"))).decode()
        except (OSError, EOFError, ValueError):
            raise ArchiveTrouble(f"What the backup of {stamp} needs cannot be read: its `names` is damaged.") from None
        return set(text.split("\n")) - {""}

    def write_list(self, told: BackupList, items: Iterable[Item]) -> None:
        """What makes a backup complete; written last."""

        def lines() -> Iterator[bytes]:
            yield json.dumps({**asdict(told), **_times(told)}).encode() + b"\n"
            for one in items:
                yield f"{one.kind} {one.name} {one.size} {one.version}\n".encode()

        self.write(f"backups/{told.stamp}/list", lines(), pack=True)

    def read_list(self, stamp: str) -> tuple[BackupList, list[Item]]:
        """Raises NotThere, SealBroken, ArchiveTrouble."""
        lines = b"".join(self.read(f"backups/{stamp}/list", packed=True)).decode().splitlines()
        try:
            told = json.loads(lines[0])
            for field in ("taken_at", "shop_at"):
                told[field] = datetime.fromisoformat(told[field])
            items = []
            for line in lines[1:]:
                kind, name, size, version = line.split(" ")
                items.append(Item(kind, name, int(size), version))
            return BackupList(**told), items
        except (ValueError, TypeError, IndexError, KeyError) as error:
            raise ArchiveTrouble(
                f"The list of the backup of {stamp} is not one that this version reads ({error}); use a newer one."
            ) from None

    def records_name(self, stamp: str) -> str:
        return f"backups/{stamp}/records"

    def drop_backups(self, stamps: Iterable[str]) -> None:
        """Remove backups, the list first, so that none is there by half; and what no other needs."""
        gone = list(stamps)
        self.place.drop([f"backups/{stamp}/list" for stamp in gone])
        self.place.drop([f"backups/{stamp}/{file}" for stamp in gone for file in ("names", "records")])

    def drop_unneeded(self) -> int:
        """Remove the objects, and the halves of backups, that no complete backup needs; how many objects went."""
        needed, complete = set[str](), set(self.stamps())
        for stamp in complete:
            needed |= self.names_of(stamp)
        halves = [name for name in self.place.names("backups/") if name.split("/")[1] not in complete]
        unneeded = self.objects() - needed
        self.place.drop([*halves, *unneeded])
        return len(unneeded)


def stamp_of(at: datetime) -> str:
    return at.astimezone(UTC).strftime(STAMP)


def time_of(stamp: str) -> datetime:
    """Raises ValueError."""
    return datetime.strptime(stamp, STAMP).replace(tzinfo=UTC)


def find_head(place: Place) -> Head | None:
    """What a place says of itself; None where there are no backups. Raises PlaceFailed, ArchiveTrouble."""
    try:
        data = bytearray()
        for piece in place.get(HEAD):
            data += piece
            if len(data) > MOST_HEAD:
                raise ArchiveTrouble(f"{HEAD} at {place.address} is damaged: it is far too long.")
        return Head.read(bytes(data), place.address)
    except NotThere:
        return None


def _times(told: BackupList) -> dict[str, str]:
    return {"taken_at": told.taken_at.isoformat(), "shop_at": told.shop_at.isoformat()}


def _source(pieces: Iterable[bytes]) -> Any:
    return _Source(pieces)


class _Source:
    """Pieces as a file that is read."""

    def __init__(self, pieces: Iterable[bytes]) -> None:
        self._pieces, self._held = iter(pieces), b""

    def read(self, size: int) -> bytes:
        while not self._held:
            piece = next(self._pieces, None)
            if piece is None:
                return b""
            self._held = piece
        some, self._held = self._held[:size], self._held[size:]
        return some
