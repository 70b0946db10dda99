"""The change log: what is committed is logged with it, in the order in which it can be seen, and nothing else is."""

from __future__ import annotations

import asyncio
import itertools
import unittest
from collections.abc import Sequence
from datetime import UTC, datetime

from sqlalchemy import text, update

from chronarch.records import change_log
from chronarch.records import tables as t
from chronarch.records.change_log import LoggedChange
from chronarch.records.database import make_engine, make_sessions, migrate
from tests.support.world import shared_server

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)
_numbers = itertools.count()


class ChangeLog(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        url = shared_server().another(f"changes_{next(_numbers)}")
        migrate(url)
        engine = make_engine(url)
        self.addAsyncCleanup(engine.dispose)
        self.noticed = 0
        self.sessions = make_sessions(engine, self.notice)

    def notice(self, changes: Sequence[LoggedChange]) -> None:
        self.noticed += 1

    async def logged(self, after: int = 0) -> list[tuple[str, str]]:
        async with self.sessions() as db:
            return [(c.kind, c.subject) for c in await change_log.changes_after(db, after, 1000)]

    async def test_rows_that_come_change_and_go_are_logged_with_their_names_once_a_transaction(self) -> None:
        async with self.sessions() as db:
            part = t.Part(name="bobbin", notes="", added_at=NINE, added_by="x")
            db.add_all([part, t.Folder(path="bobbins")])
            await db.flush()
            part.notes = "for looms"
            await db.commit()
            self.assertEqual(await self.logged(), [("files", "bobbins"), ("parts", str(part.id))])
            part.notes = "for looms"
            await db.commit()
            self.assertEqual(len(await self.logged()), 2, "nothing of it has changed")
            await db.delete(part)
            await db.commit()
        self.assertEqual(await self.logged(2), [("parts", str(part.id))])
        self.assertEqual(self.noticed, 2)

    async def test_what_is_undone_leaves_no_trace(self) -> None:
        async with self.sessions() as db:
            db.add(t.Folder(path="a"))
            await db.flush()
            await db.rollback()
            db.add(t.Folder(path="b"))
            await db.commit()
        self.assertEqual(await self.logged(), [("files", "b")])

    async def test_many_rows_and_rows_changed_at_once_are_logged_as_many(self) -> None:
        async with self.sessions() as db:
            db.add_all(t.Folder(path=f"f{n}") for n in range(change_log.MOST_NAMED + 1))
            await db.commit()
            await db.execute(update(t.Notice).values(routed=True))
            await db.commit()
        self.assertEqual(await self.logged(), [("files", ""), ("notices", "")])

    async def test_whoever_reads_on_from_the_newest_number_misses_no_writer_that_was_slower(self) -> None:
        """Writers that begin early and commit late take a later number, so no reader passes them by."""
        seen: list[int] = []
        done = asyncio.Event()

        async def write(n: int) -> None:
            for k in range(10):
                async with self.sessions() as db:
                    db.add(t.Folder(path=f"{n}-{k}"))
                    await db.flush()
                    await asyncio.sleep(0.001 * ((n * 7 + k * 3) % 5))
                    await db.commit()

        async def read() -> None:
            while True:
                ended = done.is_set()
                async with self.sessions() as db:
                    seen.extend(c.number for c in await change_log.changes_after(db, seen[-1] if seen else 0, 1000))
                if ended:
                    return

        reading = asyncio.create_task(read())
        await asyncio.gather(*(write(n) for n in range(8)))
        done.set()
        await reading
        self.assertEqual(seen, list(range(1, 81)))

    async def test_old_rows_are_forgotten_and_the_span_says_so(self) -> None:
        async with self.sessions() as db:
            self.assertEqual(await change_log.span(db), (0, 0))
            for n in range(3):
                db.add(t.Folder(path=f"f{n}"))
                await db.commit()
            self.assertEqual(await change_log.span(db), (0, 3))
            await db.execute(text("update change_log set at = '2020-01-01' where number <= 2"))
            await db.commit()
            await change_log.forget_old(db)
            self.assertEqual(await change_log.span(db), (2, 3))


if __name__ == "__main__":
    unittest.main()
