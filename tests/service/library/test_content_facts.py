"""What is known of contents is kept, and is never older than the records."""

from __future__ import annotations

import itertools
import unittest
from types import SimpleNamespace

from sqlalchemy import update

from chronarch.records import tables as t
from chronarch.records.database import make_engine, make_sessions, migrate
from chronarch.service.changes import Changes
from chronarch.service.library.content_facts import ContentFactsCache
from tests.support.world import shared_server

_numbers = itertools.count()
CONTENTS = [f"{n:064x}" for n in range(40)]
DECLARED = {"nozzle_mm": 0.4, "material": "PLA", "model": ""}
FIGURES = {"commands": 10, "tools": [0], "declared": DECLARED, "filament_mm": {"0": 5.0}, "findings": []}


class Facts(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        self.url = shared_server().another(f"content_facts_{next(_numbers)}")
        migrate(self.url)
        self.changes = Changes()
        engine = make_engine(self.url)
        self.addAsyncCleanup(engine.dispose)
        self.sessions = make_sessions(engine, self.changes.noticed)
        self.facts = ContentFactsCache(SimpleNamespace(changes=self.changes))  # type: ignore[arg-type]
        async with self.sessions() as db:
            db.add_all([t.Blob(sha256=sha256, size=1) for sha256 in CONTENTS])
            await db.flush()
            for sha256 in CONTENTS:
                db.add(t.ContentReading(sha256=sha256, model="m", planned_s=60.0, figures=FIGURES, plan={}))
            await db.commit()

    async def test_they_are_asked_for_once_and_again_when_they_have_changed(self) -> None:
        one = CONTENTS[0]
        async with self.sessions() as db:
            first = await self.facts.of(db, CONTENTS)
            self.assertIs((await self.facts.of(db, [one]))[one], first[one])
            row = await db.get_one(t.ContentReading, (one, "m"))
            row.planned_s = 90.0
            await db.commit()
            second = await self.facts.of(db, CONTENTS)
            self.assertEqual((first[one]["m"].planned_s, second[one]["m"].planned_s), (60.0, 90.0))
            self.assertIs(second[CONTENTS[1]], first[CONTENTS[1]])

    async def test_what_is_read_while_it_changes_is_not_kept(self) -> None:
        one, facts = CONTENTS[0], self.facts
        async with self.sessions() as db, self.sessions() as other:
            read = facts._read

            async def interrupted(*arguments: object) -> object:
                found = await read(*arguments)  # type: ignore[arg-type]
                await other.execute(
                    update(t.ContentReading).where(t.ContentReading.sha256 == one).values(planned_s=7.0)
                )
                await other.commit()
                return found

            facts._read = interrupted  # type: ignore[method-assign, assignment]
            await facts.of(db, [one])
            facts._read = read  # type: ignore[method-assign]
            self.assertEqual((await facts.of(db, [one]))[one]["m"].planned_s, 7.0)


if __name__ == "__main__":
    unittest.main()
