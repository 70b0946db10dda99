"""Backups of a world, and installations onto which they are restored."""

from __future__ import annotations

import itertools
import os
import subprocess
import sys
from pathlib import Path

from chronarch.client import requests
from chronarch.wire.system.backups import BackupPlace, Backups, BackupSettingsChange
from tests.support.world import World, eventually

PASSPHRASE = "eleven brass escapements"
LATE_S = 180.0
_numbers = itertools.count()


def give_place(world: World, name: str = "backups", **how: str) -> Path:
    """Give a world a folder for its backups, which are taken when they are asked for."""
    folder = world.folder / name
    folder.mkdir()
    place = BackupPlace(address=str(folder), **(how or {"passphrase": PASSPHRASE}))
    world.client.do(requests.change_backup_settings(BackupSettingsChange(place=place, on=False)))
    return folder


def ended(world: World) -> Backups:
    """What there is, once what was under way has ended."""
    eventually(lambda: world.client.do(requests.backups()).work is None, "the work on backups has ended", LATE_S)
    return world.client.do(requests.backups())


class Installation:
    """An empty database and an empty folder, onto which a backup is restored."""

    def __init__(self, world: World) -> None:
        number = next(_numbers)
        self.world = world
        self.blobs = world.folder / f"restored-{number}"
        self.database = world.server.another(f"restored_{os.getpid()}_{number}")
        self.environment = {
            **world.environment, "CHRONARCH_DATABASE": self.database, "CHRONARCH_BLOBS": str(self.blobs)
        }  # fmt: skip
        self.passphrase = world.folder / "passphrase"
        self.passphrase.write_text(PASSPHRASE + "\n")

    def words(self, place: Path, *more: str) -> tuple[str, ...]:
        """The command that restores a backup here."""
        return ("backup", "restore", str(place), "--passphrase-file", str(self.passphrase), *more)

    def restore(self, place: Path, *more: str) -> subprocess.CompletedProcess[str]:
        """By an interpreter of its own, as on a computer on which nothing runs yet."""
        command = [sys.executable, "-m", "chronarch", *self.words(place, *more)]
        return subprocess.run(
            command, env=self.environment, capture_output=True, text=True, timeout=6 * LATE_S, check=False
        )

    def move_in(self) -> None:
        """The world's service is this installation from now on; its tender goes on as it is."""
        self.world.kill("service")
        self.world.environment |= self.environment
        self.world.database = self.database
        self.world.start_service()
