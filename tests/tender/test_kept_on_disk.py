"""What a tender keeps on its disk: the line log, and each machine as its link last knew it."""

from __future__ import annotations

import asyncio
import re
import tempfile
import threading
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from chronarch.core.control.adjustments import BuildAdjustments
from chronarch.core.control.checkpoint import BuildCheckpoint, OwnProgram
from chronarch.core.control.line_protocol import FIRST_OWN_LINE_NUMBER, Spoken, numbered
from chronarch.core.gcode.modal import ModalState
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState
from chronarch.tender.checkpoints import CheckpointStore, MachineCheckpoint
from chronarch.tender.controllers.line_log import NEWEST, LineLog, kind_of
from chronarch.tender.file_program import sha256_of
from chronarch.tender.file_store import DamagedFile, FileStore
from chronarch.wire.control.upstream import MachineConfig

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)


class LineLogs(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.log = LineLog(self.folder / "log")

    def say(self, *lines: Spoken, second: float = 0.0) -> None:
        self.log.add(NINE + timedelta(seconds=second), list(lines))

    def test_each_line_has_the_next_number_and_its_kind(self) -> None:
        self.say((True, numbered(1, b"G28")[:-1], False), (False, b"ok", False))
        self.say((True, numbered(FIRST_OWN_LINE_NUMBER + 1, b"M220 S150")[:-1], False), (False, b"ok T:20.1 /0", False))
        self.say((False, b"Resend: 4", False), (False, b"echo:busy", False), (True, b"N0 M105*37", True))
        found = self.log.tail(0, 100, "")
        self.assertEqual([line.number for line in found], [1, 2, 3, 4, 5, 6, 7])
        self.assertEqual([line.kind for line in found], ["file", "ok", "own", "heat", "trouble", "said", "ok"])
        self.assertEqual([line.sent for line in found], [True, False, True, False, False, False, True])

    def test_one_asks_for_what_came_after_a_line_or_holds_a_word_the_newest_first_counted(self) -> None:
        for n in range(50):
            self.say((True, b"N%d G1 X%d" % (n, n), False), (False, b"ok", False), second=n)
        self.assertEqual([line.number for line in self.log.tail(97, 10, "")], [98, 99, 100])
        self.assertEqual([line.number for line in self.log.tail(0, 3, "")], [98, 99, 100])
        self.assertEqual([line.text for line in self.log.tail(0, 2, "g1 x4")], ["N48 G1 X48", "N49 G1 X49"])
        self.assertEqual(self.log.tail(100, 10, ""), [])
        self.assertEqual(self.log.tail(0, 10, "tea"), [])

    @given(breaths=st.lists(st.integers(1, 4), max_size=30), after=st.integers(0, 130), limit=st.integers(1, 40))
    @settings(max_examples=80)
    def test_following_it_neither_skips_nor_repeats_a_line(self, breaths: list[int], after: int, limit: int) -> None:
        log = LineLog(self.folder / "log")
        total = 0
        for size in breaths:
            log.add(NINE, [(False, b"line %d" % (total + k + 1), False) for k in range(size)])
            total += size
        expected = list(range(1, total + 1))[after:][-limit:]
        found = log.tail(after, limit, "")
        self.assertEqual([line.number for line in found], expected)
        self.assertEqual([line.text for line in found], [f"line {n}" for n in expected])

    def test_memory_holds_the_newest_only(self) -> None:
        for n in range(NEWEST + 10):
            self.say((False, b"%d" % n, False))
        self.assertEqual(self.log.tail(0, 10**6, "")[0].number, 11)

    def test_a_builds_lines_are_written_from_its_beginning_to_its_end(self) -> None:
        self.say((False, b"before", False))
        self.log.begin(7)
        self.say((True, b"N1 G28*18", False), (False, b"ok", False), second=1.25)
        self.log.write()
        self.log.write()
        self.say((True, b"N2 M104 S200*99", False), second=2)
        self.assertEqual(self.log.end(), 7)
        self.assertIsNone(self.log.end())
        self.say((False, b"after", False))
        self.log.write()
        self.assertEqual(
            self.log.path(7).read_text(),
            "2026-10-19T09:00:01.250000Z > N1 G28*18\n"
            "2026-10-19T09:00:01.250000Z < ok\n"
            "2026-10-19T09:00:02Z > N2 M104 S200*99\n",
        )

    def test_what_is_said_while_it_is_being_written_is_not_lost(self) -> None:
        self.log.begin(1)
        over = threading.Event()

        def write() -> None:
            while not over.is_set():
                self.log.write()

        writer = threading.Thread(target=write)
        writer.start()
        for n in range(30_000):
            self.say((False, b"%d" % n, False))
        over.set()
        writer.join()
        self.log.end()
        said = [int(line.split()[-1]) for line in self.log.path(1).read_text().splitlines()]
        self.assertEqual(said, list(range(30_000)))

    def test_logs_an_earlier_tender_left_are_found(self) -> None:
        for name in ("3.log", "11.log", "12.log.gz", "notes.log"):
            (self.folder / "log" / name).write_text("x")
        self.assertEqual(sorted(self.log.left_over(11)), [3])
        self.assertEqual(sorted(self.log.left_over(None)), [3, 11])

    def test_bytes_that_are_no_text_do_not_break_it(self) -> None:
        self.say((False, b"\xff\xfe ok?", False))
        self.assertIn("ok?", self.log.tail(0, 1, "")[0].text)
        self.assertEqual(kind_of((False, b"\xff\xfe", False)), "said")


moments = st.none() | st.integers(0, 10**6).map(lambda s: NINE + timedelta(seconds=s))
kept = st.builds(
    BuildCheckpoint, build=st.integers(1, 10**6), phase=st.sampled_from(["file", "parked", "sending"]),
    state=st.sampled_from([str(s) for s in MachineState]), sha256=st.just("a" * 64), at=st.integers(0, 10**7),
    own=st.none() | st.builds(OwnProgram, st.lists(st.text("GM0123 S", max_size=9)).map(tuple), st.integers(0, 10**9)),
    reason=st.text(max_size=40), modal=st.builds(ModalState, x=st.floats(0, 300), absolute=st.booleans()),
    settings=st.builds(BuildAdjustments, speed_pct=st.floats(10, 300)),
    pauses_before=st.lists(st.integers(1, 500)).map(tuple),
    laid_from_s=st.none() | st.floats(0, 1e6),
)  # fmt: skip


class Keepings(InFolder):
    def config(self, name: str = "Anchor") -> MachineConfig:
        return MachineConfig(
            machine=name, link="tcp://127.0.0.1:1", model=MachineModel(name="m"), state=MachineState.IDLE
        )

    @given(standing=st.builds(
        MachineCheckpoint, st.sampled_from(MachineState), st.text(max_size=40), st.none() | st.integers(1, 10**6),
        moments, moments, st.none() | st.just(115200), st.none() | kept,
    ))  # fmt: skip
    @settings(max_examples=60)
    def test_what_was_kept_is_found_again_whole(self, standing: MachineCheckpoint) -> None:
        keeping = CheckpointStore(self.folder)
        keeping.config(self.config())
        keeping.standing("Anchor", standing)
        self.assertEqual(list(CheckpointStore(self.folder).all()), [(self.config(), standing)])

    def test_names_of_any_kind_have_folders_of_their_own(self) -> None:
        keeping = CheckpointStore(self.folder)
        names = ["Anchor", "An/chor", "..", "Über 2", "a.b"]
        for name in names:
            keeping.config(self.config(name))
        self.assertEqual(sorted(c.machine for c, _ in keeping.all()), sorted(names))
        self.assertEqual(keeping.folder("ANCHOR"), keeping.folder("anchor"), "names differ in more than their case")
        self.assertTrue(all(p.parent == self.folder for p in self.folder.iterdir()))

    def test_what_cannot_be_read_is_passed_over_and_the_rest_is_found(self) -> None:
        keeping = CheckpointStore(self.folder)
        for name in ("Anchor", "Bezel", "Crown"):
            keeping.config(self.config(name))
        keeping.standing("Bezel", MachineCheckpoint(MachineState.IDLE))
        (keeping.folder("Anchor") / "config").write_bytes(b'{"machine": "Anc')
        (keeping.folder("Bezel") / "kept").write_bytes(b"\0" * 100)
        self.assertEqual([(c.machine, s) for c, s in keeping.all()], [("Bezel", None), ("Crown", None)])

    def test_a_power_cut_while_writing_leaves_what_was_kept_before(self) -> None:
        keeping = CheckpointStore(self.folder)
        keeping.config(self.config())
        keeping.standing("Anchor", MachineCheckpoint(MachineState.BUILDING, build=4))
        (keeping.folder("Anchor") / "kept.new").write_bytes(b'{"state": "pau')
        ((_, standing),) = keeping.all()
        assert standing is not None
        self.assertEqual((standing.state, standing.build), (MachineState.BUILDING, 4))


class Sender:
    """Hands out bytes as the service would, and counts how often."""

    def __init__(self, data: bytes) -> None:
        self.data = data
        self.asked = 0

    async def blob(self, sha256: str, path: Path) -> None:
        self.asked += 1
        await asyncio.sleep(0)
        path.write_bytes(self.data)


class Stores(InFolder):
    def sha256(self, data: bytes) -> str:
        path = self.folder / "one"
        path.write_bytes(data)
        return sha256_of(path)

    def test_a_file_is_fetched_once_however_many_want_it(self) -> None:
        sender = Sender(b"G28\nG1 X10\n")
        store = FileStore(self.folder / "store", sender)  # type: ignore[arg-type]

        async def fetch() -> list[int]:
            sha256 = self.sha256(sender.data)
            return [len(p) for p in await asyncio.gather(*(store.program(sha256) for _ in range(5)))]

        self.assertEqual(asyncio.run(fetch()), [2] * 5)
        self.assertEqual(sender.asked, 1)

    def test_a_file_that_arrived_damaged_is_not_kept(self) -> None:
        wanted = self.sha256(b"G28\n")
        store = FileStore(self.folder / "store", Sender(b"G28\nG1"))  # type: ignore[arg-type]
        with self.assertRaisesRegex(DamagedFile, re.escape(wanted[:12])):
            asyncio.run(store.program(wanted))
        self.assertEqual(list((self.folder / "store").iterdir()), [])


if __name__ == "__main__":
    unittest.main()
