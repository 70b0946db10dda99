"""A shop that is there already is brought up to date, with what its records say."""

from __future__ import annotations

import itertools
import json
import unittest
from collections import Counter
from datetime import UTC, datetime, timedelta

from alembic import command
from sqlalchemy import create_engine, text

from chronarch.core.ledger.intervals import by_day
from chronarch.records.database import alembic_config
from tests.support.world import shared_server

_numbers = itertools.count()
NINE = datetime(2026, 10, 19, 9)
SHA = "0" * 64
SPANS = (("idle", 0, 20), ("building", 20, 60), ("paused", 60, 90), ("idle", 90, 90.5), ("building", 90.5, 100))
"""State, begin and end in hours after nine."""


class UpToDate(unittest.TestCase):
    def setUp(self) -> None:
        self.url = shared_server().another(f"migrations_{next(_numbers)}")
        self.config = alembic_config(self.url)
        engine = create_engine(self.url.replace("+asyncmy", "+pymysql"))
        self.addCleanup(engine.dispose)
        self.db = engine.connect()
        self.addCleanup(self.db.close)

    def do(self, sql: str, **values: object) -> list[tuple[object, ...]]:
        result = self.db.execute(text(sql), values)
        rows = [tuple(row) for row in result] if result.returns_rows else []
        self.db.commit()
        return rows

    def fill(self) -> None:
        """A shop of an older version: two jobs, one of them all good, a ledger of four days, a file that was read."""
        self.do("insert into tender (id, name, epoch, committed) values (1, 'tender', '', 0)")
        self.do("insert into model (id, name, spec) values (1, 'm', '{}')")
        self.do(
            "insert into machine (id, name, model_id, tender_id, link, device, camera, intake, tools, state, since,"
            " reason, site, place, pools, tags, releases_left, release_stuck) values"
            " (1, 'M', 1, 1, '', '1', '', 'open', '[]', 'idle', :at, '', '', '', '[]', '[]', 0, '')", at=NINE,
        )  # fmt: skip
        self.do("insert into `blob` (sha256, size) values (:sha, 1)", sha=SHA)
        self.do(
            "insert into file (id, name, folder, notes, tags, newest, pieces, added_at, added_by, binned_by, emptied)"
            " values (1, 'f', '', '', '[]', 1, 1, :at, 'x', '', 0)", at=NINE,
        )  # fmt: skip
        said = {"declared": {"material": "PETG", "nozzle_mm": 0.6}, "findings": [{"severity": "refuse"}]}
        for model, figures in (("m", said), ("n", {"declared": {"material": "", "nozzle_mm": None}, "findings": []})):
            self.do(
                "insert into content_reading (sha256, model, planned_s, figures, plan)"
                " values (:sha, :model, 1, :f, '{}')",
                sha=SHA, model=model, f=json.dumps(figures),
            )  # fmt: skip
        for n in (1, 2):
            self.do(
                "insert into job (id, file_id, copies, held, withdrawn, requirement, from_stock, priority, line, top,"
                " note, tags, created_at, created_by) values (:n, 1, 1, 0, 0, '{}', 0, 0, 1, 0, '', '[]', :at, 'x')",
                n=n, at=NINE,
            )  # fmt: skip
        self.do(
            "insert into build (id, job_id, copy_number, machine_id, file_id, revision, sha256, state, reason,"
            " claimed_at, cleared_at, verdict, scrap_reason, judged_by, pieces, good_pieces, let_go, commands,"
            " acknowledged, planned_s, grams, skips) values (1, 1, 1, 1, 1, 1, :sha, 'ended', '', :at, :at, 'good', '',"
            " 'x', 1, 1, 0, 1, 1, 1, 1, '[]')", sha=SHA, at=NINE,
        )  # fmt: skip
        for state, begin, end in SPANS:
            self.do(
                "insert into ledger (machine_id, state, begin_at, end_at, build_id)"
                " values (1, :state, :begin, :end, :build)",
                state=state, begin=NINE + timedelta(hours=begin), end=NINE + timedelta(hours=end),
                build=None if state == "idle" else 1,
            )  # fmt: skip
        self.do(
            "insert into ledger (machine_id, state, begin_at, end_at) values (1, 'idle', :begin, '9999-12-31')",
            begin=NINE + timedelta(hours=100),
        )

    def test_what_large_shops_read_is_made_from_what_is_there_and_taken_away_again(self) -> None:
        command.upgrade(self.config, "0002")
        self.fill()
        for _ in range(2):
            command.upgrade(self.config, "head")
            self.assertEqual(self.do("select id, open from job order by id"), [(1, 0), (2, 1)])
            said = Counter[tuple[object, ...]]()
            for state, begin, end in SPANS:
                at = NINE.replace(tzinfo=UTC)
                for day, microseconds in by_day(at + timedelta(hours=begin), at + timedelta(hours=end)):
                    said[day, state] += microseconds
            days = {(day, state): us for day, state, us in self.do("select day, state, microseconds from ledger_day")}
            self.assertEqual(days, dict(said))
            months = Counter[object]()
            for (_, state), microseconds in said.items():
                months[state] += microseconds
            found = {state: us for day, state, us in self.do("select day, state, microseconds from ledger_month")}
            self.assertEqual(found, dict(months), "all of one month")
            self.assertEqual(self.do("select build_id, why from build_stop"), [(1, "paused")])
            read = self.do("select material, nozzle_mm, refuses from content_reading order by model")
            self.assertEqual(read[0], ("PETG", 0.6, 1))
            self.assertEqual((read[1][0] or "", read[1][1] or None, read[1][2]), ("", None, 0))
            self.assertEqual(self.do("select count(*) from camera"), [(0,)])
            command.downgrade(self.config, "0002")
            self.assertEqual(self.do("select count(*) from ledger"), [(6,)])


if __name__ == "__main__":
    unittest.main()
