"""A private MariaDB server on loopback: own data directory, own free port and socket, own password."""

from __future__ import annotations

import contextlib
import ctypes
import getpass
import os
import secrets
import shutil
import signal
import socket
import subprocess
import time
from pathlib import Path

import pymysql

from chronarch.records.ports import free_port

USER = "chronarch"
DATABASE = "chronarch"
BYTES = "utf8mb4_nopad_bin"
"""How names are compared unless a column says otherwise: byte by byte."""
STARTED_WITHIN_S = 60.0


class ServerFailed(Exception):
    """The database server could not be set up or started; says which step, why and what to do."""


def die_with_parent() -> None:
    """For `preexec_fn`: the child is stopped when its parent is gone, whatever ended that (Linux)."""
    ctypes.CDLL(None).prctl(1, signal.SIGTERM)


def _program(name: str) -> str:
    found = shutil.which(name, path=os.environ.get("PATH", "") + ":/usr/sbin:/usr/local/sbin")
    if found is None:
        raise ServerFailed(
            f"{name} is not installed. Run `make setup` with root or sudo, or install mariadb-server-core."
        )
    return found


def memory_for_records() -> int:
    """MB of memory that a server of a shop keeps pages in: an eighth of the computer's, 64 to 4096."""
    whole = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") >> 20
    return max(64, min(4096, whole // 8))


class PrivateServer:
    """The server that keeps its data in `folder`, which is made if it does not exist. `memory_mb`: what it keeps pages
    in."""

    def __init__(self, folder: Path, port: int | None = None, memory_mb: int = 64) -> None:
        self.folder = folder.absolute()
        self.port = port or free_port()
        self.memory_mb = memory_mb
        self._data = self.folder / "data"
        self._password_file = self.folder / "password"
        self._socket = self.folder / "s.sock"
        self._process: subprocess.Popen[bytes] | None = None

    @property
    def url(self) -> str:
        """The database's address for SQLAlchemy, with the async driver."""
        return self._url(DATABASE)

    def _url(self, database: str) -> str:
        account = f"{USER}:{self._password_file.read_text()}"
        return f"mysql+asyncmy://{account}@127.0.0.1:{self.port}/{database}?charset=utf8mb4"

    def another(self, suffix: str) -> str:
        """The address of another database on this server, made anew and empty."""
        name = f"{DATABASE}_{suffix}"
        with self.connect() as connection, connection.cursor() as cursor:
            cursor.execute(f"create or replace database `{name}` character set utf8mb4 collate {BYTES}")
        return self._url(name)

    @property
    def _passing(self) -> Path:
        """A folder for temporary tables of its own: a starting server deletes what it finds of them."""
        return self.folder / "tmp"

    def start(self) -> None:
        """Start the server and wait until it answers. Raises ServerFailed."""
        self.folder.mkdir(parents=True, exist_ok=True)
        self._passing.mkdir(exist_ok=True)
        if len(str(self._socket)) > 100:
            self._socket = Path("/tmp") / f"chronarch-{secrets.token_hex(6)}.sock"
        first = not self._password_file.exists()
        if first:
            shutil.rmtree(self._data, ignore_errors=True)
            self._run_installer()
        with (self.folder / "log").open("ab") as log:
            self._process = subprocess.Popen(
                [
                    _program("mariadbd"),
                    "--no-defaults",
                    f"--datadir={self._data}",
                    f"--tmpdir={self._passing}",
                    f"--socket={self._socket}",
                    f"--port={self.port}",
                    "--bind-address=127.0.0.1",
                    f"--user={getpass.getuser()}",
                    f"--pid-file={self.folder / 'pid'}",
                    "--character-set-server=utf8mb4",
                    f"--collation-server={BYTES}",
                    "--transaction-isolation=READ-COMMITTED",
                    f"--innodb-buffer-pool-size={self.memory_mb}M",
                    "--innodb-log-file-size=32M",
                    "--skip-name-resolve",
                    "--skip-log-bin",
                    "--performance-schema=OFF",
                    "--max-connections=100",
                ],
                stdout=log,
                stderr=log,
                preexec_fn=die_with_parent,
                start_new_session=True,
            )
        self._wait_for_socket()
        if first:
            self._make_account()

    def _run_installer(self) -> None:
        command = [
            _program("mariadb-install-db"),
            "--no-defaults",
            f"--datadir={self._data}",
            f"--user={getpass.getuser()}",
            "--auth-root-authentication-method=socket",
            "--skip-test-db",
        ]
        environment = {**os.environ, "TMPDIR": str(self._passing)}
        done = subprocess.run(command, capture_output=True, text=True, check=False, env=environment)
        if done.returncode:
            raise ServerFailed(
                f"The database could not be laid out in {self._data}: {done.stdout[-400:]}{done.stderr[-400:]}"
            )

    def connect(self, database: str | None = None) -> pymysql.Connection[pymysql.cursors.Cursor]:
        """A connection past the service, with all rights."""
        return pymysql.connect(
            unix_socket=str(self._socket), user=getpass.getuser(), database=database, connect_timeout=2
        )

    def _wait_for_socket(self) -> None:
        deadline = time.monotonic() + STARTED_WITHIN_S
        while time.monotonic() < deadline:
            if self._process is not None and self._process.poll() is not None:
                break
            with (
                contextlib.suppress(OSError),
                socket.create_connection(("127.0.0.1", self.port), timeout=1) as answered,
            ):
                if answered.recv(1):
                    return
            time.sleep(0.05)
        tail = (self.folder / "log").read_text(errors="replace")[-600:]
        self.stop()
        raise ServerFailed(f"The database server did not start within {STARTED_WITHIN_S:.0f} s. Its log ends:\n{tail}")

    def _make_account(self) -> None:
        password = secrets.token_urlsafe(24)
        with self.connect() as connection, connection.cursor() as cursor:
            cursor.execute(f"create database if not exists {DATABASE} character set utf8mb4 collate {BYTES}")
            cursor.execute(f"create or replace user {USER}@'127.0.0.1' identified by %s", (password,))
            cursor.execute(f"grant all on `{DATABASE}%`.* to {USER}@'127.0.0.1'")
            connection.commit()
        self._password_file.touch(mode=0o600)
        self._password_file.write_text(password)

    def is_running(self) -> bool:
        return self._process is not None and self._process.poll() is None

    def kill(self) -> None:
        """Kill the server as a power cut would."""
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            self._process = None

    def stop(self) -> None:
        """Shut the server down in order."""
        if self._process is None:
            return
        self._process.terminate()
        try:
            self._process.wait(20)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        self._process = None
