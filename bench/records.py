"""What the records of a large shop cost to ask: 1,000 machines, a million builds, twenty million intervals of a year.
The utilisation of the year, pages of the history, the nightly pass and the upkeep list as a client gets them, each
beside a bare scan of the same rows in the same run; and whether the sums of days are equal to the intervals.

    python -m bench.records [--small] [--keep FOLDER]
"""

from __future__ import annotations

import argparse
import itertools
import re
import tempfile
import time
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from bench.large_shop import Size
from bench.reads import Shop, timed
from bench.stolen import Stolen

FULL = Size(machines=1000, files=5000, waiting=2000, builds=1_000_000, pauses=7)
SMALL = Size(machines=20, files=200, waiting=100, builds=4000, pauses=7)
TIMES = 7
YEAR_MS, PAGE_MS, PASS_S, TASK_MS = 1000.0, 200.0, 300.0, 15_000.0
SUMS = "select machine_id, state, sum(timestampdiff(microsecond, begin_at, end_at)) from ledger group by 1, 2"
BUILDS = "select machine_id, file_id, ended_at, verdict, took_s, planned_s from build"
UNEQUAL = """
select count(*) from (
  select machine_id, state, sum(m) from (
    select machine_id, state, microseconds m from %s
    union all
    select machine_id, state, -timestampdiff(microsecond, begin_at, end_at) from ledger where year(end_at) < 9999
  ) told group by 1, 2 having sum(m) <> 0
) wrong
"""


def pages(now: datetime) -> list[tuple[str, str, str]]:
    """Pages of the history, each with a bare query of as many rows found the same way."""
    month = f"ended_from={(now - timedelta(days=60)):%Y-%m-%d}&ended_to={(now - timedelta(days=30)):%Y-%m-%d}"
    newest = "select * from build order by id desc limit 50"
    return [
        ("newest", "", newest),
        ("one machine", "machine=Machine%20007",
         "select * from build where machine_id = 7 order by id desc limit 50"),
        ("a site", "site=Hall%201", newest),
        ("a month", month,
         f"select * from build where ended_at < '{now - timedelta(days=30):%Y-%m-%d}' order by ended_at desc limit 50"),
        ("a customer", "customer=Customer%2017", newest),
        ("a file", "file=file-77.gcode", "select * from build where file_id = 77 order by id desc limit 50"),
        ("a material", "material=PETG", newest),
        ("scrap", "verdict=scrap", newest),
        ("by grams", "sort=heaviest", "select * from build order by grams desc limit 50"),
        ("by how long", "sort=longest", "select * from build order by took_s desc limit 50"),
        ("the shortest first", "sort=shortest", "select * from build order by took_s limit 50"),
        ("a word of a file", "search=file-4999", newest),
        ("a word of few notes", "search=cold%20123456", newest),
        ("a word of none", "search=xyzzy", newest),
        ("a scrap reason", "scrap_reason=Layer%20Shift%207", newest),
        ("a stop", "stop_reason=filament%20ran%20out", newest),
        ("a customer's, by grams", "customer=Customer%2017&sort=heaviest", newest),
        ("scrap, by how long", "verdict=scrap&sort=longest", newest),
    ]  # fmt: skip


def deep(shop: Shop, asked: str) -> str:
    """The address of a page far down."""
    path = f"/builds?limit=1000&{asked}"
    for _ in range(5):
        link = shop.http.get(path).raise_for_status().links.get("next")
        if link is None:
            break
        path = link["url"].removeprefix("/api")
    return re.sub("limit=1000&?", "", path)


def measured(name: str, took_ms: float, limit_ms: float, bare_ms: float | None) -> None:
    beside = f"{took_ms / bare_ms:8.2f} of a bare scan ({bare_ms:,.0f} ms)" if bare_ms else ""
    said = "ok" if took_ms <= limit_ms else f"OVER {limit_ms:.0f} ms"
    print(f"{name:28} {took_ms:10,.1f} ms  {said:14} {beside}", flush=True)


def once(ask: Callable[[], Any]) -> float:
    began = time.perf_counter()
    ask()
    return (time.perf_counter() - began) * 1000


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--small", action="store_true", help="A small shop, to see that the benchmark runs.")
    parser.add_argument("--keep", type=Path, help="Keep the shop here, and take it from here the next time.")
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as temporary:
        folder = given.keep or Path(temporary)
        folder.mkdir(parents=True, exist_ok=True)
        shop = Shop(folder, SMALL if given.small else FULL)
        try:
            shop.open()
            ask(shop)
        finally:
            with suppress(Exception):
                shop.close()


def ask(shop: Shop) -> None:
    now, stolen = datetime.now(UTC), Stolen()
    year = f"from={(now - timedelta(days=364)):%Y-%m-%dT%H:%M:%SZ}"
    with shop.server.connect("chronarch") as connection, connection.cursor() as cursor:

        def bare(query: str, times: int = TIMES) -> float:
            def run() -> None:
                cursor.execute(query)
                cursor.fetchall()

            return timed(run, times)[0] if times > 1 else once(run)

        def get(path: str) -> Callable[[], object]:
            return lambda: shop.http.get(path).raise_for_status()

        def page(path: str) -> Callable[[], object]:
            """Each time a page that was not asked for before, so that none is one that is kept."""
            limits = itertools.count(50)
            return lambda: shop.http.get(f"{path}&limit={next(limits)}").raise_for_status()

        cursor.execute("select count(*) from ledger")
        (intervals,) = cursor.fetchone() or (0,)
        print(f"{shop.size.machines:,} machines, {shop.size.builds:,} builds, {intervals:,} intervals", flush=True)
        raw = bare(SUMS, 1)
        measured("the days made anew", once(lambda: shop.http.post("/ledger/rebuild").raise_for_status()),
                 1000 * PASS_S, raw)  # fmt: skip
        took = timed(get(f"/report/figures?measure=productive&by=machine&{year}"), TIMES)[0]
        measured("a year's utilisation", took, YEAR_MS, raw)
        measured("the same as a report", timed(get(f"/report/utilisation?{year}"), TIMES)[0], YEAR_MS, raw)
        for name, asked, query in pages(now):
            beside = bare(query)
            measured(name, timed(page(f"/builds?{asked}"), TIMES)[0], PAGE_MS, beside)
            measured(f"{name}, far down", timed(page(deep(shop, asked)), TIMES)[0], PAGE_MS, beside)
        scan = bare(BUILDS, 1)
        measured("the nightly pass", once(lambda: shop.http.post("/report/change-points").raise_for_status()),
                 1000 * PASS_S, scan)  # fmt: skip
        for name, due in (("wipe", {"hours": 60}), ("nozzle", {"metres": 5000})):
            task = {"name": f"{name} {now:%H:%M:%S}", "due": due}
            took = once(lambda task=task: shop.http.post("/upkeep/tasks", json=task).raise_for_status())  # type: ignore[misc]
            measured("a task for all machines", took, TASK_MS, scan)
        measured("what is due", timed(get("/upkeep/due?limit=500"), TIMES)[0], YEAR_MS, scan)
        for sums in ("ledger_day", "ledger_month"):
            cursor.execute(UNEQUAL % sums)
            (unequal,) = cursor.fetchone() or (1,)
            print(
                f"the sums of {sums} are equal to the intervals"
                if not unequal
                else f"{unequal} SUMS OF {sums} ARE WRONG"
            )
    print(f"{stolen.share():.1%} of the processor was stolen meanwhile")


if __name__ == "__main__":
    main()
