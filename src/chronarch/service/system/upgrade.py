"""Brings the tables up to date when the service starts: a copy of the records first, and never backwards."""

from __future__ import annotations

import logging
import os
import shutil
from pathlib import Path

import zstandard
from sqlalchemy.exc import SQLAlchemyError

from chronarch import __version__
from chronarch.core.clock import real_clock
from chronarch.core.errors import CoreError
from chronarch.records.database import head_revision, known_revision, migrate, revision_of
from chronarch.service.config import Config
from chronarch.service.system.backup import database_copy
from chronarch.service.system.backup.archive import stamp_of

FOLDER, KEPT = "before-upgrades", 3
LEAST_FREE = 256 << 20
log = logging.getLogger("chronarch.service")


class UpgradeRefused(CoreError):
    """The tables cannot be brought to this version; says why and what to do."""


def bring_up_to_date(config: Config) -> Path | None:
    """Bring the tables to this version. Where that changes any, the records are copied first; the copy. Raises
    UpgradeRefused, CopyFailed, OSError."""
    revision = revision_of(config.database)
    if revision == head_revision():
        return None
    if revision and not known_revision(revision):
        raise UpgradeRefused(
            f"The records are of a newer version of Chronarch than this one ({__version__}): their tables have "
            f"revision {revision}, this version knows up to {head_revision()}. Start the newer version again; or "
            "restore a backup that was taken before the upgrade, or the copy in "
            f"{config.blobs / FOLDER}, into an empty database."
        )
    kept = _copy(config, revision) if revision else None
    try:
        migrate(config.database)
    except SQLAlchemyError as error:
        again = f"load {kept} into an empty database and start with that" if kept else "empty the database"
        raise UpgradeRefused(
            f"The tables could not be brought from revision {revision or 'nothing'} to {head_revision()}, and may be "
            f"half changed: {str(error).splitlines()[0]}. Start again once its cause is gone; if that does not help, "
            f"{again}."
        ) from error
    log.info("the tables were brought from revision %s to %s", revision or "nothing", head_revision())
    return kept


def _copy(config: Config, revision: str) -> Path:
    """Copy the records beside the files; older copies than the last few go."""
    folder = config.blobs / FOLDER
    folder.mkdir(parents=True, exist_ok=True)
    if shutil.disk_usage(folder).free < LEAST_FREE:
        raise UpgradeRefused(
            f"There is no room in {folder} for a copy of the records, without which they are not brought up to date; "
            "make room and start again."
        )
    kept = folder / f"{stamp_of(real_clock().real_now())}-revision-{revision}.sql.zst"
    fresh = kept.with_suffix(".new")
    with os.fdopen(os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as out:
        with zstandard.ZstdCompressor(level=3).stream_writer(out, closefd=False) as packed:
            for piece in database_copy.dump(config.database):
                packed.write(piece)
        out.flush()
        os.fsync(out.fileno())
    fresh.replace(kept)
    for old in sorted(folder.glob("*.sql.zst"))[:-KEPT]:
        old.unlink()
    log.info("the records were copied to %s before their tables are changed", kept)
    return kept
