"""The stand-ins alone: protocol, heat, motion, picture and faults, over their real ports."""

from __future__ import annotations

import io
import math
import signal
import socket
import subprocess
import sys
import time
import unittest

import httpx
from PIL import Image

from chronarch.records.ports import free_port
from chronarch.standins.heat import AMBIENT_C, nozzle
from chronarch.standins.motion import BUFFER, Motion
from tests.support.world import eventually


class Physics(unittest.TestCase):
    def test_a_nozzle_heats_holds_and_cools_as_a_lump_of_metal_does(self) -> None:
        heater = nozzle()
        heater.target_c = 205
        heater.advance(30)
        self.assertTrue(60 < heater.temperature_c < 120, heater.temperature_c)
        heater.advance(200)
        self.assertAlmostEqual(heater.temperature_c, 205, delta=1)
        heater.target_c = 0
        start, tau_s = heater.temperature_c, heater.capacity_j_k / heater.loss_w_k
        heater.advance(tau_s)
        self.assertAlmostEqual(heater.temperature_c, AMBIENT_C + (start - AMBIENT_C) / math.e, delta=1.5)

    def test_a_dead_heater_falls_and_a_drifting_sensor_lies(self) -> None:
        heater = nozzle()
        heater.target_c = 205
        heater.advance(300)
        heater.dead = True
        heater.advance(30)
        self.assertLess(heater.temperature_c, 180)
        other = nozzle()
        other.drift_c_s = 1.0
        other.advance(10)
        self.assertAlmostEqual(other.reading_c - other.temperature_c, 10)

    def test_the_buffer_is_bounded_and_moves_take_their_time(self) -> None:
        motion = Motion()
        for n in range(BUFFER):
            self.assertEqual(motion.free_at(0.0), 0.0)
            motion.move({"X": 10.0 * (n + 1), "F": 6000}, 0.0)
        self.assertGreater(motion.free_at(0.0), 0.1)
        self.assertGreater(motion.done_at(0.0), BUFFER * 10 / 100)


class OverTheWire(unittest.TestCase):
    def setUp(self) -> None:
        self.port, self.http_port = free_port(), free_port()
        command = [
            "standins",
            "run",
            "--machine",
            f"Anchor:{self.port}",
            "--port",
            str(self.http_port),
            "--rate",
            "200",
        ]
        self.process = subprocess.Popen([sys.executable, "-m", "chronarch", *command], stdout=subprocess.DEVNULL)
        self.addCleanup(self.stop)
        self.http = httpx.Client(base_url=f"http://127.0.0.1:{self.http_port}", timeout=5)
        self.addCleanup(self.http.close)
        eventually(self.answers, "the stand-in answers")
        self.wire = socket.create_connection(("127.0.0.1", self.port))
        self.addCleanup(self.wire.close)
        self.lines = self.wire.makefile("r")
        self.addCleanup(self.lines.close)

    def stop(self) -> None:
        self.process.send_signal(signal.SIGTERM)
        self.process.wait(10)

    def answers(self) -> bool:
        try:
            return self.http.get("/machines/Anchor").status_code == 200
        except httpx.TransportError:
            return False

    def ask(self, line: str) -> list[str]:
        """Send a line; what comes back up to and with the ok."""
        self.wire.sendall(line.encode() + b"\n")
        said: list[str] = []
        while not said or not said[-1].startswith("ok"):
            said.append(self.lines.readline().strip())
        return [s for s in said if "busy" not in s]

    def numbered(self, n: int, command: str) -> str:
        body = f"N{n} {command}"
        value = 0
        for byte in body.encode():
            value ^= byte
        return f"{body}*{value}"

    def test_lines_are_taken_once_in_order_and_recorded_with_their_hash(self) -> None:
        self.assertEqual(self.ask(self.numbered(0, "M110 N0")), ["ok"])
        self.assertEqual(self.ask(self.numbered(1, "G28")), ["ok"])
        again = self.ask(self.numbered(1, "G28"))
        self.assertIn("Resend: 2", again)
        self.assertIn("Resend: 2", self.ask(self.numbered(3, "G1 X1")))
        self.assertIn("Resend: 2", self.ask("N2 G1 X1*200"))
        self.assertEqual(self.ask(self.numbered(2, "G1 X10 E1 F600")), ["ok"])
        self.assertEqual(self.http.get("/machines/Anchor/executed").text, "G28\nG1 X10 E1 F600")
        self.ask(self.numbered(900_000_000, "M110 N900000000"))
        self.ask(self.numbered(900_000_001, "M104 S0"))
        state = self.http.get("/machines/Anchor").json()
        self.assertEqual((state["taken"], state["segments"]), (2, 1))

    def test_heat_is_reported_and_waited_for(self) -> None:
        self.assertRegex(self.ask("M105")[0], r"^T:2\d\.\d+ /0\.00 B:2\d\.\d+ /0\.00")
        began = time.monotonic()
        self.ask("M109 S150")
        self.assertGreater(time.monotonic() - began, 0.1)
        self.assertGreater(self.http.get("/machines/Anchor").json()["nozzle_c"], 140)

    def test_the_camera_shows_what_was_laid_down(self) -> None:
        empty = self.http.get("/machines/Anchor/frame.jpg")
        self.assertEqual(empty.headers["content-type"], "image/jpeg")
        for command in ("G28", "G1 Z0.2 F600", "G1 X20 Y100 F9000", *(f"G1 X{x} E{x}" for x in range(30, 200, 10))):
            self.ask(command)
        laid = Image.open(io.BytesIO(self.http.get("/machines/Anchor/frame.jpg").content))
        before = Image.open(io.BytesIO(empty.content))
        self.assertEqual(laid.size, (640, 480))
        box = (150, 250, 450, 400)
        self.assertNotEqual(laid.crop(box).tobytes(), before.crop(box).tobytes())
        self.ask("M117 Ready")
        self.assertEqual(self.http.get("/machines/Anchor").json()["segments"], 0)

    def test_unknown_words_and_faults_are_answered_in_words(self) -> None:
        self.assertIn('echo:Unknown command: "M999"', self.ask("M999"))
        self.assertEqual(self.http.post("/machines/Anchor/faults/no-such", json={}).status_code, 404)
        self.http.post("/machines/Anchor/faults/fault", json={"text": "fan 0 stalled"})
        self.assertEqual(self.lines.readline().strip(), "Error:fan 0 stalled")
        self.http.post("/machines/Anchor/faults/halt", json={"text": "driver fault"})
        self.assertEqual(self.lines.readline().strip(), "!! driver fault")
        self.http.post("/machines/Anchor/faults/reset", json={})
        self.assertEqual(self.lines.readline().strip(), "start")
