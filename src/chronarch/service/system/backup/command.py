"""`chronarch backup restore`, `make-keys`: what is done where no service runs."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import click

from chronarch.core.errors import CoreError
from chronarch.private_file import write_private
from chronarch.secret_options import place_options, private_key_option, secret_in

if TYPE_CHECKING:  # what only talks to a service starts without all this
    from chronarch.core.system.sealing import Opens, PrivateKey
    from chronarch.service.system.backup.archive import Head
    from chronarch.service.system.backup.restoring import Restored
    from chronarch.service.system.backup.work_messages import Going

MOST_SHOWN = 20


@click.command("restore")
@click.argument("place")
@click.option("--backup", "stamp", default="", help="Which one, as `backup list` calls it; the newest without it.")
@place_options
@private_key_option
@click.option("--leave-out", is_flag=True, help="Go on without files that are missing or damaged in the backup.")
def restore_backup(
    place: str, stamp: str, login: str, password_file: Path | None, passphrase_file: Path | None,
    private_key: Path | None, leave_out: bool,
) -> None:  # fmt: skip
    """Restore a backup onto an empty machine: CHRONARCH_DATABASE and CHRONARCH_BLOBS say where to.

    PLACE is a folder, or s3+https://HOST/BUCKET/PREFIX. Broken off, it goes on when it is done again."""
    from chronarch.service.config import Config
    from chronarch.service.system.backup.archive import Archive, ArchiveTrouble, find_head
    from chronarch.service.system.backup.places import place_at
    from chronarch.service.system.backup.restoring import Target, restore
    from chronarch.service.system.backup.trying import newest_of
    from chronarch.service.system.backup.work import alone

    try:
        config = Config.from_environment()
        found = place_at(place, login, secret_in(password_file))
        head = find_head(found)
        if head is None:
            raise ArchiveTrouble(f"There are no backups at {place}. Is its drive mounted, and the address right?")
        archive = Archive(found, head, None, _opens(head, passphrase_file, private_key))
        config.blobs.mkdir(parents=True, exist_ok=True)
        target = Target(config.database, config.blobs, config.secrets_key or config.blobs / "secrets.key")
        with alone(config.blobs), _progress() as say:
            done = restore(archive, newest_of(archive, stamp), target, leave_out, say)
    except (CoreError, OSError, ValueError) as error:
        raise click.ClickException(str(error)) from None
    _tell(done)


def _opens(head: Head, passphrase_file: Path | None, private_key: Path | None) -> Opens:
    """Raises ArchiveTrouble, CoreError."""
    from chronarch.service.system.backup.archive import ArchiveTrouble

    if head.sealing.public:
        if private_key is None:
            raise ArchiveTrouble(f"The backups of {head.name} are sealed for a public key: give --private-key FILE.")
        return head.sealing.with_private_key(read_private_key(private_key))
    if passphrase_file is not None:
        passphrase = secret_in(passphrase_file)
    else:
        passphrase = click.prompt(f"Passphrase of the backups of {head.name}", hide_input=True, err=True)
    return head.sealing.with_passphrase(passphrase)


def read_private_key(path: Path) -> PrivateKey:
    """Raises CoreError."""
    from chronarch.core.system.sealing import PrivateKey

    try:
        raw = bytes.fromhex(path.read_text().strip())
    except (ValueError, UnicodeDecodeError):
        raw = b""
    if len(raw) != 32:
        raise CoreError(f"{path} holds no private key; `chronarch backup make-keys` makes one.")
    return PrivateKey(raw)


def _tell(done: Restored) -> None:
    taken = f"{done.told.taken_at:%Y-%m-%d %H:%M} UTC"
    click.echo(
        f"{done.told.name} is restored as it was on {taken}: {done.machines} machines, {done.files:,} files. "
        "Start the service; each machine is in doubt until its tender has told what became of it."
    )
    for one in done.missing[:MOST_SHOWN]:
        click.echo(f"left out: {one}", err=True)
    if len(done.missing) > MOST_SHOWN:
        click.echo(f"left out: {len(done.missing) - MOST_SHOWN:,} more", err=True)


@contextmanager
def _progress() -> Iterator[Callable[[Going], None]]:
    """A bar on a terminal; in a pipe nothing is said."""
    with click.progressbar(length=100, label="reading the list", file=sys.stderr) as bar:

        def say(going: Going) -> None:
            bar.label = going.step
            if going.total:
                bar.pos = min(100, int(100 * going.done / going.total))
            bar.update(0)

        yield say


@click.command("make-keys")
@click.argument("path", type=click.Path(path_type=Path))
def make_keys(path: Path) -> None:
    """Make a private key in a new file, and print its public key, for which backups can be sealed.

    Keep the file away from this computer: it opens every backup, and without it none can be opened."""
    from chronarch.core.system.sealing import new_private_key

    if path.exists():
        raise click.ClickException(f"{path} is there already; a key that is written over opens nothing any more.")
    key = new_private_key()
    try:
        write_private(path, key.private.hex().encode() + b"\n")
    except OSError as error:
        raise click.ClickException(f"{path}: {error.strerror}.") from None
    click.echo(key.public.hex())


added = (restore_backup, make_keys)
