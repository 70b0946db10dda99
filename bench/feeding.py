"""How well machines are fed, on real sockets between processes; each figure beside a limit taken in the same run.

1.  One link at full speed, as a ratio to a bare echo of the same lines by the same event loop.
2.  Fifty links of one tender at 200 lines/s each: processor time, and how late a line ever comes.
3.  An emergency stop in the middle of it: milliseconds until it is on the wire.

Every line goes the whole way a tender's lines go: driver, controller, journal, log, socket. Run it with `make bench`.
"""

from __future__ import annotations

import asyncio
import multiprocessing
import os
import resource
import statistics
import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import uvloop

from chronarch.core.clock import ScaledClock
from chronarch.core.control.controlled_machine import BuildSpec
from chronarch.core.control.framing import QUESTION, numbered
from chronarch.core.gcode.plan import Mark, TimePlan
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState
from chronarch.tender.checkpoints import CheckpointStore
from chronarch.tender.controllers.driver import DriverContext
from chronarch.tender.controllers.streaming_driver import StreamingDriver
from chronarch.tender.file_program import FileProgram
from chronarch.wire.control.upstream import MachineConfig

LINES = 20_000
MEASURES_FIRST = -15
"""The nice value of what stands for the machines: it measures, and is another computer."""
ROUNDS = 3
LINKS, RATE, SECONDS = 50, 200, 10


# The other end: machines in a process of their own --------------------------------------------------------------------


class Echo(asyncio.Protocol):
    """Answers `ok` to every line, and names the line it wants when asked; `pace_s` after it where that is set. `late`
    gathers, in seconds, how long after an answer the next line came."""

    def __init__(self, pace_s: float, late: list[float], halts: list[float]) -> None:
        self.pace_s, self.late, self.halts = pace_s, late, halts
        self.partial = b""
        self.due = 0.0
        self.answered = 0.0
        self.before = b"N0 "

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self.transport: Any = transport

    def data_received(self, data: bytes) -> None:
        if b"M112" in data:
            self.halts.append(time.monotonic())
        *lines, self.partial = (self.partial + data).split(b"\n")
        now = time.monotonic()
        if self.answered:
            self.late.append(now - self.answered)
            self.answered = 0.0
        if QUESTION in lines:
            self.name_line(lines)
            return
        if lines:
            self.before = lines[-1]
        if not self.pace_s:
            self.transport.write(b"ok\n" * len(lines))
            return
        for line in lines:
            if b" M" in line or line.startswith(b"M"):
                self.transport.write(b"ok\n")
                continue
            self.due = max(now, self.due + self.pace_s)
            asyncio.get_running_loop().call_at(self.due, self.answer)

    def name_line(self, lines: list[bytes]) -> None:
        """Answer lines with a question among them: with the number after that of the line before it."""
        for line in lines:
            if line == QUESTION:
                number = int(self.before[1 : self.before.index(b" ")]) + 1
                self.transport.write(b"Error:checksum mismatch\nResend: %d\nok\n" % number)
            else:
                self.before = line if line.startswith(b"N") else self.before
                self.transport.write(b"ok\n")

    def answer(self) -> None:
        if not self.transport.is_closing():
            self.answered = time.monotonic()
            self.transport.write(b"ok\n")


def _machines(pace_s: float, count: int, pipe: Any) -> None:
    async def serve() -> None:
        loop = asyncio.get_running_loop()
        late: list[float] = []
        halts: list[float] = []
        servers = [await loop.create_server(lambda: Echo(pace_s, late, halts), "127.0.0.1", 0) for _ in range(count)]
        pipe.send([server.sockets[0].getsockname()[1] for server in servers])
        while True:
            await asyncio.sleep(0.01)
            if pipe.poll():
                if pipe.recv() == "end":
                    return
                pipe.send((late[:], halts[:]))
                late.clear()

    os.setpriority(os.PRIO_PROCESS, 0, MEASURES_FIRST)
    uvloop.run(serve())


class Machines:
    """Such machines, for as long as the block lasts."""

    def __init__(self, pace_s: float, count: int) -> None:
        context = multiprocessing.get_context("spawn")
        self.pipe, theirs = context.Pipe()
        self.process = context.Process(target=_machines, args=(pace_s, count, theirs), daemon=True)

    def __enter__(self) -> Machines:
        self.process.start()
        self.ports: list[int] = self.pipe.recv()
        return self

    def seen(self) -> tuple[list[float], list[float]]:
        """How late lines came since last asked, sorted; and when a halt came."""
        self.pipe.send("seen")
        late, halts = self.pipe.recv()
        return sorted(late), halts

    def __exit__(self, *gone: object) -> None:
        self.pipe.send("end")
        self.process.join(5)
        self.process.kill()


# Our end ----------------------------------------------------------------------------------------------------------


def write_program(folder: Path, lines: int) -> Path:
    """Short moves, as a file."""
    path = folder / "program.gcode"
    with path.open("wb") as out:
        for n in range(lines):
            out.write(b"G1 X%.3f Y%.3f E%.5f F18000\n" % (100 + n % 7, 100 + n % 5, n * 0.01))
    return path


