"""A whole shop for tests: real database, service, tender and stand-ins, each a process of its own on loopback."""

from __future__ import annotations

import asyncio
import itertools
import json
import os
import signal
import sys
import tempfile
import time
import unittest
from collections.abc import Callable, Coroutine
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, TypeVar, cast

import httpx
from sqlalchemy import text

from chronarch.client import Client, ClientError, RefusedByService, requests
from chronarch.core.access.rights import GivenRole
from chronarch.core.clock import shared_clock
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.machines.tools import Tool
from chronarch.core.orders.requirement import Requirement
from chronarch.core.orders.states import Verdict
from chronarch.demo.broker import USER, PrivateBroker
from chronarch.records.database import make_engine, migrate
from chronarch.records.ports import free_ports
from chronarch.records.server import PrivateServer
from chronarch.service.command import register_key, register_person
from chronarch.service.config import Config
from chronarch.service.loop_watch import HELD_S
from chronarch.wire.machines import machine as wm
from chronarch.wire.orders.builds import Build
from chronarch.wire.orders.jobs import Job, NewJob
from chronarch.wire.watching.cameras import Camera, NewCamera
from chronarch.wire.watching.settings import WatchingUpdate
from tests.support import processes
from tests.support.processes import Process, starter

T = TypeVar("T")
PERSON, PASSWORD = "maud", "a long test password"
MODEL = "Lantern 220"
MAIL_LOGIN = "prints:a mail password"
WARNINGS = 40
RUNS_DATABASE = "CHRONARCH_TEST_DATABASE"
"""FOLDER:PORT of the server that `python -m tests` has started for all its files."""
LOOK_S = 0.02
"""What looking once counts, as time that was waited."""
LONGEST = 6
"""How many times longer than it says a wait may last on a computer that is that much slower."""
_numbers = itertools.count(1)
_shared: list[PrivateServer] = []
_folders: list[tempfile.TemporaryDirectory[str]] = []


def shared_server() -> PrivateServer:
    """The one database server of this test run: the one the whole run has, else one started when first asked for."""
    if not _shared and RUNS_DATABASE in os.environ:
        folder, _, port = os.environ[RUNS_DATABASE].rpartition(":")
        _shared.append(PrivateServer(Path(folder), int(port)))
    if not _shared:
        own = tempfile.TemporaryDirectory(prefix="chronarch-db-")
        _folders.append(own)
        server = PrivateServer(Path(own.name))
        server.start()
        _shared.append(server)
    return _shared[0]


def close_all() -> None:
    """Stop what `shared_server` started, and the process that starts others."""
    processes.close_all()
    while _shared:
        _shared.pop().stop()
    while _folders:
        _folders.pop().cleanup()


def _beside(work: Coroutine[Any, Any, T]) -> T:
    """Do it in a thread of its own: in this one a browser's event loop may run."""
    with ThreadPoolExecutor(1) as pool:
        return pool.submit(asyncio.run, work).result()


def eventually(what: Callable[[], T], why: str, within_s: float = 60.0) -> T:
    """The first true value of `what`; fails with `why` and the last value when none comes in time. Time is counted in
    looks: one that takes seconds on a busy computer counts no more than one on a quiet one."""
    began = time.monotonic()
    rested_s, pause_s = 0.0, 0.02
    while True:
        value = what()
        if value:
            return value
        waited_s = time.monotonic() - began
        if rested_s > within_s or waited_s > LONGEST * within_s:
            raise AssertionError(f"not within {waited_s:.0f} s: {why} (last: {value!r})")
        time.sleep(pause_s)
        rested_s += pause_s + LOOK_S
        pause_s = min(0.3, pause_s * 1.25)


