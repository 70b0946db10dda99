"""A copy of the whole database as it is at one moment, while others go on writing: MariaDB's own dump, in SQL."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO

from sqlalchemy.engine import URL, make_url

from chronarch.core.errors import CoreError
from chronarch.private_file import write_private
from chronarch.records.server import die_with_parent

READ = 1 << 20
MOST_SAID = 2000


class CopyFailed(CoreError):
    """The database could not be dumped or loaded; says why and what to do."""


def _program(name: str) -> str:
    found = shutil.which(name, path=os.environ.get("PATH", "") + ":/usr/local/bin")
    if found is None:
        raise CopyFailed(f"{name} is not installed. Install the package mariadb-client, which has it.")
    return found


@contextmanager
def _access(url: URL) -> Iterator[str]:
    """The option that tells a client where the database is, and its password, which no list of processes shows."""
    with tempfile.TemporaryDirectory(prefix="chronarch-") as folder:
        told = Path(folder) / "access.cnf"
        lines = [f"host={_quoted(url.host or '127.0.0.1')}", f"port={url.port or 3306}", "protocol=tcp"]
        lines += [f"user={_quoted(url.username or '')}", f"password={_quoted(str(url.password or ''))}"]
        write_private(told, "\n".join(["[client]", *lines, ""]).encode())
        yield f"--defaults-file={told}"


def _quoted(value: str) -> str:
    return '"' + value.replace("\\", "\\\\").replace('"', '\\"') + '"'


def dump(database: str) -> Iterator[bytes]:
    """The database at an address, as SQL. Raises CopyFailed."""
    url = make_url(database)
    with _access(url) as access, tempfile.TemporaryFile() as said:
        command = [
            _program("mariadb-dump"), access, "--single-transaction", "--quick", "--hex-blob", "--skip-lock-tables",
            "--default-character-set=utf8mb4", "--skip-add-locks", "--no-tablespaces", "--skip-dump-date",
            url.database or "",
        ]  # fmt: skip
        process = subprocess.Popen(
            command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=said, preexec_fn=die_with_parent
        )
        with _ended(process):
            assert process.stdout is not None
            while piece := process.stdout.read(READ):
                yield piece
            _check(process, said, "The database could not be dumped")


def load(database: str, pieces: Iterable[bytes]) -> int:
    """Load a dump into an empty database; how many bytes it had. Raises CopyFailed, and what `pieces` raises."""
    url = make_url(database)
    with _access(url) as access, tempfile.TemporaryFile() as said:
        command = [
            _program("mariadb"), access, "--default-character-set=utf8mb4", "--batch",
            f"--database={url.database}",
        ]  # fmt: skip
        process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=said, preexec_fn=die_with_parent
        )
        size = 0
        with _ended(process):
            assert process.stdin is not None
            try:
                for piece in pieces:
                    process.stdin.write(piece)
                    size += len(piece)
                process.stdin.close()
            except BrokenPipeError:
                pass
            _check(process, said, "The records could not be loaded into the database")
    return size


@contextmanager
def _ended(process: subprocess.Popen[bytes]) -> Iterator[None]:
    """The process is gone afterwards, whatever happens."""
    try:
        yield
    finally:
        if process.poll() is None:
            process.kill()
            process.wait()
        for pipe in (process.stdin, process.stdout):
            if pipe is not None and not pipe.closed:
                with suppress(BrokenPipeError):
                    pipe.close()


def _check(process: subprocess.Popen[bytes], said: IO[bytes], what: str) -> None:
    if process.wait() == 0:
        return
    said.seek(0)
    lines = said.read(MOST_SAID).decode(errors="replace").strip().splitlines()
    raise CopyFailed(f"{what}: {lines[-1] if lines else f'the client ended with {process.returncode}'}")
