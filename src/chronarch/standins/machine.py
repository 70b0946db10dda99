"""A machine on a TCP port that takes numbered, check-summed lines, heats, moves, and can be made to fail.

It records the exact sequence of counted commands it took. Line numbers from 900000001 on are a feeder's own lines and
are not part of a build's record; a new count from 0 begins a new record.
"""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import random
import re
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from functools import reduce
from typing import ClassVar

from chronarch.standins.dialects import BY_NAME
from chronarch.standins.front import Front
from chronarch.standins.heat import AMBIENT_C, SimulatedHeater, bed, nozzle
from chronarch.standins.level import Level
from chronarch.standins.motion import Motion
from chronarch.standins.picture import VIEWS, CameraPicture, View

OWN_LINES = 900_000_000
BOARD_W, FAN_W, MOTORS_W = 6.5, 3.0, 14.0
BUSY_EVERY_S = 0.5
SWEEP_MM, LETS_GO_C = 6.0, 50.0
"""A head lower than this pushes against parts, and they come off when the bed is no warmer than this."""
LEAST_SLEEP_S = 0.001
"""A loop that counts in milliseconds takes a shorter time for none, and would come back again and again."""
_WORD = re.compile(r"([A-Z])\s*([-+]?(?:\d+\.?\d*|\.\d+))")


@dataclass
class Setup:
    """How one stand-in is made. `rate`: its seconds in one real second; `pace`: above 1 it moves slower than its
    figures say."""

    name: str
    port: int = 0
    rate: float = 1.0
    pace: float = 1.0
    volume_mm: tuple[float, float, float] = (220.0, 220.0, 250.0)
    colour: str = "slate"
    seed: int = 1
    port_name: str = ""
    """A serial port instead of TCP: the path of the link that will lead to it."""
    rfc2217: bool = False
    """Speak RFC 2217 on the TCP port: a serial port over the network."""
    speed: int = 115200
    """At what speed its serial port listens, bits/s; at another it hears and says noise."""
    broker: str = ""
    """HOST:PORT[:USER:PASSWORD] of an MQTT broker: this machine runs files itself and reports there."""
    ca: str = ""
    """A certificate authority's file, where the broker wants TLS."""
    dialect: str = "plain"
    """Its dialect: a name in the table of dialects."""
    numbered_oks: bool = False
    reports_heat: bool = True
    """Whether it can report temperatures by itself."""
    watchdog: bool = True
    """Whether it knows M85: heaters off after so long without a line."""
    cameras: int = 1
    """How many cameras look at it: one in front, a second one from the side."""
    camera_login: str = ""
    """LOGIN:PASSWORD that its cameras want; none without one."""
    camera_digest: bool = False
    """Whether they want it as a digest (RFC 7616), not as it is (RFC 7617)."""
    plug: str = ""
    """The plug that it hangs on: `http`, or HOST:PORT[:USER:PASSWORD] of the MQTT broker where that reports; none
    without one."""
    plug_login: str = ""
    """LOGIN:PASSWORD that a plug which is asked over HTTP wants."""
    announces: bool = False
    """Whether it says on the network that it is there (DNS-SD)."""
    model: str = ""
    """What it says it is, where it announces itself."""
    further_sensors: bool = False
    """Whether it also reports a second hot end, which stays cold, and its board."""
    firmware: str = "stand-in 4.2"
    """What it says its firmware is."""
    stored: dict[str, float] = field(default_factory=dict)
    """What it has stored otherwise than a new one, like `M92 E`."""
    local_camera: str = ""
    """The path of a named pipe that its camera writes pictures to, as one that is plugged in."""


@dataclass
class Record:
    """The counted commands taken since the count last began."""

    commands: list[str] = field(default_factory=list)

    @property
    def sha256(self) -> str:
        return hashlib.sha256("\n".join(self.commands).encode()).hexdigest()


STORED = {
    "M92": {"X": 80.0, "Y": 80.0, "Z": 400.0, "E": 93.0},
    "M203": {"X": 300.0, "Y": 300.0, "Z": 12.0, "E": 60.0},
    "M201": {"X": 3000.0, "Y": 3000.0, "Z": 100.0, "E": 5000.0},
    "M204": {"P": 1500.0, "R": 1000.0, "T": 1500.0},
    "M301": {"P": 22.2, "I": 1.08, "D": 114.0},
    "M851": {"X": -42.0, "Y": -5.0, "Z": -1.35},
}
"""What it has stored when it is new, by the word that sets it."""