class World:
    """One shop. `machines` are the names of its stand-ins; `rate` is how fast its time runs."""

    def __init__(self, machines: tuple[str, ...] = ("Anchor",), rate: float = 200.0, own_database: bool = False,
                 largest_file: int | None = None, stored: tuple[str, ...] = (),
                 cameras: bool = False) -> None:  # fmt: skip
        starter()
        self._folder = tempfile.TemporaryDirectory(prefix="chronarch-world-")
        self.folder = Path(self._folder.name)
        self.names = (*machines, *stored)
        self.stored, self.cameras = stored, cameras
        self.rate = rate
        self.broker = PrivateBroker(self.folder / "broker") if stored else None
        self.processes: dict[str, Process] = {}
        self.server = PrivateServer(self.folder / "db") if own_database else shared_server()
        self._owned = own_database
        if own_database:
            self.server.start()
        self.database = self.server.another(f"world_{os.getpid()}_{next(_numbers)}")
        migrate(self.database)
        self.clock = shared_clock(datetime(2026, 10, 19, 9, 0, tzinfo=UTC), rate)
        settings = Config(self.database, self.folder / "blobs")
        asyncio.run(register_person(settings, PERSON, "Maud", PASSWORD))
        self.key = asyncio.run(register_key(settings, "tests", GivenRole.MANAGER))
        self.operate_key = asyncio.run(register_key(settings, "operating", GivenRole.OPERATOR))
        self.read_key = asyncio.run(register_key(settings, "reading", GivenRole.VIEWER))
        self.tender_key = asyncio.run(register_key(settings, "tender", GivenRole.TENDER))
        self.port, self.standins_port, self.rtsp_port, self.smtp_port, *others = free_ports(4 + len(self.names))
        self.ports = dict(zip(self.names, others, strict=True))
        self.address = f"http://127.0.0.1:{self.port}"
        self.environment = {
            **os.environ,
            "CHRONARCH_DATABASE": self.database,
            "CHRONARCH_BLOBS": str(self.folder / "blobs"),
            "CHRONARCH_CLOCK": self.clock.spec(),
            "CHRONARCH_SHOP": "A shop for tests",
            "CHRONARCH_ADDRESS": self.address,
            "CHRONARCH_KEY": self.key,
            "CHRONARCH_TENDER_KEY": self.tender_key,
            "CHRONARCH_STANDINS_PORT": str(self.standins_port),
            "CHRONARCH_LOCAL_CAMERAS": str(self.local_cameras),
            "COLUMNS": "200",
            "TZ": "UTC",
        }
        if largest_file is not None:
            self.environment["CHRONARCH_LARGEST_FILE"] = str(largest_file)
        self.client = Client(self.address, self.key)
        afresh = httpx.Limits(max_keepalive_connections=0)  # one that has rested for 5 s is cut just as it is used
        self.http = httpx.Client(
            base_url=f"http://127.0.0.1:{self.standins_port}", timeout=30, verify=False, limits=afresh
        )
        """To ask the stand-ins."""
        self.setups: dict[str, dict[str, object]] = {}
        """More of how a machine's stand-in is made, by its name."""

    @property
    def local_cameras(self) -> Path:
        """Where the tender looks for cameras that are plugged in."""
        return self.folder / "by-id"

    # Processes -----------------------------------------------------------------------------------------------

    def spawn(self, name: str, *arguments: str) -> None:
        with (self.folder / f"{name}.log").open("ab") as log:
            self.processes[name] = processes.start(*arguments, env=self.environment, out=log)

    def kill(self, name: str, how: signal.Signals = signal.SIGKILL) -> None:
        process = self.processes.pop(name)
        process.send_signal(how)
        process.wait(20)

    def start_service(self) -> None:
        self.spawn("service", "service", "run", "--port", str(self.port))
        eventually(self._answers, f"the service answers; {self.log('service')}")

    def _answers(self) -> bool:
        if "service" in self.processes and self.processes["service"].poll() is not None:
            raise AssertionError(self.log("service"))
        try:
            self.client.do(requests.me())
        except ClientError:
            return False
        return True

    def start_tender(self) -> None:
        self.spawn("tender", "tender", "run", "--folder", str(self.folder / "tender"))
        eventually(lambda: all(m.reachable for m in self.machines()), f"the tender is there; {self.log('tender')}")

    def start_standins(self) -> None:
        if self.broker is not None:
            self.broker.start()
        entries: list[dict[str, object]] = []
        for name, port in self.ports.items():
            entry = {"name": name, "port": port, "rate": self.rate, "volume_mm": [220, 220, 250]}
            if self.broker is not None and name in self.stored:
                entry["broker"] = f"127.0.0.1:{self.broker.port}:{USER}:{self.broker.password}"
            entries.append({**entry, **self.setups.get(name, {})})
        path = self.folder / "standins.json"
        path.write_text(json.dumps(entries))
        ports = "--port", str(self.standins_port), "--rtsp-port", str(self.rtsp_port)
        mail = "--smtp-port", str(self.smtp_port), "--mail-login", MAIL_LOGIN
        self.spawn("standins", "standins", "run", "--from-file", str(path), *ports, *mail)
        eventually(self._standins_answer, "the stand-ins answer")

    def _standins_answer(self) -> bool:
        try:
            return self.standin(self.names[0]) is not None
        except httpx.TransportError:
            return False

    def start(self, new_shop: bool = False) -> World:
        """Everything, with one model and the machines added, unless it is a new shop's."""
        self.start_standins()
        self.start_service()
        if not new_shop:
            self.add_machines()
        self.start_tender()
        return self

    def add_machines(self) -> None:
        self.client.do(requests.add_model(MachineModel(name=MODEL, cold_extrusion_c=0)))
        self.client.do(requests.change_watching(WatchingUpdate(keep_every_s=3600)))  # an hour is 18 s here
        for name in self.names:
            self.add_machine(name)

    def add_machine(self, name: str) -> None:
        tool = Tool(nozzle_mm=0.4, material="PLA", colour="teal")
        link = f"tcp://127.0.0.1:{self.ports[name]}"
        if self.broker is not None and name in self.stored:
            link = self.broker.address(name)
        order = {"name": name, "model": MODEL, "link": link, "tools": [tool]}
        self.client.do(requests.add_machine(wm.NewMachine.model_validate(order)))
        if self.cameras:
            self.add_camera(name)

    def camera_address(self, machine: str, path: str = "frame.jpg") -> str:
        return f"http://127.0.0.1:{self.standins_port}/machines/{machine}/{path}"

    def add_camera(self, machine: str, name: str = "", path: str = "frame.jpg", **more: object) -> Camera:
        """Add a camera of a machine's stand-in; it has the machine's name without another."""
        asked = {
            "name": name or machine, "machine": machine, "address": self.camera_address(machine, path), **more
        }  # fmt: skip
        return self.client.do(requests.add_camera(NewCamera.model_validate(asked)))

    def _say_what_held_it(self) -> None:
        """Print what kept the service from everybody else for longer than it may, in time that it computed."""
        headers = {"Authorization": f"Bearer {self.key}"}
        with suppress(httpx.HTTPError):
            held = httpx.get(f"{self.address}/api/health", headers=headers, timeout=5).json().get("held")
            if held and held["busy_s"] > HELD_S:
                print(f"the service was held for {1000 * held['busy_s']:.0f} ms by {held['where']}", file=sys.stderr)

    def close(self) -> None:
        if "service" in self.processes and self.processes["service"].poll() is None:
            self._say_what_held_it()
        for name, process in list(self.processes.items()):
            if (process.poll() or 0) < 0:
                print(f"{name} died of signal {-(process.poll() or 0)}: {self.log(name)}", file=sys.stderr)
            self.kill(name)
        self.client.close()
        self.http.close()
        if self.broker is not None:
            self.broker.stop()
        if self._owned:
            self.server.stop()
        self._folder.cleanup()

    def sql(self, statement: str, **values: Any) -> None:
        """Do to the records what no door would."""

        async def go() -> None:
            engine = make_engine(self.database)
            async with engine.begin() as db:
                await db.execute(text(statement), values)
            await engine.dispose()

        _beside(go())

    def rows(self, statement: str, **values: Any) -> list[tuple[Any, ...]]:
        """What the records hold."""

        async def go() -> list[tuple[Any, ...]]:
            engine = make_engine(self.database)
            async with engine.connect() as db:
                found = [tuple(row) for row in await db.execute(text(statement), values)]
            await engine.dispose()
            return found

        return _beside(go())

    def log(self, name: str) -> str:
        path = self.folder / f"{name}.log"
        return path.read_text(errors="replace")[-1500:] if path.exists() else ""

    def warnings(self) -> str:
        """What its processes warned of, the newest last, and which of the service's workers have trouble."""
        found = [f"{name}: {'running' if process.poll() is None else process.poll()}" for name, process in
                 self.processes.items()]  # fmt: skip
        for path in sorted(self.folder.glob("*.log")):
            lines = path.read_text(errors="replace").splitlines()
            warned = [line[:300] for line in lines if " INFO " not in line]
            found += [f"{path.name}:", *warned[-WARNINGS:]]
        with suppress(ClientError, httpx.HTTPError):
            health = self.client.do(requests.health())
            found += [*health.problems, *(f"{w.name} last stepped at {w.beat_at}" for w in health.workers)]
        return "\n".join(found)

    # What tests look at --------------------------------------------------------------------------------------

    def machines(self) -> list[wm.Machine]:
        return self.client.do(requests.machines())

    def machine(self, name: str) -> wm.MachineDetail:
        return self.client.do(requests.machine(name))

    def state(self, name: str) -> MachineState:
        return self.machine(name).state

    def until(self, name: str, state: MachineState, within_s: float = 60.0) -> wm.MachineDetail:
        """The machine once it is in a state."""
        eventually(lambda: self.state(name) is state, f"{name} becomes {state}", within_s)
        return self.machine(name)

    def standin(self, name: str) -> dict[str, Any]:
        found: dict[str, Any] = self.http.get(f"/machines/{name}").json()
        return found

    def fault(self, name: str, fault: str, **order: object) -> None:
        self.http.post(f"/machines/{name}/faults/{fault}", json=order).raise_for_status()

    def add_file(self, name: str, text: str) -> None:
        path = self.folder / name
        path.write_text(text)
        self.client.add_file(path)

    def submit(self, file: str, copies: int = 1, **needs: object) -> Job:
        requirement = Requirement(**needs)
        return self.client.do(requests.submit(NewJob(file=file, copies=copies, requirement=requirement)))

    def builds(self, job: Job) -> list[Build]:
        return self.client.do(requests.builds(job=job.id))

    def build_of(self, job: Job) -> Build:
        """The job's newest build, once there is one."""
        return eventually(lambda: self.builds(job), f"job {job.id} gets a build")[0]

    def made(self, file: str, machine: str, verdict: Verdict, reason: str = "") -> int:
        """Have a file built on a machine, and judged; the build's number."""
        job = self.submit(file, machine=machine)
        build = self.build_of(job).id
        self.until(machine, MachineState.UNCLEARED)
        self.client.do(requests.act_on_job(job.id, "hold"))  # what is scrap would be made anew
        self.client.do(requests.verdict(build, verdict, reason))
        self.until(machine, MachineState.IDLE)
        return build

    def camera_process(self) -> int:
        """The number of the process that watches this world's cameras."""
        for process in Path("/proc").iterdir():
            with suppress(OSError):
                mine = process.name.isdigit() and self.address.encode() in (process / "environ").read_bytes()
                if mine and b"tender\0cameras" in (process / "cmdline").read_bytes():
                    return int(process.name)
        raise AssertionError("no process watches the cameras")

    def stopped(self, name: str) -> bool:
        """Stop what a machine builds; False while that cannot be done yet."""
        build = self.machine(name).build
        if build is None or build.outcome is not None:
            return True
        try:
            self.client.do(requests.stop(build.id))
        except RefusedByService as error:
            if error.problem.status == 409:  # it is only being fetched, or has just ended: look again
                return False
            raise
        return True

    def intake(self, intake: Intake, *names: str) -> None:
        """How machines, all without names, take work."""
        for name in names or self.names:
            self.client.do(requests.change_machine(name, intake=intake))

    def taken(self, name: str, at_least: int) -> None:
        """Wait until the stand-in has taken so many of the file's commands."""
        eventually(lambda: self.standin(name)["taken"] >= at_least, f"{name} takes {at_least} commands")


