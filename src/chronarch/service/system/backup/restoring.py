"""Restoring a backup onto an empty machine: its files, then its records. What was begun is marked in the store, so that
it is neither taken for whole nor begun anew: done again, a restore goes on where it was."""

from __future__ import annotations

import asyncio
import base64
import json
import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import inspect

from chronarch.core.errors import CoreError
from chronarch.core.system.sealing import SealBroken
from chronarch.private_file import write_private
from chronarch.records.database import blocking_engine, known_revision, make_engine, make_sessions, migrate
from chronarch.records.system.restored import begin_anew, leap
from chronarch.service.system.backup import database_copy
from chronarch.service.system.backup.archive import Archive, BackupList, Item
from chronarch.service.system.backup.places import NotThere
from chronarch.service.system.backup.reading import read_all
from chronarch.service.system.backup.stored_files import KINDS, files_of
from chronarch.service.system.backup.taking import Say
from chronarch.service.system.backup.work_messages import Going

MARK = "restoring.json"
MOST_TOLD = 20


@dataclass(frozen=True)
class Target:
    """Where a backup is restored to."""

    database: str
    blobs: Path
    secrets_key: Path


@dataclass(frozen=True)
class Restored:
    """What came of a restore: `missing` says what the backup had and could not be had."""

    told: BackupList
    machines: int
    files: int
    missing: list[str]


class RestoreRefused(CoreError):
    """A restore was not begun, or not finished; says why, what is missing, and what to do."""


def begun_restore(blobs: Path) -> dict[str, str] | None:
    """What is being restored into a store, or was when that broke off; None where nothing is."""
    try:
        found = json.loads((blobs / MARK).read_text())
        return {"stamp": str(found["stamp"]), "place": str(found["place"])}
    except FileNotFoundError:
        return None
    except (OSError, ValueError, KeyError, TypeError):
        return {"stamp": "", "place": ""}


def restore(archive: Archive, stamp: str, target: Target, leave_out: bool, say: Say) -> Restored:
    """Restore a backup. With `leave_out` what is missing or damaged of its files is left out. Raises RestoreRefused,
    CoreError, OSError."""
    try:
        told, items = archive.read_list(stamp)
    except (NotThere, SealBroken) as error:
        raise RestoreRefused(f"The list of the backup of {stamp} cannot be used: {error}. Choose another.") from None
    check_version(told)
    check_target(archive, stamp, target)
    missing = _missing(archive, told, items)
    _refuse_missing(missing, leave_out, "nothing was changed here")
    write_private(target.blobs / MARK, json.dumps({"stamp": stamp, "place": archive.place.address}).encode())
    missing += _bring_files(archive, told, [item for item in items if _told(item) not in missing], target.blobs, say)
    _refuse_missing(missing, leave_out, "the records were not loaded, and the service does not start")
    if told.secrets_key:
        write_private(target.secrets_key, base64.b64decode(told.secrets_key))
    machines = _bring_records(archive, told, target.database, say)
    (target.blobs / MARK).unlink()
    return Restored(told, machines, len(items) - len(missing), missing)


def check_version(told: BackupList) -> None:
    """That this version reads the records of a backup. Raises RestoreRefused."""
    if not known_revision(told.revision):
        raise RestoreRefused(
            f"The backup is of a newer version of Chronarch ({told.version}); install that version, then restore."
        )


def check_target(archive: Archive, stamp: str, target: Target) -> None:
    """That nothing is there that a restore would destroy. Raises RestoreRefused."""
    target.blobs.mkdir(parents=True, exist_ok=True)
    begun = begun_restore(target.blobs)
    if begun is not None:
        if begun["stamp"] != stamp:
            raise RestoreRefused(
                f"{target.blobs} has half of the backup of {begun['stamp'] or 'an unknown time'}: go on with that one, "
                "or empty the folder and the database first."
            )
        return
    if next(files_of(target.blobs), None) is not None:
        raise RestoreRefused(f"{target.blobs} has files already. A restore wants an empty folder; nothing was changed.")
    engine = blocking_engine(target.database)
    try:
        if inspect(engine).get_table_names():
            raise RestoreRefused(
                "The database has tables already. A restore wants an empty one: make it anew (drop database, create "
                "database), or give the address of another. Nothing was changed."
            )
    finally:
        engine.dispose()