async def bare(port: int, path: Path) -> float:
    """Lines a second of the limit: each line numbered and check-summed as it goes, one outstanding, nothing else."""
    program = FileProgram(path)
    loop = asyncio.get_running_loop()
    done = loop.create_future()

    class Client(asyncio.Protocol):
        def connection_made(self, transport: asyncio.BaseTransport) -> None:
            self.transport: Any = transport
            self.at = 0
            self.send()

        def send(self) -> None:
            if self.at == len(program):
                done.set_result(None)
                return
            self.transport.write(numbered(self.at + 1, program.command(self.at)))
            self.at += 1

        def data_received(self, data: bytes) -> None:
            self.send()

    began = time.perf_counter()
    transport, _ = await loop.create_connection(Client, "127.0.0.1", port)
    await done
    rate = len(program) / (time.perf_counter() - began)
    transport.close()
    return rate


class Feeding:
    """Links as a tender has them, each with a build under way."""

    def __init__(self, folder: Path, path: Path, ports: list[int]) -> None:
        now = datetime.now(UTC)
        clock = ScaledClock(now, now, 1.0)
        around = DriverContext("bench", clock, None, CheckpointStore(folder / "kept"), lambda *what: None)  # type: ignore[arg-type]
        self.links = []
        for n, port in enumerate(ports):
            model = MachineModel(name="m", watchdog_s=0, idle_off_s=0)
            charge = MachineConfig(
                machine=f"M{n}", link=f"tcp://127.0.0.1:{port}", model=model, state=MachineState.IDLE
            )
            self.links.append(StreamingDriver(charge, around))
        program = FileProgram(path)
        plan = TimePlan((Mark(0, 0.0, 0.0), Mark(len(program), 1e6, 1.0)), (0,))
        self.spec = BuildSpec(1, plan, program)
        self.tasks = [asyncio.create_task(link.run()) for link in self.links]

    async def begin(self) -> None:
        """Builds under way on all; the machines only say ok, so being made ready is taken as read."""
        for link in self.links:
            while not link.connected:  # noqa: ASYNC110
                await asyncio.sleep(0.005)
            link.controller.link.drop()
            link.controller.feeder.queue.drop("bench")
            link.controller.feeder.prepared = True
        await asyncio.sleep(0.3)  # what was said until now is over
        for link in self.links:
            link.controller.begin(self.spec, link.now())
            link.flush()

    def taken(self) -> int:
        return sum(
            link.controller.machine.progress.acknowledged for link in self.links if link.controller.machine.progress
        )

    async def end(self) -> None:
        for task in self.tasks:
            task.cancel()
        await asyncio.gather(*self.tasks, return_exceptions=True)


async def fed(folder: Path, path: Path, port: int) -> float:
    """Lines a second through a tender's whole link."""
    feeding = Feeding(folder, path, [port])
    await feeding.begin()
    began = time.perf_counter()
    at = feeding.taken()
    while feeding.taken() < LINES:  # noqa: ASYNC110
        await asyncio.sleep(0.01)
    rate = (LINES - at) / (time.perf_counter() - began)
    await feeding.end()
    return rate


async def many(folder: Path, path: Path, machines: Machines) -> dict[str, float]:
    """Fifty links at once for some seconds."""
    feeding = Feeding(folder, path, machines.ports)
    await feeding.begin()
    await asyncio.sleep(1.5)
    machines.seen()
    used, taken, began = resource.getrusage(resource.RUSAGE_SELF), feeding.taken(), time.monotonic()
    await asyncio.sleep(SECONDS)
    wall = time.monotonic() - began
    now = resource.getrusage(resource.RUSAGE_SELF)
    late, _ = machines.seen()
    asked = time.monotonic()
    feeding.links[len(feeding.links) // 2].controller.emergency(feeding.links[len(feeding.links) // 2].now())
    feeding.links[len(feeding.links) // 2].send()
    await asyncio.sleep(0.3)
    _, halts = machines.seen()
    figures = {
        "rate": (feeding.taken() - taken) / wall / len(feeding.links),
        "core": (now.ru_utime + now.ru_stime - used.ru_utime - used.ru_stime) / wall,
        "p50": late[len(late) // 2] * 1000,
        "p99": late[int(len(late) * 0.99)] * 1000,
        "worst": late[-1] * 1000,
        "halt": (halts[-1] - asked) * 1000,
    }
    await feeding.end()
    return figures


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        path = write_program(folder, LINES)
        rates: dict[str, list[float]] = {"bare": [], "fed": []}
        for n in range(2 * ROUNDS + 1):
            with Machines(0.0, 1) as machines:
                rates["bare"].append(uvloop.run(bare(machines.ports[0], path)))
                rates["fed"].append(uvloop.run(fed(folder / f"one{n}", path, machines.ports[0])))
        limit, measured = statistics.median(rates["bare"]), statistics.median(rates["fed"])
        ratios = sorted(ours / bare for ours, bare in zip(rates["fed"], rates["bare"], strict=True))
        print(
            f"one link    bare echo {limit:.0f} lines/s, fed {measured:.0f} lines/s: ratio "
            f"{statistics.median(ratios):.2f} (at least 0.70), {ratios[0]:.2f} to {ratios[-1]:.2f} in {len(ratios)}"
        )
        with Machines(1 / RATE, LINKS) as machines:
            alone = uvloop.run(many(folder / "many", path, machines))
        print(
            f"{LINKS} links    {alone['rate']:.0f} lines/s each   {alone['core']:.2f} of a core (under 0.50)   "
            f"late by {alone['p50']:.2f} ms in the middle, {alone['p99']:.2f} ms at the 99th percentile, "
            f"{alone['worst']:.1f} ms at worst (under 250)"
        )
        print(f"emergency   {alone['halt']:.1f} ms to the wire (under 100), all links feeding")


if __name__ == "__main__":
    main()
