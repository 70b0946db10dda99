"""Where an installation lies, and its settings: a file that systemd reads, too (EnvironmentFile, systemd.exec(5))."""

from __future__ import annotations

import shlex
from dataclasses import dataclass
from pathlib import Path

from chronarch.core.errors import CoreError

USER = "chronarch"
OWN = "own"
"""CHRONARCH_DATABASE of an installation with a database server of its own."""


class InstallFailed(CoreError):
    """A step of installing did not work: which, why, and what to do. What was done before it is done."""


@dataclass(frozen=True)
class InstallWishes:
    """What an installation is to be like. `database`: OWN, or the address of one."""

    shop: str
    host: str
    port: int
    database: str
    database_port: int


@dataclass(frozen=True)
class Installation:
    """The places of one installation below `root`, which is / on a shop's computer."""

    root: Path

    @property
    def settings(self) -> Path:
        return self.root / "etc/chronarch/settings"

    @property
    def units(self) -> Path:
        return self.root / "etc/systemd/system"

    @property
    def state(self) -> Path:
        return self.root / "var/lib/chronarch"

    def folder(self, name: str) -> Path:
        """A folder of its own for a part."""
        return self.state / name

    def is_there(self) -> bool:
        return self.settings.exists()

    def usual(self, asked: InstallWishes) -> dict[str, str]:
        """The settings of a new installation."""
        return {
            "CHRONARCH_SHOP": asked.shop,
            "CHRONARCH_HOST": asked.host,
            "CHRONARCH_PORT": str(asked.port),
            "CHRONARCH_DATABASE": asked.database,
            "CHRONARCH_DATABASE_PORT": str(asked.database_port),
            "CHRONARCH_DATABASE_FOLDER": str(self.folder("database")),
            "CHRONARCH_BLOBS": str(self.folder("files")),
            "CHRONARCH_SECRETS_KEY": str(self.folder("files") / "secrets.key"),
            "CHRONARCH_LOCAL_TENDER": str(self.folder("tender") / "key"),
            "CHRONARCH_ADDRESS": f"http://127.0.0.1:{asked.port}",
            "CHRONARCH_TENDER_KEY_FILE": str(self.folder("tender") / "key"),
            "CHRONARCH_TENDER_FOLDER": str(self.folder("tender")),
        }

    def read(self) -> dict[str, str]:
        """The settings, as they are. Raises InstallFailed."""
        try:
            lines = self.settings.read_text().splitlines()
        except FileNotFoundError:
            raise InstallFailed(f"There is no installation here: {self.settings} is missing.") from None
        except (OSError, UnicodeDecodeError) as error:
            raise InstallFailed(f"{self.settings} cannot be read: {error}.") from None
        found = {}
        for number, line in enumerate(lines, 1):
            if not line.strip() or line.lstrip().startswith("#"):
                continue
            name, is_one, value = line.partition("=")
            try:
                words = shlex.split(value)
            except ValueError:
                words = ["", ""]
            if not is_one or len(words) > 1:
                raise InstallFailed(f'Line {number} of {self.settings} is not NAME="value".')
            found[name.strip()] = words[0] if words else ""
        return found


def as_lines(settings: dict[str, str]) -> str:
    """Settings as they are kept. Raises InstallFailed."""
    lines = ["# Settings of Chronarch on this computer; after a change: systemctl restart 'chronarch-*'"]
    for name, value in settings.items():
        if any(c < " " for c in value):
            raise InstallFailed(f"{name} holds a character that cannot be kept.")
        quoted = "".join("\\" + c if c in '"\\' else c for c in value)
        lines.append(f'{name}="{quoted}"')
    return "\n".join(lines) + "\n"
