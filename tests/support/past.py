"""Builds of days gone by, put straight into the records."""

from __future__ import annotations

from datetime import datetime, timedelta

from chronarch.core.ledger.intervals import by_day
from tests.support.world import World

COPIED = (
    "job_id, machine_id, file_id, revision, sha256, state, outcome, reason, pieces, let_go, commands, acknowledged,"
    " planned_s, grams, skips, note"
)


def put_build(w: World, like: int, ended: datetime, scrap_reason: str = "") -> None:
    """A build like another one, of a further copy, that took two hours, ended then and was judged: scrap if there is a
    reason."""
    at = ended.replace(tzinfo=None)
    w.sql(
        "insert into build (copy_number, verdict, good_pieces, scrap_reason, judged_by, claimed_at, started_at,"
        f" ended_at, cleared_at, {COPIED}) select (select max(copy_number) + 1 from build), :verdict, :good, :why,"
        f" 'Maud', :begun, :begun, :ended, :ended, {COPIED} from build where id = :number",
        verdict="scrap" if scrap_reason else "good", good=0 if scrap_reason else 1, why=scrap_reason, number=like,
        begun=at - timedelta(hours=2), ended=at,
    )  # fmt: skip
    w.sql(
        "insert into build_use (build_id, tool, material, colour, nozzle_mm, grams)"
        " select id, 0, 'PLA', 'teal', 0.4, grams from build where id = (select max(id) from build)"
    )


def put_interval(w: World, machine: str, state: str, begin: datetime, end: datetime, reason: str = "") -> None:
    """A time in one state, before the machine's ledger begins."""
    where = "select id, :state, :begin, :end, :why from machine where name = :name"
    w.sql(
        f"insert into ledger (machine_id, state, begin_at, end_at, reason) {where}",
        state=state, begin=begin.replace(tzinfo=None), end=end.replace(tzinfo=None), why=reason, name=machine,
    )  # fmt: skip
    for day, microseconds in by_day(begin, end):
        for table, of in (("ledger_day", day), ("ledger_month", day.replace(day=1))):
            w.sql(
                f"insert into {table} (machine_id, state, day, microseconds)"
                " select id, :state, :day, :sum from machine where name = :name"
                " on duplicate key update microseconds = microseconds + :sum",
                state=state, day=of, sum=microseconds, name=machine,
            )  # fmt: skip
