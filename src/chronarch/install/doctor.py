"""Looks an installation over from outside, whether its parts run or not, and says in plain words what is wrong and what
to do. What follows from a fault that was found already is not said again."""

from __future__ import annotations

import shutil
import socket
import ssl
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import timedelta
from functools import partial
from pathlib import Path
from urllib.parse import urlsplit

import httpx
from cryptography import x509
from cryptography.fernet import Fernet, InvalidToken
from sqlalchemy import Engine, func, select, text
from sqlalchemy.engine import make_url
from sqlalchemy.exc import OperationalError, ProgrammingError, SQLAlchemyError

from chronarch.client import Client, ClientError, requests
from chronarch.core.clock import real_clock
from chronarch.core.machines.states import MachineState
from chronarch.install.temporary_key import temporary_key
from chronarch.installation import OWN, Installation, InstallFailed
from chronarch.records import tables as t
from chronarch.records.change_log import Change
from chronarch.records.database import blocking_engine, head_revision, known_revision, revision_of
from chronarch.records.server import PrivateServer
from chronarch.service.principals import hash_secret
from chronarch.service.system.backup.restoring import begun_restore
from chronarch.service.system.health import LEAST_FREE
from chronarch.wire.system.health import Health
from chronarch.wire.watching.cameras import Camera

BACK = timedelta(minutes=1)
SOON = timedelta(days=14)
AT_A_TIME = 8
"""So many cameras are tried."""
TRIED_WITHIN_S = 60.0
OLDEST_SERVER = (10, 6)
ACCESS_DENIED, NO_DATABASE = {1044, 1045, 1698}, {1049}
PROGRAMS = {
    "mariadb-dump": ("backups are taken with it", "apt-get install mariadb-client"),
    "mariadb": ("backups are restored with it", "apt-get install mariadb-client"),
}


@dataclass(frozen=True)
class Ailment:
    """One thing that is wrong: what it is about, what is wrong, and what to do."""

    about: str
    what: str
    do: str


