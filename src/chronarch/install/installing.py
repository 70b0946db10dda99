"""Puts the parts in place as units of systemd, and takes them away again."""

from __future__ import annotations

import grp
import os
import pwd
import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import httpx

from chronarch.install.parts import parts
from chronarch.install.units import unit, unit_name
from chronarch.installation import OWN, USER, Installation, InstallFailed, InstallWishes, as_lines

READY_WITHIN_S = 300.0
Say = Callable[[str], None]


def install(there: Installation, asked: InstallWishes, begin: bool, say: Say) -> None:
    """Put everything in place, and start it with `begin`. What is there already is kept: settings, records, files.
    Raises InstallFailed."""
    system = there.root == Path("/")
    if system and os.geteuid() != 0:
        raise InstallFailed("Installing for this computer needs root: sudo chronarch install.")
    if begin and not has_systemd():
        raise InstallFailed(
            "systemd does not run here, so nothing would start the parts. Put them in place with --no-start, and run "
            "`chronarch launch` by what starts programs here."
        )
    if there.is_there():
        say(f"The settings in {there.settings} are kept.")
    else:
        _write(there.settings, as_lines(there.usual(asked)), 0o640)
    settings = there.read()
    own = settings.get("CHRONARCH_DATABASE") == OWN
    if system:
        _make_user(say)
    for folder in (there.state, *(there.folder(name) for name in ("database", "files", "tender"))):
        folder.mkdir(parents=True, exist_ok=True, mode=0o750)
        if system:
            shutil.chown(folder, USER, USER)
    if system:
        shutil.chown(there.settings, "root", USER)
    for part in parts(own):
        _write(there.units / unit_name(part), unit(part, there, Path(sys.executable), own), 0o644)
    if begin:
        names = [unit_name(part) for part in parts(own)]
        _run("systemctl", "daemon-reload")
        _run("systemctl", "enable", *names)
        _run("systemctl", "restart", *names)
        say("The parts are started.")


def uninstall(there: Installation, with_data: bool, say: Say) -> None:
    """Stop the parts and remove their units; settings, records and files only `with_data`. Raises InstallFailed."""
    if there.root == Path("/") and os.geteuid() != 0:
        raise InstallFailed("Taking it away needs root: sudo chronarch uninstall.")
    found = sorted(there.units.glob("chronarch-*.service"))
    if not found and not there.is_there():
        raise InstallFailed(f"There is no installation below {there.root}.")
    if there.root == Path("/") and has_systemd() and found:
        _run("systemctl", "disable", "--now", *(path.name for path in found))
    for path in found:
        path.unlink()
    if there.root == Path("/") and has_systemd() and found:
        _run("systemctl", "daemon-reload")
    say(f"{len(found)} units are gone.")
    if with_data:
        for folder in (there.state, there.settings.parent):
            try:
                shutil.rmtree(folder)
            except FileNotFoundError:
                pass
            except OSError as error:
                raise InstallFailed(f"{folder} could not be removed: {error}. The units are gone.") from None
        say("Settings, records and files are gone, too.")
    else:
        say(f"Records and files stay in {there.state}, settings in {there.settings}.")


def first_code(there: Installation, say: Say) -> str:
    """Wait until the service answers; the code for its first person, empty where there is somebody already. Raises
    InstallFailed."""
    settings = there.read()
    address, code = settings["CHRONARCH_ADDRESS"], Path(settings["CHRONARCH_BLOBS"]) / "first-code"
    deadline = time.monotonic() + READY_WITHIN_S
    say("Waiting for the service …")
    while time.monotonic() < deadline:
        try:
            if not httpx.get(f"{address}/api/first-person", timeout=5).raise_for_status().json()["open"]:
                return ""
            if code.exists():
                return code.read_text().strip()
        except (httpx.HTTPError, KeyError, ValueError):
            pass
        time.sleep(0.5)
    raise InstallFailed(
        f"The service does not answer at {address} after {READY_WITHIN_S:.0f} s. `chronarch doctor` says why, or "
        "journalctl -u 'chronarch-*'."
    )


def has_systemd() -> bool:
    """Whether systemd runs this computer (sd_booted(3))."""
    return Path("/run/systemd/system").is_dir()


def _make_user(say: Say) -> None:
    try:
        pwd.getpwnam(USER)
    except KeyError:
        home = "/var/lib/chronarch"
        _run("useradd", "--system", "--user-group", "--home-dir", home, "--shell", "/usr/sbin/nologin", USER)
        say(f"The user {USER} was made.")
    try:
        grp.getgrnam(USER)
    except KeyError:
        raise InstallFailed(f"There is a user {USER}, but no group of that name; make one: groupadd {USER}.") from None


def _write(path: Path, text: str, mode: int) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    fresh = path.with_name(f"{path.name}.new")
    with os.fdopen(os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, mode), "w") as out:
        out.write(text)
    fresh.chmod(mode)
    fresh.replace(path)


def _run(*words: str) -> None:
    try:
        done = subprocess.run(words, capture_output=True, text=True, check=False)
    except OSError as error:
        raise InstallFailed(f"{words[0]} cannot be run: {error.strerror}.") from None
    if done.returncode:
        raise InstallFailed(f"{' '.join(words)} failed: {(done.stderr or done.stdout).strip()[-400:]}")