class Halt(Exception):
    """The machine has stopped itself."""


class MachineStandin:
    """One simulated machine; `start` opens its port, `stop` closes it."""

    def __init__(self, setup: Setup) -> None:
        self.setup = setup
        self.nozzle, self.bed = nozzle(), bed()
        self.motion = Motion(pace=setup.pace)
        self.picture = CameraPicture(setup.volume_mm, setup.colour, VIEWS[: setup.cameras])
        self.record = Record()
        self.stored = {word: dict(values) for word, values in STORED.items()}
        for name, value in setup.stored.items():
            word, letter = name.split()
            self.stored[word][letter] = value
        self.port = setup.port
        self.halted = ""
        self.corrupt_share = 0.0
        self.lose_share = 0.0
        self.corrupt_bytes = 0.0
        self.corrupted = 0
        self.paused_for = ""
        self.dialect = BY_NAME["numbered" if setup.numbered_oks else setup.dialect]
        self.late_s = 0.0
        """Each line is held back for up to this many seconds, in both directions and in order."""
        self.display = ""
        self.dead = False
        """Whether it takes nothing and says nothing any more, until it is reset."""
        self._unasked = asyncio.Event()
        self._unasked.set()
        self._say_at = 0.0
        self._random = random.Random(setup.seed)
        self._last = 0
        self._report_s = 0.0
        self._reported = 0.0
        self._heated = 0.0
        self._skip_wait = False
        self._queue: asyncio.Queue[str] = asyncio.Queue(maxsize=64)
        self._writer: asyncio.StreamWriter | None = None
        self._server: asyncio.Server | None = None
        self._tasks: list[asyncio.Task[None]] = []
        self._cut_until = 0.0
        self._began = 0.0
        self._front: Front | None = None
        self._watchdog_s = 0.0
        self._last_line_at = 0.0
        self.level = Level(setup.seed)
        self.fan = 0.0
        self.switched: dict[str, str] = {}
        self.speed_pct = self.flow_pct = 100.0
        self.z_offset_mm = 0.0
        self.camera_fault = ""
        self.camera_streams = self.camera_requests = 0
        """How many streams its cameras give now, and how often they were asked."""
        self.part_sticks = False
        self.part_stays = False
        """Whether the simulated hands have said that the bed is clear and left something there."""
        self.plug_fault = ""
        self.extra_w = 0.0
        """What something else at its plug draws."""
        self._powered = True
        self._steady_j = 0.0

    # Life ----------------------------------------------------------------------------------------------------

    async def start(self) -> None:
        loop = asyncio.get_running_loop()
        self._began = loop.time()
        if self.setup.port_name or self.setup.rfc2217:
            self._front = Front(self.setup, self._take_line, self._close)
            await self._front.start()
            self.port = self._front.port
        elif not self.setup.broker:
            self._server = await asyncio.start_server(self._serve, "127.0.0.1", self.setup.port)
            self.port = self._server.sockets[0].getsockname()[1]
        self._tasks = [asyncio.create_task(self._work()), asyncio.create_task(self._report())]

    async def stop(self) -> None:
        for task in self._tasks:
            task.cancel()
        if self._server:
            self._server.close()
        if self._front:
            self._front.stop()
        self._drop_connection()

    def _close(self) -> None:
        """The other end of a serial line has gone: the machine does not notice."""

    def now(self) -> float:
        """Seconds of the machine's own time since it was started."""
        return (asyncio.get_running_loop().time() - self._began) * self.setup.rate

    # The wire ------------------------------------------------------------------------------------------------

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        if asyncio.get_running_loop().time() < self._cut_until:
            writer.transport.abort()
            return
        self._drop_connection()
        self._writer = writer
        if self.dialect.greets_connections:
            self.say_all("greeting")
        with contextlib.suppress(ConnectionError, ValueError, asyncio.IncompleteReadError):
            while raw := await reader.readline():
                await self._take_line(raw)
        writer.close()

    async def _take_line(self, raw: bytes) -> None:
        """Take one line, whichever wire it came over."""
        if self.dead or self._random.random() < self.lose_share:
            return
        if self.late_s:
            await asyncio.sleep(self._random.random() * self.late_s)
        line = self._damage(raw).decode("ascii", "replace").strip()
        self._last_line_at = self.now()
        if line in ("M108", "M112") or line.startswith("M876"):
            self._urgent(line)
        elif line:
            await self._queue.put(line)

    def _drop_connection(self) -> None:
        if self._writer is not None:
            self._writer.transport.abort()
            self._writer = None

    def say(self, line: str) -> None:
        """Send one line to whoever is connected."""
        if self.dead or self._random.random() < self.lose_share:
            return
        data = self._damage(line.encode() + b"\n")
        if not self.late_s:
            self._write(data)
            return
        loop = asyncio.get_running_loop()
        self._say_at = max(self._say_at, loop.time() + self._random.random() * self.late_s)
        loop.call_at(self._say_at, self._write, data)

    def say_all(self, what: str, **values: object) -> None:
        """Say the dialect's text for this."""
        for line in self.dialect.say(what, **values):
            self.say(line)

    def _write(self, data: bytes) -> None:
        if self._front is not None:
            self._front.write(data)
        elif self._writer is not None and not self._writer.is_closing():
            self._writer.write(data)

    def _damage(self, line: bytes) -> bytes:
        if self.corrupt_bytes:
            lot = self._random
            hit = bytes(lot.randrange(33, 127) if b != 10 and lot.random() < self.corrupt_bytes else b for b in line)
            self.corrupted += hit != line
            line = hit
        if not self.corrupt_share or self._random.random() >= self.corrupt_share or len(line) < 2:
            return line
        self.corrupted += 1
        at = self._random.randrange(len(line) - 1)
        return line[:at] + bytes([self._random.randrange(33, 127)]) + line[at + 1 :]

    # Taking lines --------------------------------------------------------------------------------------------

    async def _work(self) -> None:
        while True:
            line = await self._next_line()
            if self.halted:
                self.say(f"!! {self.halted}")
                continue
            self._saying_busy = asyncio.get_running_loop().call_later(BUSY_EVERY_S, self._busy)
            try:
                await self._line(line)
            except Halt:
                self.say(f"!! {self.halted}")
            finally:
                self._saying_busy.cancel()

    async def _next_line(self) -> str:
        """The next line. While there is none, some machines say so."""
        while True:
            try:
                async with asyncio.timeout(1.0 if self.dialect.waits else None):
                    line = await self._queue.get()
                break
            except TimeoutError:
                self.say_all("waits")
        await self._unasked.wait()
        return line

    def ask_for_hands(self) -> None:
        """Pause by itself until a person at the machine or the host says to go on."""
        self._unasked.clear()
        self.say_all("paused")

    def _busy(self) -> None:
        self.say_all("busy")
        self._saying_busy = asyncio.get_running_loop().call_later(BUSY_EVERY_S, self._busy)

    async def _line(self, line: str) -> None:
        number = None
        star = line.rfind("*")
        if star >= 0:
            body, given = line[:star], line[star + 1 :]
            if not given.isdigit() or int(given) != reduce(lambda a, b: a ^ b, body.encode("ascii", "replace"), 0):
                return self._refuse("checksum mismatch")
            line = body
        numbered = re.match(r"N(-?\d+)\s*", line)
        if numbered:
            if star < 0:
                return self._refuse("no checksum with line number")
            number = int(numbered[1])
            line = line[numbered.end() :]
            if number != self._last + 1 and not line.startswith("M110"):
                return self._refuse("line number is not the last line number + 1")
            self._last = number
        elif star >= 0:
            return self._refuse("no line number with checksum")
        if not await self._command(line.strip(), number):
            self.say_all("unknown", line=line.strip(), n=number, last=self._last)
        elif number is not None and not line.startswith("M110"):
            self.say_all("ok", n=number)
        else:
            self.say("OK" if self.dialect.ok == "OK" else "ok")

    def _refuse(self, why: str) -> None:
        self.say_all("complaint", why=why, last=self._last, next=self._last + 1, n=self._last)

    async def _command(self, command: str, number: int | None) -> bool:
        """Carry out a command. Returns whether it is known."""
        if number is not None and number <= OWN_LINES and not command.startswith("M110"):
            self.record.commands.append(command)
        name = command.split()[0].upper() if command else ""
        words = {letter: float(value) for letter, value in _WORD.findall(command.upper())}
        self.say_all("echo", line=command)
        handler = self.WORDS.get(name)
        if handler is not None:
            await handler(self, words, command)
        return handler is not None

    async def _sleep_until(self, when: float) -> None:
        while (left := when - self.now()) > 0:
            self._check()
            await asyncio.sleep(max(LEAST_SLEEP_S, min(left / self.setup.rate, 0.25)))
        self._check()

    def _check(self) -> None:
        if self.halted:
            raise Halt

    # Words ---------------------------------------------------------------------------------------------------

    async def _move(self, words: dict[str, float], command: str) -> None:
        await self._sleep_until(self.motion.free_at(self.now()))
        start, end, fed = self.motion.move(words, self.now())
        if fed > 0 and start[:2] != end[:2]:
            self.picture.lay(start, end, fed)
        elif start[2] <= SWEEP_MM and start[1] - end[1] >= self.setup.volume_mm[1] / 2 and self._lets_go():
            self.picture.clear()

    def _lets_go(self) -> bool:
        """Whether a part that is pushed comes off: the bed is cool, and it is not one that sticks."""
        self._warm()
        return self.bed.reading_c <= LETS_GO_C and not self.part_sticks

    async def _home(self, words: dict[str, float], command: str) -> None:
        await self._sleep_until(self.motion.done_at(self.now()))
        named = [a for a in "XYZ" if a in command[3:].upper()] or list("XYZ")
        self.motion.position = tuple(  # type: ignore[assignment]
            0.0 if axis in named else p for axis, p in zip("XYZ", self.motion.position, strict=True)
        )
        self.motion.homed = True
        self.motion.wait(8.0, self.now())
        await self._sleep_until(self.motion.done_at(self.now()))

    async def _where(self, words: dict[str, float], command: str) -> None:
        x, y, z = self.motion.position
        self.say(f"X:{x:.2f} Y:{y:.2f} Z:{z:.2f} E:{self.motion.e:.2f} Count X:{x * 80:.0f} Y:{y * 80:.0f}")

    async def _probe_bed(self, words: dict[str, float], command: str) -> None:
        if not self.motion.homed:
            self.say("echo:Home XYZ first")
            return
        self.motion.wait(24.0, self.now())
        await self._sleep_until(self.motion.done_at(self.now()))
        self.level.measure()

    async def _tell_level(self, words: dict[str, float], command: str) -> None:
        if "V" in command.upper():
            for line in self.level.printed():
                self.say(line)

    async def _set_fan(self, words: dict[str, float], command: str) -> None:
        self.fan = 0.0 if command.upper().startswith("M107") else words.get("S", 255.0)

    async def _set_factor(self, words: dict[str, float], command: str) -> None:
        if command.upper().startswith("M220"):
            self.speed_pct = self.motion.speed_pct = words.get("S", self.speed_pct)
        else:
            self.flow_pct = words.get("S", self.flow_pct)

    async def _baby_step(self, words: dict[str, float], command: str) -> None:
        self.z_offset_mm = round(self.z_offset_mm + words.get("Z", 0.0), 4)

    async def _turn(self, words: dict[str, float], command: str) -> None:
        self.switched[command.split()[0].upper()] = command

    async def _watch(self, words: dict[str, float], command: str) -> None:
        if not self.setup.watchdog:
            self.say(f'echo:Unknown command: "{command}"')
        self._watchdog_s = words.get("S", 0) if self.setup.watchdog else 0.0

    async def _wait_for_hands(self, words: dict[str, float], command: str) -> None:
        """M0 at the machine itself: it shows the text, and waits until M108 or its button."""
        self.display = command[3:].strip() or self.display
        self._skip_wait = False
        while not self._skip_wait:
            self._check()
            await asyncio.sleep(0.02)

    async def _dwell(self, words: dict[str, float], command: str) -> None:
        self.motion.wait(words.get("S", 0) + words.get("P", 0) / 1000, self.now())
        await self._sleep_until(self.motion.done_at(self.now()))

    async def _finish_moves(self, words: dict[str, float], command: str) -> None:
        await self._sleep_until(self.motion.done_at(self.now()))

    async def _modes(self, words: dict[str, float], command: str) -> None:
        code = command.split()[0].upper()
        if code in ("G90", "G91"):
            self.motion.absolute = self.motion.absolute_e = code == "G90"
        elif code in ("M82", "M83"):
            self.motion.absolute_e = code == "M82"

    async def _set_position(self, words: dict[str, float], command: str) -> None:
        self.motion.position = tuple(  # type: ignore[assignment]
            words.get(axis, p) for axis, p in zip("XYZ", self.motion.position, strict=True)
        )
        self.motion.e = words.get("E", self.motion.e)

    async def _heat(self, words: dict[str, float], command: str) -> None:
        code = command.split()[0].upper()
        heater = self.nozzle if code in ("M104", "M109") else self.bed
        heater.target_c = words.get("S", words.get("R", heater.target_c))
        if code in ("M104", "M140"):
            return
        await self._sleep_until(self.motion.done_at(self.now()))
        self._skip_wait = False
        while abs(heater.reading_c - heater.target_c) > 1.5 and not self._skip_wait and heater.target_c > 0:
            self._check()
            self._warm()
            await asyncio.sleep(min(0.5 / self.setup.rate, 0.1))

    async def _count(self, words: dict[str, float], command: str) -> None:
        self._last = int(words.get("N", 0))
        if self._last == 0:
            self.record = Record()
            self.picture.clear()

    async def _report_every(self, words: dict[str, float], command: str) -> None:
        self._report_s = words.get("S", 0) if self.setup.reports_heat else 0.0

    async def _temperatures(self, words: dict[str, float], command: str) -> None:
        self.say(self._heat_line())

    async def _display(self, words: dict[str, float], command: str) -> None:
        self.display = command[4:].strip()
        if self.display == "Ready" and not self.part_stays:
            self.picture.clear()  # told that its bed is clear, the simulated hands have lifted the part off

    async def _describe(self, words: dict[str, float], command: str) -> None:
        name, firmware = self.setup.model or self.setup.name, self.setup.firmware
        self.say(f"FIRMWARE_NAME:{firmware} PROTOCOL_VERSION:1.0 MACHINE_TYPE:{name} EXTRUDER_COUNT:1")
        for name, has in (("AUTOREPORT_TEMP", self.setup.reports_heat), ("EMERGENCY_PARSER", True), ("LEVELING", True)):
            self.say(f"Cap:{name}:{int(has)}")

    async def _tell_settings(self, words: dict[str, float], command: str) -> None:
        for word, values in self.stored.items():
            self.say(f"echo:  {word} {' '.join(f'{letter}{value:.2f}' for letter, value in values.items())}")

    async def _store(self, words: dict[str, float], command: str) -> None:
        known = self.stored[command.split()[0].upper()]
        known.update({letter: value for letter, value in words.items() if letter in known})

    async def _nothing(self, words: dict[str, float], command: str) -> None:
        pass

    WORDS: ClassVar[dict[str, Callable[[MachineStandin, dict[str, float], str], Awaitable[None]]]] = {
        **dict.fromkeys(("G0", "G1"), _move),
        "G28": _home,
        "G4": _dwell,
        "M400": _finish_moves,
        **dict.fromkeys(("G90", "G91", "M82", "M83"), _modes),
        "G92": _set_position,
        **dict.fromkeys(("M104", "M109", "M140", "M190"), _heat),
        "M110": _count,
        "M155": _report_every,
        "M105": _temperatures,
        "M117": _display,
        "M115": _describe,
        "M114": _where,
        "G29": _probe_bed,
        "M420": _tell_level,
        "M503": _tell_settings,
        **dict.fromkeys(STORED, _store),
        **dict.fromkeys(("M106", "M107"), _set_fan),
        **dict.fromkeys(("M220", "M221"), _set_factor),
        "M290": _baby_step,
        **dict.fromkeys(("M355", "M42", "M80", "M81"), _turn),
        "M85": _watch,
        **dict.fromkeys(("M0", "M1"), _wait_for_hands),
        **dict.fromkeys(("G21", "M84", "M18", "M73", "M303", "M486", "M500", "M141", "T0"), _nothing),
    }

    def click(self) -> None:
        """Somebody presses the button at the machine."""
        self._skip_wait = True

    def _urgent(self, line: str) -> None:
        self._skip_wait = True
        if not self._unasked.is_set() and line != "M112":
            self.say_all("resumed")
        self._unasked.set()
        if line == "M112":
            self.halt("emergency stop")

    # Heat ----------------------------------------------------------------------------------------------------

    def _warm(self) -> None:
        now = self.now()
        passed, self._heated = now - self._heated, now
        for heater in (self.nozzle, self.bed):
            heater.advance(passed)
        self._steady_j += self._steady_w() * passed

    # Power ---------------------------------------------------------------------------------------------------

    def _steady_w(self) -> float:
        """What board, fans and motors draw, and what else hangs on its plug."""
        if not self._powered:
            return self.extra_w
        moves = self.motion.done_at(self.now()) > self.now()
        return BOARD_W + FAN_W * self.fan / 255 + (MOTORS_W if moves else 0.0) + self.extra_w

    def draws_w(self) -> float:
        """What it draws now."""
        self._warm()
        return self._steady_w() + self.nozzle.supplied_w + self.bed.supplied_w

    def drawn_j(self) -> float:
        """What it has drawn so far."""
        self._warm()
        return self._steady_j + self.nozzle.supplied_j + self.bed.supplied_j

    def power_down(self) -> None:
        """Its plug is turned off."""
        self._warm()
        self._powered = False
        self.cut_link(0.0)
        self.reset(heard=False)
        self.fan = 0.0

    def power_up(self, boot_s: float) -> None:
        """Its plug is turned on; it can be reached after so many real seconds."""
        self._warm()
        self._powered = True
        self.reset(heard=False)
        self.cut_link(boot_s)

    def _heat_line(self) -> str:
        self._warm()
        n, b = self.nozzle, self.bed
        line = f"T:{n.reading_c:.2f} /{n.target_c:.2f} B:{b.reading_c:.2f} /{b.target_c:.2f}"
        if self.setup.further_sensors:
            board_c = AMBIENT_C + 8 + 0.06 * (self._steady_w() + n.supplied_w + b.supplied_w)
            other_c = AMBIENT_C + 0.01 * (n.reading_c - AMBIENT_C)
            line += f" T0:{n.reading_c:.2f} /{n.target_c:.2f} T1:{other_c:.2f} /0.00"
            line += f" M:{board_c:.2f}"
        return f"{line} @:0 B@:0"

    async def _report(self) -> None:
        while True:
            await asyncio.sleep(max(0.02, (self._report_s or 1.0) / self.setup.rate))
            self._warm()
            self._guard_heaters()
            if self._report_s:
                self.say(self._heat_line())

    def _guard_heaters(self) -> None:
        """The machine's own guard: when no line has come for long, it turns its heaters off and stops."""
        hot = self.nozzle.target_c > 0 or self.bed.target_c > 0
        if self._watchdog_s and hot and not self.halted and self.now() - self._last_line_at > self._watchdog_s:
            self.halt("nobody talks to me, heaters off")

    # Faults --------------------------------------------------------------------------------------------------

    def halt(self, why: str) -> None:
        """Stop everything, heaters off, and take no more lines until reset."""
        self.halted = why
        self.nozzle.target_c = self.bed.target_c = 0.0
        self.say(f"!! {why}")

    def kill(self, why: str) -> None:
        """Stop for good, as a firmware does that no longer trusts its heaters: some last words, then nothing."""
        self.nozzle.target_c = self.bed.target_c = 0.0
        self.say(f"Error:{why or 'Thermal Runaway, system stopped! Heater_ID: 0'}")
        if not why:
            self.say("Error:Printer halted. kill() called!")
        self.dead = True

    def reset(self, heard: bool = True) -> None:
        """Restart, as after a power cut. With `heard` false the machine does not say so."""
        self.halted = ""
        self.dead = False
        self._unasked.set()
        self.nozzle.target_c = self.bed.target_c = 0.0
        self.nozzle.dead = self.bed.dead = False
        for heater in (self.nozzle, self.bed):
            heater.drift_c_s = heater.offset_c = 0.0
        self.motion.reset()
        self._last, self._report_s, self._watchdog_s = 0, 0.0, 0.0
        self.speed_pct = self.flow_pct = self.motion.speed_pct = 100.0
        self.z_offset_mm = 0.0
        while not self._queue.empty():
            self._queue.get_nowait()
        if heard:
            self.say_all("greeting")

    def cut_link(self, seconds: float) -> None:
        """Drop the connection and take none for `seconds` real seconds."""
        self._cut_until = asyncio.get_running_loop().time() + (seconds or 1e9)
        self._drop_connection()
        if self._front is not None:
            self._front.cut(seconds or 1e9)

    def heater(self, name: str) -> SimulatedHeater:
        return self.bed if name == "bed" else self.nozzle

    def frame(self, view: View = "front", stamp: bool = False) -> bytes:
        """What a camera sees now, as a JPEG; with the time in its first rows, if it is to be stamped."""
        self._warm()
        x, y, z = self.motion.position
        caption = (
            f"{self.setup.name}   nozzle {self.nozzle.reading_c:.0f} C   bed {self.bed.reading_c:.0f} C   "
            f"z {z:.2f} mm   {self.picture.segments} segments"
        )
        return self.picture.jpeg((x, y, z), caption, view, stamp)