@dataclass
class Doctor:
    """Looks one installation over. The attributes are what is known of it so far."""

    there: Installation
    settings: dict[str, str] = field(default_factory=dict)
    address: str = ""
    """Of the database, where it lets us in."""
    engine: Engine | None = None
    """Where its records can be read by this version; None once they cannot, or nothing more is to be asked."""
    answers: bool = False
    """Whether the service does, and its certificate is good."""
    _opened: Engine | None = None
    _full: bool = False

    def look(self) -> list[Ailment]:
        """All that is wrong."""
        try:
            self.settings = self.there.read()
        except InstallFailed as error:
            return [Ailment("settings", str(error), "sudo chronarch install writes them, and keeps records and files.")]
        found: list[Ailment] = []
        steps: tuple[Callable[[], Iterator[Ailment]], ...] = (
            self._programs, self._folders, self._disk, self._database, self._tables, self._clock, self._secrets,
            self._certificate, self._service, self._tender_key, self._from_inside,
        )  # fmt: skip
        for step in steps:
            found += step()
        if self._opened is not None:
            self._opened.dispose()
        return found

    # What lies on this computer -----------------------------------------------------------------------------------

    def _programs(self) -> Iterator[Ailment]:
        wanted = {**PROGRAMS}
        if self.settings.get("CHRONARCH_DATABASE") == OWN:
            wanted["mariadbd"] = ("it is the database", "apt-get install mariadb-server-core")
        for name, (why, do) in wanted.items():
            if shutil.which(name, path="/usr/bin:/usr/local/bin:/usr/sbin:/usr/local/sbin:/bin") is None:
                yield Ailment("versions", f"{name} is not installed, and {why}.", do)

    def _folders(self) -> Iterator[Ailment]:
        for name in ("CHRONARCH_BLOBS", "CHRONARCH_TENDER_FOLDER"):
            folder = Path(self.settings.get(name, ""))
            if not self.settings.get(name):
                yield Ailment(
                    "settings", f"{self.there.settings} does not say {name}.", "Add it, and restart the parts."
                )
            elif not folder.is_dir():
                do = f"Is its disk mounted? Or make it: install -d -o chronarch -g chronarch {folder}"
                yield Ailment("files", f"The folder {folder} is not there.", do)
            elif (owner := folder.stat().st_uid) != self.there.state.stat().st_uid:
                whose = f"belongs to the user {owner}, not to the one whose {self.there.state} is"
                yield Ailment("files", f"The folder {folder} {whose}.", f"chown -R chronarch:chronarch {folder}")
        blobs = Path(self.settings.get("CHRONARCH_BLOBS", "/nonexistent"))
        begun = begun_restore(blobs)
        if begun is not None:
            what = f"{blobs} has half of a restored backup ({begun['stamp']}); the service does not start."
            yield Ailment("files", what, "Go on with chronarch backup restore.")

    def _disk(self) -> Iterator[Ailment]:
        for folder in dict.fromkeys((self.there.state, Path(self.settings.get("CHRONARCH_BLOBS", "/")))):
            if folder.is_dir():
                use = shutil.disk_usage(folder)
                if use.free < LEAST_FREE:
                    self._full = True
                    what = f"The disk of {folder} has {use.free / 1e6:,.0f} of {use.total / 1e6:,.0f} MB left."
                    yield Ailment("disk", what, "Make room: frames and films may take less (Set-up), or a larger disk.")
                    return

    # The database -------------------------------------------------------------------------------------------------

    def _database(self) -> Iterator[Ailment]:
        own = self.settings.get("CHRONARCH_DATABASE") == OWN
        try:
            self.address = self._own_address() if own else self.settings["CHRONARCH_DATABASE"]
            url = make_url(self.address)
        except FileNotFoundError:
            do = "systemctl start chronarch-database; journalctl -u chronarch-database says why it does not."
            yield Ailment("database", "The database server has never been started.", do)
            return
        except Exception as error:
            yield Ailment(
                "database", f"CHRONARCH_DATABASE is no address of a database: {error}.", "Mend it in the settings."
            )
            return
        host, port = url.host or "", url.port or 3306
        if _listens(host, port) and not _greets(host, port):
            own_port = "set CHRONARCH_DATABASE_PORT to another" if own else "mend CHRONARCH_DATABASE"
            what = f"Something else than a database answers at port {port} of {host}."
            yield Ailment("ports", what, f"Stop it (ss -ltnp says what it is), or {own_port} and restart the parts.")
            return
        engine = blocking_engine(self.address)
        try:
            with engine.connect() as db:
                version = str(db.execute(text("select version()")).scalar_one())
        except (OperationalError, ProgrammingError) as error:
            number = error.orig.args[0] if error.orig is not None and error.orig.args else 0
            yield self._no_database(own, host, port, url.database or "", number, str(error.orig))
            return
        self.engine = self._opened = engine
        parts = tuple(int(part) for part in version.split("-")[0].split(".")[:2] if part.isdigit())
        if parts < OLDEST_SERVER:
            least = ".".join(str(part) for part in OLDEST_SERVER)
            what = f"The database server is of version {version}; {least} or newer is needed."
            yield Ailment("versions", what, "Upgrade MariaDB.")

    def _own_address(self) -> str:
        folder, port = Path(self.settings["CHRONARCH_DATABASE_FOLDER"]), int(self.settings["CHRONARCH_DATABASE_PORT"])
        return PrivateServer(folder, port).url

    def _no_database(self, own: bool, host: str, port: int, name: str, number: int, said: str) -> Ailment:
        if number in ACCESS_DENIED:
            where = self.settings["CHRONARCH_DATABASE_FOLDER"] + "/password" if own else str(self.there.settings)
            return Ailment("database", f"The database refuses the password in {where}.", "Put the right one there.")
        if number in NO_DATABASE:
            return Ailment("database", f"The server has no database named {name}.", "Make it, or mend the settings.")
        if own:
            log = _last_words(Path(self.settings["CHRONARCH_DATABASE_FOLDER"]) / "log")
            do = f"systemctl start chronarch-database; its log ends: {log}"
            return Ailment("database", f"The database server does not run (port {port}).", do)
        return Ailment("database", f"The database at {host}:{port} does not answer: {said}.", "Start its server.")

    def _tables(self) -> Iterator[Ailment]:
        if self.engine is None:
            return
        revision = revision_of(self.address)
        if not revision:
            yield Ailment("database", "There are no tables yet.", "The service makes them when it is started.")
            self.engine = None
        elif not known_revision(revision):
            what = f"The records are of a newer version: revision {revision}, this one knows up to {head_revision()}."
            yield Ailment("versions", what, "Install the newer version again; an older one does not start with them.")
            self.engine = None
        elif revision != head_revision():
            what = f"The records are of an older version: revision {revision}, here {head_revision()}."
            yield Ailment("versions", what, "systemctl restart chronarch-service brings them up to date, after a copy.")
            self.engine = None

    def _clock(self) -> Iterator[Ailment]:
        if self.engine is None:
            return
        with self.engine.connect() as db:
            newest, now = db.execute(select(func.max(Change.at))).scalar(), real_clock().real_now()
        if newest is not None and newest - now > BACK:
            behind = newest - now
            what = f"This computer's clock is behind: it was {behind.total_seconds() / 60:.0f} minutes later already."
            yield Ailment("clock", what, "Set it right, and have it kept so: apt-get install systemd-timesyncd.")

    def _secrets(self) -> Iterator[Ailment]:
        if self.engine is None:
            return
        key = Path(self.settings.get("CHRONARCH_SECRETS_KEY") or f"{self.settings['CHRONARCH_BLOBS']}/secrets.key")
        with self.engine.connect() as db:
            sealed = [one for one in db.execute(select(t.Channel.access)).scalars() if one]
            sealed += [one for one in db.execute(select(t.Camera.access)).scalars() if one]
        if not sealed:
            return
        try:
            fernet = Fernet(key.read_bytes())
            fernet.decrypt(bytes(sealed[0]))
        except FileNotFoundError:
            what = f"The key {key} is gone, and with it {len(sealed)} passwords of cameras and channels."
            yield Ailment("files", what, "Restore it from a backup, or give the passwords anew.")
        except (InvalidToken, ValueError):
            what = f"{key} is not the key with which passwords of cameras and channels were encrypted."
            yield Ailment("files", what, "Restore the right one from a backup, or give the passwords anew.")

    # The service ----------------------------------------------------------------------------------------------------

    def _certificate(self) -> Iterator[Ailment]:
        url = urlsplit(self.settings.get("CHRONARCH_ADDRESS", ""))
        if url.scheme != "https" or not url.hostname:
            return
        where = f"{url.hostname}:{url.port or 443}"
        try:
            with (
                socket.create_connection((url.hostname, url.port or 443), timeout=5) as plain,
                ssl.create_default_context().wrap_socket(plain, server_hostname=url.hostname) as safe,
            ):
                raw = safe.getpeercert(binary_form=True)
        except ssl.SSLCertVerificationError as error:
            what = f"The certificate at {where} is not good: {error.verify_message}."
            yield Ailment("certificates", what, "Renew it, or have this computer trust who signed it.")
            self.engine = None  # nothing else can be asked for
            return
        except OSError:
            return  # said of the service
        left = x509.load_der_x509_certificate(raw or b"").not_valid_after_utc - real_clock().real_now()
        if left < SOON:
            yield Ailment("certificates", f"The certificate at {where} ends in {left.days} days.", "Renew it.")

    def _service(self) -> Iterator[Ailment]:
        address = self.settings.get("CHRONARCH_ADDRESS", "")
        try:
            answer = httpx.get(f"{address}/api/first-person", timeout=10, verify=False)
            self.answers = answer.status_code == 200 and "open" in answer.json()
        except httpx.ConnectError:
            if self.engine is not None:
                do = "systemctl start chronarch-service; journalctl -u chronarch-service says why it does not."
                yield Ailment("service", f"The service does not run: nothing answers at {address}.", do)
            return
        except (httpx.HTTPError, ValueError):
            self.answers = False
        if not self.answers and self.engine is not None:
            port = self.settings.get("CHRONARCH_PORT", "")
            what = f"Something else than our service answers at {address}."
            yield Ailment("ports", what, f"Stop what has port {port} (ss -ltnp says what), or set CHRONARCH_PORT.")

    def _tender_key(self) -> Iterator[Ailment]:
        path = self.settings.get("CHRONARCH_TENDER_KEY_FILE")
        if not path or self.engine is None or not self.answers:
            return
        key = Path(path)
        again = f"rm -f {key}; systemctl restart chronarch-service chronarch-tender makes a new one."
        if not key.exists():
            yield Ailment("tenders", f"The tender has no key: {key} is missing.", again)
            return
        with self.engine.connect() as db:
            mine = select(t.Key.revoked).where(t.Key.secret_hash == hash_secret(key.read_text().strip()))
            revoked = db.execute(mine).scalar()
        if revoked is None:
            yield Ailment("tenders", f"The service does not know the tender's key in {key}.", again)
        elif revoked:
            yield Ailment("tenders", f"The tender's key in {key} was revoked.", again)

    def _from_inside(self) -> Iterator[Ailment]:
        """What the service itself knows of its tenders, links and cameras."""
        if not self.answers or self.engine is None:
            return
        try:
            with (
                temporary_key(self.engine) as key,
                Client(self.settings["CHRONARCH_ADDRESS"], key) as client,
            ):
                yield from self._health(client.do(requests.health()))
                for machine in client.all(requests.machines()):
                    if machine.state is MachineState.OFFLINE:
                        do = "Is it on, its cable in, its address the same? chronarch links probe tries an address."
                        yield Ailment("links", f"{machine.name} does not answer: {machine.reason or 'offline'}.", do)
                cameras = client.do(requests.cameras())
                with ThreadPoolExecutor(AT_A_TIME) as pool:
                    said = pool.map(partial(_camera, client), cameras)
                    yield from (one for one in said if one is not None)
        except (ClientError, SQLAlchemyError) as error:
            yield Ailment("service", f"The service could not be asked: {error}", "chronarch health says more.")

    def _health(self, health: Health) -> Iterator[Ailment]:
        """What is wrong for longer than a moment."""
        passing = [f"{one.name} lags" for one in health.workers]
        passing += [f"{health.held.where} held"] if health.held else []
        for problem in health.problems:
            about = next((one for one in ("tender", "clock", "disk") if one in problem), "service")
            if problem.startswith(tuple(passing)) or (about == "disk" and self._full):
                continue
            do = "systemctl status chronarch-tender" if about == "tender" else "chronarch health says more."
            yield Ailment({"tender": "tenders"}.get(about, about), f"{problem[0].upper()}{problem[1:]}.", do)


def _camera(client: Client, camera: Camera) -> Ailment | None:
    """Have a camera take a frame, unless it is known already why it does not."""
    trouble = camera.trouble.text if camera.trouble is not None else ""
    if not trouble:
        try:
            client.do(requests.try_camera(camera.name), TRIED_WITHIN_S)
            return None
        except ClientError as error:
            trouble = str(error)
    do = f"chronarch cameras test '{camera.name}' tries it again."
    return Ailment("cameras", f"The camera {camera.name}: {trouble}", do)


def _listens(host: str, port: int) -> bool:
    with suppress(OSError), socket.create_connection((host, port), timeout=2):
        return True
    return False


def _greets(host: str, port: int) -> bool:
    """Whether a database server is there: it speaks first (MariaDB's protocol: a packet's head, then 10, or 255 for an
    error)."""
    with suppress(OSError), socket.create_connection((host, port), timeout=5) as line:
        return line.recv(5)[4:] in (b"\x0a", b"\xff")
    return False


def _last_words(path: Path) -> str:
    try:
        lines = path.read_text(errors="replace").strip().splitlines()
    except OSError:
        return "(it has none)"
    wrong = [line for line in lines if "ERROR" in line]
    return (wrong or lines or ["(it is empty)"])[-1][-300:]
