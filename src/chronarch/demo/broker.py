"""A private MQTT broker on loopback, for machines that run files themselves: Debian's Mosquitto, set up on its own."""

from __future__ import annotations

import getpass
import secrets
import shutil
import subprocess
import time
from pathlib import Path

from chronarch.records.ports import free_port
from chronarch.records.server import die_with_parent

STARTED_WITHIN_S = 60.0
USER = "shop"


class BrokerFailed(Exception):
    """The broker cannot be started; says why and what to do."""


def _program(name: str) -> str:
    found = shutil.which(name, path="/usr/sbin:/usr/bin:/sbin:/bin:/usr/local/sbin:/usr/local/bin")
    if found is None:
        raise BrokerFailed(f"{name} is not installed; `make setup` installs it (package mosquitto).")
    return found


class PrivateBroker:
    """One broker in a folder; everybody who speaks to it must know its password. With `certificate` and `key` (PEM
    files) it speaks TLS."""

    def __init__(self, folder: Path, port: int = 0, password: str = "", certificate: str = "", key: str = "") -> None:
        self.folder = folder
        self.port = port or free_port()
        self.password = password or secrets.token_urlsafe(12).replace("-", "a").replace("_", "b")
        self._tls = (certificate, key)
        self._process: subprocess.Popen[bytes] | None = None

    def address(self, machine: str) -> str:
        """The link of a machine behind this broker."""
        kind = "mqtts" if self._tls[0] else "mqtt"
        return f"{kind}://{USER}:{self.password}@127.0.0.1:{self.port}/{machine}"

    def start(self) -> None:
        """Start it, unless it runs, and wait until it answers. Raises BrokerFailed."""
        if self._process is not None and self._process.poll() is None:
            return
        self.folder.mkdir(parents=True, exist_ok=True)
        people = self.folder / "passwords"
        people.unlink(missing_ok=True)
        made = subprocess.run(
            [_program("mosquitto_passwd"), "-b", "-c", str(people), USER, self.password],
            capture_output=True,
            check=False,
        )
        if made.returncode:
            raise BrokerFailed(f"mosquitto_passwd failed: {made.stderr.decode(errors='replace')[-300:]}")
        lines = [
            f"listener {self.port} 127.0.0.1",
            "allow_anonymous false",
            f"password_file {people}",
            f"user {getpass.getuser()}",
            "persistence false",
            "max_queued_messages 5000",
            "max_inflight_messages 40",
        ]
        if self._tls[0]:
            lines += [f"certfile {self._tls[0]}", f"keyfile {self._tls[1]}"]
        (self.folder / "conf").write_text("\n".join(lines) + "\n")
        said = self.folder / "log"
        with said.open("ab") as log:
            before = log.tell()
            self._process = subprocess.Popen(
                [_program("mosquitto"), "-c", str(self.folder / "conf")],
                stdout=log,
                stderr=log,
                preexec_fn=die_with_parent,
                start_new_session=True,
            )
        deadline = time.monotonic() + STARTED_WITHIN_S
        while time.monotonic() < deadline and self._process.poll() is None:
            if b" running\n" in said.read_bytes()[before:]:
                return
            time.sleep(0.02)
        tail = said.read_text(errors="replace")[-400:]
        self.stop()
        raise BrokerFailed(f"The broker did not start. Its log ends:\n{tail}")

    def stop(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            self._process = None
