"""What takes the disk: measured, kept by day, and given up."""

from __future__ import annotations

import shutil
import time
from concurrent.futures import ThreadPoolExecutor

from chronarch.client import Client, RefusedByService, requests
from chronarch.core.orders.states import Verdict
from chronarch.wire import library as wl
from chronarch.wire.system.storage import GiveUp, StoragePart, StorageShare
from tests.support import processes
from tests.support.gcode import squares
from tests.support.world import WorldCase, eventually


class Storage(WorldCase):
    own_database = True

    def shares(self) -> dict[StoragePart, StorageShare]:
        return {one.part: one for one in self.world.client.do(requests.storage()).parts}

    def measured(self) -> dict[StoragePart, StorageShare]:
        """As it is measured anew: giving up nothing has it be."""
        self.world.client.do(requests.give_up_storage(GiveUp(what=StoragePart.LOGS, older_than_days=36500)))
        return self.shares()

    def shell(self, *words: str, code: int = 0) -> str:
        done = processes.run("storage", *words, env=self.world.environment)
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        return done.stdout + done.stderr

    def test_each_part_is_counted_once_and_what_can_go_goes(self) -> None:
        w, do = self.world, self.world.client.do
        texts = [squares(layers=n) for n in (3, 4, 5)]
        for text in texts:
            w.add_file("clip.gcode", text)
        w.add_file("same.gcode", texts[-1])
        build = w.made("clip.gcode", "Anchor", Verdict.GOOD)
        eventually(lambda: do(requests.build(build)).has_log, "its log is kept")
        for text in (squares(layers=6), squares(layers=7)):
            w.add_file("clip.gcode", text)
        found = self.measured()
        sizes = {n: len(squares(layers=n).encode()) for n in range(3, 8)}
        self.assertEqual(found[StoragePart.FILES].size, sizes[7] + sizes[5], "the newest of clip, and of same")
        self.assertEqual(found[StoragePart.REVISIONS].size, sizes[3] + sizes[4] + sizes[6])
        self.assertGreater(found[StoragePart.LOGS].size, 0)
        self.assertGreater(found[StoragePart.RECORDS].size, 100_000)
        self.assertEqual((found[StoragePart.BIN].size, found[StoragePart.FRAMES].budget), (0, 20_000_000_000))
        self.assertIn("A day", self.shell("show"))
        self.assertIn("No earlier revision is 90 days old", self.shell("give-up", "revisions", "--yes"))
        self.assertIn("3 given up", self.shell("give-up", "revisions", "--older-than", "0", "--yes"))
        numbers = [one.number for one in do(requests.revisions("clip.gcode"))]
        self.assertEqual(sorted(numbers), [3, 5], "the newest, and what was built from")
        self.assertEqual(self.measured()[StoragePart.REVISIONS].size, 0, "what was built is a newest revision, too")
        self.assertIn("1 given up", self.shell("give-up", "logs", "--older-than", "0", "--yes"))
        self.assertFalse(do(requests.build(build)).has_log)
        self.assertEqual(self.measured()[StoragePart.LOGS].size, 0)
        same = do(requests.file("same.gcode"))
        do(requests.batch_files(wl.FileBatch(files=[same.id], deed="bin")))
        w.add_file("other.gcode", squares(layers=9))
        other = do(requests.file("other.gcode"))
        do(requests.batch_files(wl.FileBatch(files=[other.id], deed="bin")))
        self.assertEqual(self.measured()[StoragePart.BIN].size, len(squares(layers=9).encode()))
        self.assertIn(
            "No file has been in the bin for 1 day.", self.shell("give-up", "bin", "--older-than", "1", "--yes")
        )
        self.assertIn("2 given up", self.shell("give-up", "bin", "--older-than", "0", "--yes"))
        self.assertEqual(self.measured()[StoragePart.BIN].size, 0)
        self.assertIn("There is no file to give up", self.shell("give-up", "bin", "--older-than", "0", "--yes"))

    def test_what_goes_while_it_is_measured_is_not_shown_as_if_it_were_there(self) -> None:
        w, do = self.world, self.world.client.do
        nothing = GiveUp(what=StoragePart.LOGS, older_than_days=36500)

        def measure() -> None:
            with Client(w.address, w.key) as another:
                another.do(requests.storage())

        drawings = w.folder / "blobs" / "derived" / "many"
        drawings.mkdir(parents=True)
        for n in range(20_000):  # so that measuring takes a while
            (drawings / str(n)).touch()
        self.addCleanup(shutil.rmtree, drawings)
        with ThreadPoolExecutor(1) as beside:
            for n in range(8):
                w.add_file("brief.gcode", squares(layers=20 + n))
                do(requests.batch_files(wl.FileBatch(files=[do(requests.file("brief.gcode")).id], deed="bin")))
                do(requests.give_up_storage(nothing))
                measuring = beside.submit(measure)
                time.sleep(0.03 * n)
                do(requests.give_up_storage(GiveUp(what=StoragePart.BIN, older_than_days=0)))
                measuring.result()
                self.assertEqual(self.shares()[StoragePart.BIN].size, 0)

    def test_how_it_grows_is_seen_after_some_days_and_when_it_is_full(self) -> None:
        w, do = self.world, self.world.client.do
        shown = do(requests.storage())
        self.assertGreater(shown.size, shown.free)
        self.assertIsNotNone(shown.measured_at)
        today = do(requests.shop()).now.date()
        w.sql("delete from storage_day")
        for back, size in ((20, 0), (10, shown.free // 4), (5, shown.free // 8 * 3)):
            w.sql(
                "insert into storage_day (day, part, size) values (date_sub(:day, interval :back day), 'logs', :size)",
                day=today, back=back, size=size,
            )  # fmt: skip
        grown = do(requests.storage())
        logs = next(one for one in grown.parts if one.part is StoragePart.LOGS)
        self.assertAlmostEqual((logs.a_day or 0) / (shown.free / 40), 1, delta=0.02)
        assert grown.full_at is not None
        days = (grown.full_at - do(requests.shop()).now).total_seconds() / 86_400
        self.assertAlmostEqual(days, 40, delta=2)
        self.assertRegex(self.shell("show"), r"Full +\w+")

    def test_what_cannot_be_given_up_is_said(self) -> None:
        for part in (StoragePart.FILES, StoragePart.FRAMES, StoragePart.RECORDS):
            with self.subTest(part), self.assertRaisesRegex(RefusedByService, f"{part} cannot be given up"):
                self.world.client.do(requests.give_up_storage(GiveUp(what=part)))
        done = processes.run("storage", "give-up", "logs", env=self.world.environment)
        self.assertEqual(done.returncode, 1, "nobody answered the question")
