"""A stand-in as a machine's maker would describe it: its count, its words, its faults, its serial fronts."""

from __future__ import annotations

import asyncio
import os
import re
import tempfile
import termios
import tty
import unittest
from functools import reduce
from operator import xor
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from chronarch.standins.dialects import document
from chronarch.standins.front import COM_PORT, DO, IAC, SB, SE, SET_BAUDRATE, WILL, Front
from chronarch.standins.level import POINTS, Level
from chronarch.standins.machine import MachineStandin, Setup

RATE = 500.0


def counted(number: int, command: str) -> str:
    body = f"N{number} {command}"
    return f"{body}*{reduce(xor, body.encode())}"


class Talk:
    """A plain host: sends a line, and gathers what is said until ok, or for as long as it is patient."""

    def __init__(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self.reader, self.writer = reader, writer

    @classmethod
    async def to(cls, machine: MachineStandin) -> Talk:
        return cls(*await asyncio.open_connection("127.0.0.1", machine.port))

    async def say(self, line: str, until: str = "ok", patience_s: float = 20.0) -> list[str]:
        self.writer.write(line.encode() + b"\n")
        return await self.hear(until, patience_s)

    async def hear(self, until: str, patience_s: float = 20.0) -> list[str]:
        heard: list[str] = []
        async with asyncio.timeout(patience_s):
            while not heard or not heard[-1].startswith(until):
                raw = await self.reader.readline()
                if not raw:
                    break
                heard.append(raw.decode("latin1").strip())
        return heard


class WithMachine(unittest.IsolatedAsyncioTestCase):
    async def machine(self, **more: object) -> MachineStandin:
        machine = MachineStandin(Setup("Anchor", rate=RATE, **more))  # type: ignore[arg-type]
        await machine.start()
        self.addAsyncCleanup(machine.stop)
        return machine

    async def talk(self, machine: MachineStandin) -> Talk:
        talk = await Talk.to(machine)
        self.addCleanup(talk.writer.close)
        return talk


class Counting(WithMachine):
    async def test_a_line_out_of_turn_or_damaged_is_refused_with_the_line_it_wants(self) -> None:
        machine = await self.machine()
        talk = await self.talk(machine)
        self.assertEqual(await talk.say(counted(0, "M110")), ["ok"])
        self.assertEqual(await talk.say(counted(1, "G28")), ["ok"])
        refused = {
            counted(1, "G1 X1"): "line number is not the last line number \\+ 1",
            counted(3, "G1 X1"): "line number is not the last line number \\+ 1",
            counted(2, "G1 X1")[:-1] + "x": "checksum mismatch",
            "N2 G1 X1": "no checksum with line number",
            "G1 X1*55": "checksum mismatch|no line number",
        }
        for line, words in refused.items():
            with self.subTest(line=line):
                said = await talk.say(line)
                self.assertRegex(said[0], f"^Error:({words}), last line: 1$")
                self.assertEqual(said[1:], ["Resend: 2", "ok"])
        self.assertEqual(await talk.say(counted(2, "G1 X1 F600")), ["ok"])
        self.assertEqual(machine.record.commands, ["G28", "G1 X1 F600"], "each was taken once")

    async def test_where_the_model_numbers_its_oks_each_names_its_line(self) -> None:
        talk = await self.talk(await self.machine(numbered_oks=True))
        await talk.say(counted(0, "M110"))
        self.assertEqual(await talk.say(counted(1, "M107")), ["ok N1 P15 B3"])
        self.assertEqual(await talk.say("M107"), ["ok"])

    def test_the_page_about_the_link_shows_every_way_of_speaking(self) -> None:
        page = (Path(__file__).parents[2] / "docs/protocols/line-link.md").read_text()
        self.assertIn(document(), page, "python -m chronarch.standins.dialects prints the table")

    async def test_unnumbered_and_own_lines_are_not_the_files(self) -> None:
        machine = await self.machine()
        talk = await self.talk(machine)
        await talk.say("M107")
        await talk.say(counted(900_000_000, "M110 N900000000"))
        await talk.say(counted(900_000_001, "M106 S9"))
        self.assertEqual((machine.record.commands, machine.fan > 0), ([], True))

    async def test_a_new_connection_takes_the_old_ones_place_and_the_count_stays(self) -> None:
        machine = await self.machine()
        first = await self.talk(machine)
        await first.say(counted(0, "M110"))
        await first.say(counted(1, "M107"))
        second = await self.talk(machine)
        self.assertEqual(await second.say(counted(2, "M107")), ["ok"])
        with self.assertRaises((ConnectionError, asyncio.IncompleteReadError)):
            first.writer.write(b"M107\n")
            await first.reader.readexactly(1)


class Words(WithMachine):
    async def test_it_tells_what_it_is_where_it_is_and_what_it_does_not_know(self) -> None:
        talk = await self.talk(await self.machine(reports_heat=False))
        said = await talk.say("M115")
        self.assertTrue(said[0].startswith("FIRMWARE_NAME:stand-in"))
        self.assertIn("Cap:AUTOREPORT_TEMP:0", said)
        await talk.say("G28")
        await talk.say("G1 X10 Y20 Z3 F6000")
        await talk.say("M400")
        where = " ".join(await talk.say("M114"))
        self.assertRegex(where, r"X:10\.0+ Y:20\.0+ Z:3\.0+")
        self.assertEqual((await talk.say("M9999"))[0], 'echo:Unknown command: "M9999"')

    async def test_a_heater_is_waited_for_unless_hands_press_on(self) -> None:
        machine = await self.machine()
        talk = await self.talk(machine)
        await talk.say("M109 S80")
        self.assertAlmostEqual(machine.nozzle.reading_c, 80, delta=2)
        machine.nozzle.dead = True
        talk.writer.write(b"M109 S200\n")
        await asyncio.sleep(0.1)
        said = await talk.say("M108")
        self.assertEqual(said[-1], "ok", "M108 ends the wait")
        self.assertLess(machine.nozzle.reading_c, 120)

    async def test_a_bed_is_told_once_it_was_measured(self) -> None:
        talk = await self.talk(await self.machine())
        self.assertIn("no level grid", (await talk.say("M420 V"))[0])
        self.assertIn("Home XYZ first", (await talk.say("G29"))[0])
        await talk.say("G28")
        await talk.say("G29")
        rows = [line for line in await talk.say("M420 V") if re.match(r"\d+ ( [+-]\d\.\d{3})+$", line)]
        self.assertEqual([row.count(".") for row in rows], [POINTS] * POINTS)

    def test_a_bed_measured_anew_differs_by_little(self) -> None:
        level = Level(3)
        level.measure()
        before = [row[:] for row in level.rows]
        level.measure()
        pairs = [(a, b) for x, y in zip(before, level.rows, strict=True) for a, b in zip(x, y, strict=True)]
        self.assertTrue(any(a != b for a, b in pairs))
        self.assertLess(max(abs(a - b) for a, b in pairs), 0.1)


class Faults(WithMachine):
    async def test_halted_it_takes_nothing_until_it_is_reset(self) -> None:
        machine = await self.machine()
        talk = await self.talk(machine)
        await talk.say("M104 S200")
        talk.writer.write(b"M112\n")
        await talk.hear("!!")
        self.assertEqual((machine.nozzle.target_c, machine.halted), (0, "emergency stop"))
        self.assertEqual((await talk.say("M105", until="!!"))[-1], "!! emergency stop")
        machine.reset()
        self.assertEqual((await talk.hear("start"))[-1], "start")
        self.assertEqual((await talk.say("M107"))[-1], "ok")

    async def test_left_alone_with_its_heaters_on_it_turns_them_off_itself(self) -> None:
        machine = await self.machine()
        talk = await self.talk(machine)
        await talk.say("M85 S60")
        await talk.say("M140 S60")
        await talk.hear("!!")
        self.assertEqual((machine.bed.target_c, machine.halted), (0, "nobody talks to me, heaters off"))

    async def test_one_without_a_watchdog_says_so_and_stays_hot(self) -> None:
        machine = await self.machine(watchdog=False)
        talk = await self.talk(machine)
        self.assertIn("Unknown command", (await talk.say("M85 S1"))[0])
        await talk.say("M140 S60")
        await asyncio.sleep(0.1)  # fifty of its own seconds
        self.assertEqual((machine.bed.target_c, machine.halted), (60, ""))

    async def test_cut_off_it_takes_no_connection_until_the_plug_is_back(self) -> None:
        machine = await self.machine()
        talk = await self.talk(machine)
        await talk.say("M107")
        machine.cut_link(0.2)
        with self.assertRaises((ConnectionError, asyncio.IncompleteReadError)):
            await talk.reader.readexactly(1)
        tries = 0
        while True:
            tries += 1
            again = await self.talk(machine)
            try:
                if await again.say("M107") == ["ok"]:
                    break
            except ConnectionError:
                pass
            await asyncio.sleep(0.02)
        self.assertGreater(tries, 1)

    async def test_a_bad_wire_damages_a_share_of_lines_and_no_line_end(self) -> None:
        machine = await self.machine()
        machine.corrupt_bytes = 1.0
        for line in (b"N1 G28*18\n", b"ok\n", b"T:20.0 /0.0\n"):
            damaged = machine._damage(line)
            self.assertEqual((len(damaged), damaged[-1:]), (len(line), b"\n"))
            self.assertNotEqual(damaged, line)
        machine.corrupt_bytes, machine.corrupt_share = 0.0, 0.5
        hit = sum(machine._damage(b"N7 G1 X10*33\n") != b"N7 G1 X10*33\n" for _ in range(2000))
        self.assertTrue(850 < hit < 1100, hit)


class Fronts(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.taken: list[bytes] = []
        self.name = Path(folder.name) / "by-id" / "usb-lantern-07"

    async def take(self, line: bytes) -> None:
        self.taken.append(line)

    async def front(self, **more: object) -> Front:
        front = Front(Setup("Anchor", speed=115200, **more), self.take, lambda: None)  # type: ignore[arg-type]
        await front.start()
        self.addAsyncCleanup(self.end, front)
        return front

    async def end(self, front: Front) -> None:
        front.stop()

    async def until(self, count: int) -> None:
        async with asyncio.timeout(20):
            while len(self.taken) < count:  # noqa: ASYNC110
                await asyncio.sleep(0.005)

    def open(self, speed: int) -> int:
        port = os.open(self.name, os.O_RDWR | os.O_NOCTTY | os.O_NONBLOCK)
        self.addCleanup(os.close, port)
        tty.setraw(port)
        modes = termios.tcgetattr(port)
        modes[4] = modes[5] = speed
        termios.tcsetattr(port, termios.TCSANOW, modes)
        return port

    async def read(self, port: int) -> bytes:
        async with asyncio.timeout(20):
            while True:
                try:
                    return os.read(port, 1000)
                except BlockingIOError:
                    await asyncio.sleep(0.005)

    async def test_a_port_has_a_stable_name_and_goes_with_its_machine(self) -> None:
        front = await self.front(port_name=str(self.name))
        port = self.open(termios.B115200)
        os.write(port, b"M105\nM1")
        os.write(port, b"15\n")
        await self.until(2)
        self.assertEqual(self.taken, [b"M105\n", b"M115\n"])
        front.write(b"ok\n")
        self.assertEqual(await self.read(port), b"ok\n")
        front.stop()
        self.assertFalse(self.name.is_symlink())

    async def test_at_another_speed_both_directions_are_noise(self) -> None:
        front = await self.front(port_name=str(self.name))
        port = self.open(termios.B9600)
        os.write(port, b"M105\n")
        said = await self.read(port)
        front.write(b"ok T:20\n")
        said += await self.read(port)
        self.assertTrue(said and all(byte >= 128 for byte in said), said)
        self.assertEqual(self.taken, [])

    @given(data=st.binary(max_size=60), cuts=st.lists(st.integers(1, 12), max_size=20))
    def test_what_comes_over_rfc_2217_is_the_same_however_it_is_cut_up(self, data: bytes, cuts: list[int]) -> None:
        asyncio.run(self._cut_up(data.replace(b"\n", b"") + b"\n", cuts))

    async def _cut_up(self, line: bytes, cuts: list[int]) -> None:
        taken: list[bytes] = []
        front = Front(Setup("Anchor", speed=115200), self.take, lambda: None)
        front._lines.put_nowait = taken.append  # type: ignore[method-assign]
        said: list[bytes] = []

        class Writer:
            def write(self, data: bytes) -> None:
                said.append(data)

        speed = bytes((IAC, SB, COM_PORT, SET_BAUDRATE, 0, 1, 0xC2, 0, IAC, SE))
        stream = bytes((IAC, WILL, 0)) + speed + line.replace(b"\xff", b"\xff\xff") + bytes((IAC, DO, 99))
        rest, at = b"", 0
        for size in [*cuts, len(stream)]:
            rest = front._telnet(rest + stream[at : at + size], Writer())  # type: ignore[arg-type]
            at += size
        self.assertEqual((taken, rest), ([line], b""))
        self.assertEqual(said[0], bytes((IAC, DO, 0)))
        self.assertIn(bytes((IAC, SB, COM_PORT, 101, 0, 1, 0xC2, 0, IAC, SE)), said, "it says which speed it took")


if __name__ == "__main__":
    unittest.main()