OWN_WORLD = frozenset(("machines", "rate", "own_database", "stored", "cameras", "new_shop", "prepare"))
"""A class that says one of these has a world of its own."""


def _failed(result: unittest.TestResult | None) -> int:
    return len(result.failures) + len(result.errors) if result is not None else 0


class WorldCase(unittest.TestCase):
    """Tests that share one world, made once for the classes of a file that want the same one."""

    machines: tuple[str, ...] = ("Anchor",)
    rate = 200.0
    own_database = False
    stored: tuple[str, ...] = ()
    """Machines that run files themselves."""
    cameras = False
    """Whether a camera looks at each machine."""
    new_shop = False
    """Whether nobody has set up a model or a machine yet."""
    world: World

    @classmethod
    def setUpClass(cls) -> None:
        wants = next(c for c in cls.__mro__ if vars(c).keys() & OWN_WORLD)
        if "world" in vars(wants):
            return
        world = World(cls.machines, cls.rate, cls.own_database, stored=cls.stored, cameras=cls.cameras)
        unittest.addModuleCleanup(world.close)
        setattr(wants, "world", world)  # noqa: B010
        unittest.addModuleCleanup(delattr, wants, "world")
        cast(type[WorldCase], wants).prepare()

    @classmethod
    def prepare(cls) -> None:
        """Start what this class needs."""
        cls.world.start(cls.new_shop)

    def run(self, result: unittest.TestResult | None = None) -> unittest.TestResult | None:
        """Run the test; if it fails, say what its world warned of."""
        before = _failed(result)
        after = super().run(result)
        if _failed(result) > before and isinstance(getattr(type(self), "world", None), World):
            print(f"{self.id()}\n{self.world.warnings()}", file=sys.stderr)
        return after

    def clear(self, name: str) -> None:
        """Have a machine idle with a clear bed, whatever it did before."""
        w = self.world
        machine = w.machine(name)
        if machine.build is not None and machine.build.outcome is None:
            eventually(lambda: w.stopped(name), f"the build on {name} is stopped")
        if w.state(name) is not MachineState.IDLE:
            machine = eventually(
                lambda: (m := w.machine(name)).state in (MachineState.UNCLEARED, MachineState.DOWN) and m,
                f"{name} can be cleared",
            )
            if machine.build is not None:
                w.client.do(requests.verdict(machine.build.id, Verdict.GOOD))
            if machine.state is MachineState.DOWN:
                w.fault(name, "reset")
                w.client.do(requests.put_back(name))
        w.until(name, MachineState.IDLE)
