"""`python -m tests.faults [ROW ...] [--write]`: the whole faults table, with all its points, seeded.

Prints what was seen; with --write docs/reliability.md is made anew.
"""

from __future__ import annotations

import random
import sys
import time
import traceback
import unittest
from pathlib import Path

from tests.faults.rows import ROWS, SEED, Shop
from tests.support.world import close_all

PAGE = Path(__file__).parents[2] / "docs" / "reliability.md"
HEAD = """# What it withstands

Each row was tried on real processes (service, tender, MariaDB, Mosquitto, simulated machines on real sockets), killed
for real. A build is right when the hash of what the machine ran is the hash of the file's commands. `make faults` runs
the table and makes this page; a few points of each row are in `make test`.

| broken | when | must hold | seen |
|---|---|---|---|
"""


def main() -> int:
    wanted = [a for a in sys.argv[1:] if not a.startswith("-")]
    rows = [row for row in ROWS if not wanted or row.key in wanted]
    seen: dict[str, str] = {}
    failed = 0
    began = time.monotonic()
    Shop.setUpClass()
    try:
        shop = Shop()
        for row in rows:
            at = time.monotonic()
            try:
                seen[row.key] = row.run(shop, shop.world, random.Random(f"{SEED} {row.key}"), row.points)
            except Exception:
                failed += 1
                seen[row.key] = "**failed**"
                traceback.print_exc()
            print(f"{row.key:14} {time.monotonic() - at:6.1f} s  {seen[row.key]}", flush=True)
    finally:
        unittest.doModuleCleanups()
        close_all()
    print(f"\nseed {SEED}, {time.monotonic() - began:.0f} s: {len(rows) - failed} held, {failed} failed")
    if "--write" in sys.argv and not failed and not wanted:
        lines = (f"| {r.broken} | {r.when} | {r.must} | {seen[r.key]} |\n" for r in rows)
        PAGE.write_text(HEAD + "".join(lines) + f"\nSeed {SEED}.\n")
    return 1 if failed else 0


if __name__ == "__main__":
    raise SystemExit(main())
