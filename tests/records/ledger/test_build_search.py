"""Builds are found alike however many there are: among few or all first, by names that are listed or looked up."""

from __future__ import annotations

import itertools
import random
import unittest
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any
from unittest.mock import patch

from chronarch.core.machines.states import BuildState, Intake, MachineState
from chronarch.records import tables as t
from chronarch.records.database import make_engine, make_sessions, migrate
from chronarch.records.ledger import build_search
from chronarch.wire.ledger.history import BuildSearch, BuildSort
from tests.support.world import shared_server

NINE = datetime(2026, 10, 19, 9, tzinfo=UTC)
FILES = {1: ("bobbin.gcode", "Bobbin"), 2: ("ring gauge.gcode", "Gauge")}
REASONS = ("", "warped corner", "Warped Corner", "layer shift")
BOUNDS = ((1, 2), (5, 40), build_search.AMONG)
"""Among how many builds is looked first; there are 60, with gaps between their numbers."""
_numbers = itertools.count()

Wish = tuple[dict[str, Any], Callable[[t.Build], bool]]
WISHES: tuple[Wish, ...] = (
    ({}, lambda b: True),
    ({"verdict": "scrap"}, lambda b: b.verdict == "scrap"),
    ({"scrap_reason": "WARPED corner"}, lambda b: b.scrap_reason.lower() == "warped corner"),
    ({"scrap_reason": "nobody knows"}, lambda b: False),
    ({"part": "gauge"}, lambda b: b.file_id == 2),
    ({"search": "corner"}, lambda b: "orner" in b.scrap_reason),
    ({"search": "cold bed"}, lambda b: bool(b.note)),
    ({"search": "winter"}, lambda b: b.copy_number % 9 == 4),
    ({"search": "gauge shift"}, lambda b: b.file_id == 2 and b.scrap_reason == "layer shift"),
    ({"search": "tripped"}, lambda b: b.copy_number == 1),
    ({"search": "none has it"}, lambda b: False),
)


def by_time(build: t.Build) -> int:
    assert build.started_at is not None and build.ended_at is not None
    return int((build.ended_at - build.started_at).total_seconds())


IN_ORDER: dict[BuildSort, Callable[[t.Build], Any]] = {
    BuildSort.NEWEST: lambda b: -b.id,
    BuildSort.OLDEST: lambda b: b.id,
    BuildSort.LONGEST: lambda b: (-by_time(b), -b.id),
    BuildSort.SHORTEST: lambda b: (by_time(b), b.id),
    BuildSort.HEAVIEST: lambda b: (-b.grams, -b.id),
}


class Searching(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        url = shared_server().another(f"search_{next(_numbers)}")
        migrate(url)
        engine = make_engine(url)
        self.addAsyncCleanup(engine.dispose)
        self.sessions = make_sessions(engine)
        chance = random.Random(7)
        async with self.sessions() as db:
            db.add_all([t.Model(id=1, name="m", spec={}), t.Tender(id=1, name="tender")])
            await db.flush()
            db.add(t.Machine(id=1, name="Anchor", model_id=1, tender_id=1, link="", device="1", intake=Intake.OPEN,
                             tools=[], state=MachineState.IDLE, since=NINE))  # fmt: skip
            for number, (name, part) in FILES.items():
                db.add_all(
                    [t.Blob(sha256=str(number) * 64, size=1), t.Part(id=number, name=part, added_at=NINE, added_by="x")]
                )
                await db.flush()
                db.add(t.File(id=number, name=name, part_id=number, tags=[], added_at=NINE, added_by="x"))
            await db.flush()
            db.add(t.Job(id=1, file_id=1, copies=99, requirement={}, created_at=NINE, created_by="x"))
            await db.flush()
            self.builds = [self.build(n, 3 * n + chance.randrange(3), chance) for n in range(1, 61)]
            db.add_all(self.builds)
            await db.flush()
            db.add_all(t.BuildTag(build_id=b.id, tag="winter") for b in self.builds if b.copy_number % 9 == 4)
            await db.commit()

    def build(self, copy: int, number: int, chance: random.Random) -> t.Build:
        why = chance.choice(REASONS) if copy % 3 else ""
        began, took = NINE + timedelta(hours=copy), timedelta(minutes=chance.randrange(1, 6))
        return t.Build(
            id=number, job_id=1, copy_number=copy, machine_id=1, file_id=1 + copy % 2, revision=1,
            sha256=str(1 + copy % 2) * 64, state=BuildState.ENDED, outcome="completed", claimed_at=began,
            started_at=began, ended_at=began + took, cleared_at=began + took, verdict="scrap" if why else "good",
            scrap_reason=why, commands=10, planned_s=60.0, grams=float(chance.randrange(4)),
            reason="the fuse tripped" if copy == 1 else "", note="The bed was cold." if copy in (2, 40) else "",
        )  # fmt: skip

    async def found(self, asked: dict[str, Any], sort: BuildSort, at_once: int) -> list[int]:
        """All numbers that are found, page after page."""
        _, place = build_search.SORTED[sort]
        numbers: list[int] = []
        after: Any = ()
        async with self.sessions() as db:
            wanted = await build_search.conditions(db, BuildSearch(**asked, sort=sort), None, NINE)
            while rows := await build_search.find(db, wanted, sort, after, at_once):
                self.assertLessEqual(len(rows), at_once)
                numbers += [row.id for row in rows]
                after = place(rows[-1])
        return numbers

    async def test_each_order_has_all_that_are_meant_once_however_many_are_looked_among(self) -> None:
        for sort, (asked, meant), among in itertools.product(BuildSort, WISHES, BOUNDS):
            with self.subTest(sort=sort, asked=asked, among=among), patch.object(build_search, "AMONG", among):
                right = [b.id for b in sorted(filter(meant, self.builds), key=IN_ORDER[sort])]
                self.assertEqual(await self.found(asked, sort, 7), right)

    async def test_pages_of_one_go_on_from_each_other(self) -> None:
        with patch.object(build_search, "AMONG", (1, 2)):
            for sort in (BuildSort.NEWEST, BuildSort.OLDEST):
                self.assertEqual(await self.found({}, sort, 1), sorted((b.id for b in self.builds), key=lambda n:
                                 -n if sort is BuildSort.NEWEST else n))  # fmt: skip

    async def test_names_that_are_too_many_to_be_listed_are_looked_up(self) -> None:
        with patch.object(build_search, "MOST_LISTED", 0):
            for asked, meant in WISHES:
                with self.subTest(asked=asked):
                    right = sorted((b.id for b in self.builds if meant(b)), reverse=True)
                    self.assertEqual(await self.found(asked, BuildSort.NEWEST, 100), right)


if __name__ == "__main__":
    unittest.main()
