"""Supervised workers: named, told of in the log when they fail, and gone on with."""

from __future__ import annotations

import asyncio
import unittest
from collections.abc import Callable
from datetime import UTC, datetime
from unittest import mock

from sqlalchemy.exc import InterfaceError

from chronarch.service import workers
from chronarch.service.changes import Changes
from chronarch.service.workers import Worker

NOON = datetime(2026, 10, 19, 12, tzinfo=UTC)


@mock.patch.multiple(workers, AWAY_S=0.01)
class Workers(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        self.errors: list[Exception] = []
        self.steps = 0

    async def step(self) -> None:
        self.steps += 1
        if self.errors:
            raise self.errors.pop(0)

    async def run_until(self, worker: Worker, done: Callable[[], object]) -> None:
        task = asyncio.create_task(worker.run_forever())
        try:
            async with asyncio.timeout(120):
                while not done():  # noqa: ASYNC110
                    await asyncio.sleep(0.01)
        finally:
            task.cancel()

    async def test_a_step_that_fails_unforeseen_is_told_in_the_log_and_the_next_is_done(self) -> None:
        self.errors = [KeyError("not foreseen")]
        worker = Worker("heat log", self.step, 0.01, now=lambda: NOON)
        with self.assertLogs(workers.log, "ERROR") as logs:
            await self.run_until(worker, lambda: worker.beat_at)
        self.assertIn("heat log went wrong", logs.output[0])
        self.assertIn("not foreseen", logs.output[0])
        self.assertEqual((worker.restarts, worker.problem, worker.beat_at), (1, "", NOON))

    async def test_while_the_database_is_away_it_waits_and_says_so_once(self) -> None:
        self.errors = [InterfaceError("select 1", {}, Exception("gone")) for _ in range(3)]
        worker = Worker("dispatch", self.step, 0.01, now=lambda: NOON)
        with self.assertLogs(workers.log, "WARNING") as logs:
            await self.run_until(worker, lambda: worker.beat_at)
        self.assertEqual(len(logs.output), 1)
        self.assertEqual((self.steps, worker.restarts, worker.problem), (4, 0, ""))

    async def test_it_looks_at_once_when_what_it_watches_has_changed_and_again_after_it_failed(self) -> None:
        self.errors = [OSError("no room")]
        changes = Changes()
        worker = Worker("reading", self.step, None, changes.watch("models"), now=lambda: NOON)
        changes.wake("models", subject="Kiln 250")
        await self.run_until(worker, lambda: worker.beat_at)
        self.assertEqual(self.steps, 2, "the change is still to be looked at")


if __name__ == "__main__":
    unittest.main()
