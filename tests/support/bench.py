"""A controller on a bench: a machine that takes each line at once, and time moved by hand."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

from chronarch.core.control.controlled_machine import BuildSpec, Instant
from chronarch.core.control.events import StateChanged
from chronarch.core.control.line_protocol import FIRST_OWN_LINE_NUMBER, CommandSequence
from chronarch.core.control.streaming_controller import StreamingController
from chronarch.core.gcode.analysis import analyse
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState
from tests.support.gcode import commands, squares

TEXT = squares(layers=2, rounds=2, nozzle=205, bed=60)
COMMANDS = [c.encode() for c in commands(TEXT)]
MODEL = MachineModel("toy")


class Waiting(CommandSequence):
    """A program that knows where it asks for hands, as a file does."""

    @property
    def waits(self) -> dict[int, bytes]:
        return {n: c for n, c in enumerate(self.commands) if c.split()[0] in (b"M0", b"M1", b"M600")}

    @property
    def says(self) -> list[int]:
        return [n for n, c in enumerate(self.commands) if c.split()[0] in (b"M117", b"M118")]


class Bench:
    """A controller and a machine that takes each line at once, with time moved by hand."""

    def __init__(self, model: MachineModel = MODEL, text: str = TEXT) -> None:
        self.text = text
        self.commands = [c.encode() for c in commands(text)]
        self.model = model
        self.controller = StreamingController(model)
        self.real_s = 0.0
        self.ran: list[bytes] = []
        self.own: list[bytes] = []
        self.urgent: list[bytes] = []
        self.last = 0
        self.heat = (25.0, 0.0, 25.0, 0.0)
        self.told: list[Any] = []
        self.blocked = False
        self.answers: dict[bytes, tuple[str, ...]] = {}
        """What the machine says to a command besides ok."""

    def now(self) -> Instant:
        return Instant(self.real_s, datetime(2026, 10, 19, 9, tzinfo=UTC) + timedelta(seconds=self.real_s))

    def say(self, text: str) -> None:
        self.controller.receive(text.encode() + b"\n", self.now())

    def report(self) -> None:
        n, na, b, ba = self.heat
        self.say(f"T:{n} /{na} B:{b} /{ba}")

    def run(self, lines: int = 1000, seconds: float = 30.0) -> None:
        """Let the machine take up to `lines` lines, time passing when the wire is quiet."""
        end = self.real_s + seconds
        while lines > 0 and self.real_s < end:
            data = self.controller.outgoing()
            if not data:
                self.real_s += 0.05
                self.controller.tick(self.now())
            for line in data.splitlines():
                lines -= 1
                self.take(line)
        self.told += [happening for _, happening in self.controller.machine.take_events()]

    def take(self, line: bytes) -> None:
        if line.startswith(b"Q"):
            self.say(f'echo:Unknown command: "{line.decode()}"')
            self.say("ok")
            return
        if not line.startswith(b"N"):
            self.urgent.append(line)
            self.blocked = False
            return
        number, _, rest = line[1:].partition(b" ")
        command = rest[: rest.rfind(b"*")]
        if command.startswith(b"M110"):
            self.last = int(number)
        elif int(number) != self.last + 1:
            self.say(f"Error:line number, last line: {self.last}")
            self.say(f"Resend: {self.last + 1}")
        else:
            self.last = int(number)
            (self.own if self.last > FIRST_OWN_LINE_NUMBER else self.ran).append(command)
            for said in self.answers.get(command, ()):
                self.say(said)
        self.say("ok")

    def begin(self) -> None:
        self.controller.connected(self.now())
        self.run()
        self.told.clear()
        self.own.clear()
        self.controller.begin(self.spec(), self.now())

    def spec(self) -> BuildSpec:
        return BuildSpec(7, analyse(self.text.encode(), self.model).plan, Waiting(tuple(self.commands)))

    def states(self) -> list[MachineState]:
        return [h.state for h in self.told if isinstance(h, StateChanged)]

    def of(self, kind: type) -> list[Any]:
        return [h for h in self.told if isinstance(h, kind)]
