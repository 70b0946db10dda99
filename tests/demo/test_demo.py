"""The demo shop: its parts are real toolpaths, its past follows the rules, its start and stop leave nothing behind."""

from __future__ import annotations

import json
import signal
import subprocess
import sys
import tempfile
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path

from chronarch.client import Client, requests
from chronarch.core.gcode.analysis import analyse
from chronarch.core.ledger.intervals import faults, usage
from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.machines.tools import Tool
from chronarch.core.orders.requirement import Requirement
from chronarch.core.orders.states import Verdict
from chronarch.core.planning.capability import Capability
from chronarch.core.planning.eligibility import RULES_FOR_SETUP, JobNeed, MachineStatus, blocker
from chronarch.demo.history import PastFile, is_staffed, make_past
from chronarch.demo.shapes import Ellipse, RoundedBox, Slice, hatch
from chronarch.demo.shop import MACHINES, MATERIAL, MODELS, ORDERS, PARTS, QUEUE, file_name
from chronarch.demo.slicer import slice_part
from tests.support.intervals import clip, spent

BEGIN = datetime(2026, 10, 5, tzinfo=UTC)
END = BEGIN + timedelta(days=14)


class Parts(unittest.TestCase):
    def test_hatching_stays_inside_and_covers_the_area(self) -> None:
        loops = Slice(RoundedBox(40, 30, 4), [((0, 0), Ellipse(8, 8))]).walls(0.5)
        lines = hatch(loops, 0.5, 0.7)
        length = sum(((a[0] - b[0]) ** 2 + (a[1] - b[1]) ** 2) ** 0.5 for a, b in lines)
        area = 39 * 29 - (4 - 3.1416) * 3.5**2 - 3.1416 * 8.5**2
        self.assertAlmostEqual(length * 0.5, area, delta=area * 0.03)
        for a, b in lines:
            for x, y in (a, b):
                self.assertTrue(abs(x) <= 19.51 and abs(y) <= 14.51)
                self.assertGreater((x * x + y * y) ** 0.5, 8.3)

    def test_every_part_is_a_build_of_its_own_height_that_a_bed_holds(self) -> None:
        for part in PARTS:
            with self.subTest(part=part.name):
                text = "\n".join(slice_part(part)) + "\n"
                reading = analyse(text.encode(), MODELS[0])
                assert reading.extents_mm is not None
                low, high = reading.extents_mm
                self.assertTrue(all(v >= 0 for v in low) and high[0] <= 220 and high[1] <= 220)
                self.assertAlmostEqual(high[2], part.height_mm, delta=0.25)
                self.assertTrue(15 < reading.planned_s / 60 < 60, reading.planned_s)
                self.assertEqual(reading.unknown, {})


class Past(unittest.TestCase):
    def setUp(self) -> None:
        files = [
            PastFile(file_name(p), 1800.0, JobNeed(Requirement(material=MATERIAL.get(p.name, "PLA")))) for p in PARTS
        ]
        self.past = make_past(files, BEGIN, END)

    def test_each_machines_ledger_covers_the_fortnight_with_no_gap_and_no_overlap(self) -> None:
        for name, ledger in self.past.ledgers.items():
            self.assertEqual(faults(ledger), [], name)
            self.assertEqual(ledger[0].begin, BEGIN)
            row = usage(name, spent(clip(ledger, BEGIN, END)), {})
            self.assertAlmostEqual(row.total_s, 14 * 86400)
            self.assertTrue(0.05 < row.utilisation < 0.8, f"{name} {row.utilisation}")

    def test_no_machine_had_two_builds_at_once_and_none_it_could_not_make(self) -> None:
        figures = {m.name: m for m in MACHINES}
        models = {m.name: m for m in MODELS}
        last: dict[str, datetime] = {}
        for b in self.past.builds:
            self.assertLessEqual(last.get(b.machine, BEGIN), b.claimed)
            last[b.machine] = b.cleared
            m = figures[b.machine]
            tools = (Tool(0, m.nozzle_mm, m.hardened, m.material, m.colour),)
            at = MachineStatus(Capability(m.name, models[m.model], tools), MachineState.IDLE, Intake.OPEN)
            self.assertIsNone(blocker(b.file.need, at, RULES_FOR_SETUP))

    def test_people_clear_beds_only_when_somebody_is_there(self) -> None:
        self.assertTrue(self.past.builds)
        self.assertEqual([b for b in self.past.builds if not is_staffed(b.cleared)], [])

    def test_no_copy_is_good_twice(self) -> None:
        good = [(b.job, b.copy) for b in self.past.builds if b.verdict is Verdict.GOOD]
        self.assertEqual(len(good), len(set(good)))

    def test_the_same_past_comes_of_the_same_seed(self) -> None:
        before = self.past.builds
        self.setUp()
        self.assertEqual(before, self.past.builds)


class StartAndStop(unittest.TestCase):
    def start(self, folder: Path) -> subprocess.Popen[str]:
        command = [sys.executable, "-u", "-m", "chronarch", "demo", "run", "--folder", str(folder)]
        process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
        said = ""
        assert process.stdout is not None
        for line in process.stdout:
            said += line
            if line.startswith("Ctrl-C"):
                return process
        raise AssertionError(f"the demo did not open: {said}")

    def close(self, process: subprocess.Popen[str]) -> None:
        process.send_signal(signal.SIGINT)
        process.communicate(timeout=120)
        self.assertEqual(process.returncode, 0)

    def test_the_shop_opens_is_found_again_and_leaves_no_process_behind(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name) / "demo"
            process = self.start(folder)
            try:
                kept = json.loads((folder / "kept.json").read_text())
                with Client(f"http://127.0.0.1:{kept['port']}", kept["key"]) as client:
                    machines = client.do(requests.machines())
                    self.assertEqual([m.name for m in machines], [m.name for m in MACHINES])
                    jobs = client.do(requests.jobs())
                    self.assertEqual(len(jobs), len(QUEUE) + sum(len(o.lines) for o in ORDERS))
                    shop = client.do(requests.shop())
                    report = client.do(requests.utilisation(shop.now - timedelta(days=13), shop.now))
                    self.assertGreater(report.fleet.good, 100)
                    self.assertAlmostEqual(report.fleet.recorded_s, len(MACHINES) * 13 * 86400, delta=1)
                listed = ["sh", "-c", f". {folder}/env && chronarch machines list"]
                said = subprocess.run(listed, capture_output=True, text=True, env={"PATH": "/usr/bin:/bin"}, check=True)
                self.assertIn("Anchor", said.stdout)
            finally:
                self.close(process)
            self.assertEqual(self.left_over(folder), [])
            process = self.start(folder)
            try:
                with Client(f"http://127.0.0.1:{kept['port']}", kept["key"]) as client:
                    self.assertEqual([j.id for j in client.do(requests.jobs())], [j.id for j in jobs])
                    self.assertGreater(client.do(requests.shop()).now, shop.now)
            finally:
                self.close(process)
            self.assertEqual(self.left_over(folder), [])
            reset = [sys.executable, "-m", "chronarch", "demo", "reset", "--folder", str(folder)]
            self.assertIn("begins anew", subprocess.run(reset, capture_output=True, text=True, check=True).stdout)
            self.assertFalse(folder.exists())

    def left_over(self, folder: Path) -> list[str]:
        """Processes that were started for this folder and still run."""
        lines = []
        for command in Path("/proc").glob("[0-9]*/cmdline"):
            try:
                text = command.read_bytes().replace(b"\0", b" ").decode(errors="replace")
            except OSError:
                continue
            if str(folder) in text:
                lines.append(text)
        return lines
