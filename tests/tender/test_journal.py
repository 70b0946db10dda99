"""The journal: events on disk until the service has committed them."""

from __future__ import annotations

import os
import resource
import signal
import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from chronarch.core.control.events import BuildBegan, Noticed, StateChanged
from chronarch.core.machines.states import MachineState
from chronarch.tender import journal as journal_module
from chronarch.tender.journal import InUse, Journal

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self._open: Journal | None = None

    def journal(self) -> Journal:
        """The journal as the next tender finds it: an earlier one's process is gone."""
        if self._open is not None:
            self._open.close()
        else:
            self.addCleanup(lambda: self._open and self._open.close())
        self._open = Journal(self.folder / "journal")
        return self._open


class Journals(InFolder):
    def test_events_outlive_the_process_until_they_are_committed(self) -> None:
        first = self.journal()
        for body in (BuildBegan(7), StateChanged(MachineState.WARMING, "", 7), Noticed("odd noise")):
            first.add("Anchor", NINE, body)
        first.committed(1)
        again = self.journal()
        self.assertEqual(again.epoch, first.epoch)
        pending = [(e.sequence, e.at, e.body) for e in again.pending()]
        warming = StateChanged(MachineState.WARMING, "", 7)
        self.assertEqual(pending, [(2, NINE, warming), (3, NINE, Noticed("odd noise"))])
        self.assertEqual(again.add("Anchor", NINE, BuildBegan(8)).sequence, 4)

    def test_numbers_go_on_after_everything_was_committed(self) -> None:
        first = self.journal()
        first.add("Anchor", NINE, BuildBegan(7))
        first.committed(1)
        again = self.journal()
        self.assertEqual(again.pending(), [])
        self.assertEqual(again.add("Anchor", NINE, BuildBegan(8)).sequence, 2)

    @given(st.integers(1, 200))
    def test_a_line_torn_by_a_power_cut_loses_only_itself(self, torn: int) -> None:
        path = self.folder / "journal"
        path.unlink(missing_ok=True)
        journal = Journal(path)
        for n in range(3):
            journal.add("Anchor", NINE, BuildBegan(n))
        journal.close()
        data = path.read_bytes()
        last = len(data) - data[:-1].rfind(b"\n") - 1
        path.write_bytes(data[: -min(torn, last)])
        again = Journal(path)
        again.close()
        self.assertIn([e.sequence for e in again.pending()], ([1, 2], [1, 2, 3]))

    def test_a_folder_is_one_tenders_and_a_second_is_told_whose(self) -> None:
        self.journal()
        with self.assertRaisesRegex(InUse, rf"runs already \(process {os.getpid()}\)"):
            Journal(self.folder / "journal")

    def test_on_a_disk_that_takes_no_more_events_are_kept_in_memory_and_written_once_it_does(self) -> None:
        first = self.journal()
        before = resource.getrlimit(resource.RLIMIT_FSIZE)
        held = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        try:
            resource.setrlimit(resource.RLIMIT_FSIZE, ((self.folder / "journal").stat().st_size, before[1]))
            for n in range(3):
                first.add("Anchor", NINE, BuildBegan(n))
            self.assertTrue(first.unwritten)
        finally:
            resource.setrlimit(resource.RLIMIT_FSIZE, before)
            signal.signal(signal.SIGXFSZ, held)
        self.assertEqual(len(first.pending()), 3)
        first.add("Anchor", NINE, BuildBegan(3))
        self.assertFalse(first.unwritten)
        self.assertEqual([e.sequence for e in self.journal().pending()], [1, 2, 3, 4])

    def test_the_file_stays_short(self) -> None:
        journal = self.journal()
        for n in range(3000):
            journal.committed(journal.add("Anchor", NINE, Noticed("x" * 200)).sequence)
            self.assertEqual(journal.pending(), [], n)
        self.assertLess((self.folder / "journal").stat().st_size, journal_module.SHORTEN_OVER * 1.1)

    def test_a_lost_journal_begins_a_new_epoch(self) -> None:
        first = self.journal()
        (self.folder / "journal").unlink()
        self.assertNotEqual(self.journal().epoch, first.epoch)


if __name__ == "__main__":
    unittest.main()