def _missing(archive: Archive, told: BackupList, items: list[Item]) -> list[str]:
    """Which files the place has not got any more, before anything is changed."""
    there, name_key = archive.objects(), bytes.fromhex(told.name_key)
    found = [_told(item) for item in items if Archive.object_name(name_key, item) not in there]
    if archive.records_name(told.stamp) not in set(archive.place.names(f"backups/{told.stamp}/")):
        raise RestoreRefused(
            f"The records of the backup of {told.stamp} are missing. Choose another; nothing was changed."
        )
    return found


def _refuse_missing(missing: list[str], leave_out: bool, so: str) -> None:
    if missing and not leave_out:
        more = f" and {len(missing) - MOST_TOLD:,} more" if len(missing) > MOST_TOLD else ""
        raise RestoreRefused(
            f"{len(missing):,} files of this backup are missing or damaged, so {so}: "
            f"{'; '.join(missing[:MOST_TOLD])}{more}. Choose an older backup, or go on without them (--leave-out)."
        )


def _bring_files(archive: Archive, told: BackupList, items: list[Item], blobs: Path, say: Say) -> list[str]:
    """Bring all files that are not there yet; those that are damaged."""
    there = {(item.kind, item.name): item.size for item in files_of(blobs)}
    wanted = [item for item in items if there.get((item.kind, item.name)) != item.size]
    done, total, missing = 0, sum(item.size for item in wanted), []
    for item, wrong in read_all(archive, bytes.fromhex(told.name_key), wanted, _kept_in(blobs)):
        done += item.size
        say(Going(step="the files", done=done, total=total))
        if wrong:
            missing.append(f"{_told(item)} ({wrong})")
    return missing


def _kept_in(blobs: Path) -> Callable[[Item, Iterator[bytes]], None]:
    def keep(item: Item, pieces: Iterator[bytes]) -> None:
        """Keep a file once all of it has come and is right."""
        path = KINDS[item.kind].path(blobs, item.name)
        path.parent.mkdir(parents=True, exist_ok=True)
        fresh = path.with_name(f"{path.name}.new")
        try:
            with fresh.open("wb") as out:
                for piece in pieces:
                    out.write(piece)
                out.flush()
                os.fsync(out.fileno())
            if item.version:
                os.utime(fresh, ns=(int(item.version), int(item.version)))
            fresh.replace(path)
        finally:
            fresh.unlink(missing_ok=True)

    return keep


def _bring_records(archive: Archive, told: BackupList, database: str, say: Say) -> int:
    """Load the records; how many machines they have. Raises RestoreRefused."""
    say(Going(step="the records", total=told.records_bytes))

    def counted() -> Iterator[bytes]:
        done = 0
        for piece in archive.read(archive.records_name(told.stamp), packed=True):
            done += len(piece)
            say(Going(step="the records", done=done, total=told.records_bytes))
            yield piece

    try:
        size = database_copy.load(database, counted())
        if size != told.records_bytes:
            raise SealBroken(f"they have {size:,} bytes; {told.records_bytes:,} were kept")
    except SealBroken as error:
        raise RestoreRefused(
            f"The records of the backup of {told.stamp} are damaged: {error}. The service does not start with them; "
            "empty the folder and the database, and choose another backup."
        ) from None
    migrate(database)
    return asyncio.run(_begin_anew(database, told))


async def _begin_anew(database: str, told: BackupList) -> int:
    engine = make_engine(database)
    async with make_sessions(engine)() as db:
        machines = await begin_anew(db, told.shop_at)
        await db.commit()
        await leap(db)
    await engine.dispose()
    return machines


def _told(item: Item) -> str:
    return f"the {item.kind} {item.name}"
