"""Runs all tests, or those named: `python -m tests [tests.core ...]`. Closes with the line `N passed, N failed`.

Each test file runs in a process of its own, three at a time, the longest first; what it says is printed at its end.
They share one database server, each with databases of its own.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor, as_completed
from pathlib import Path

from chronarch.records.server import PrivateServer
from tests.support.world import RUNS_DATABASE

AT_ONCE = 3
LONGEST_FIRST = (
    "console",
    "faults",
    "cli",
    "service",
    "demo",
    "standins",
    "tender",
    "records",
    "client",
    "wire",
    "core",
)
CLOSING = re.compile(r"^(\d+) passed, (\d+) failed(?:, (\d+) skipped)?$", re.MULTILINE)
TIME_LIMIT_S = 900


def modules() -> list[str]:
    root = Path(__file__).parent
    files = sorted(root.glob("*/test_*.py"), key=lambda p: (LONGEST_FIRST.index(p.parent.name), p.name))
    return [f"tests.{p.parent.name}.{p.stem}" for p in files]


def run(module: str) -> tuple[str, str, tuple[int, int, int]]:
    """One file's tests: its name, what it said, and how many passed, failed and were skipped."""
    command = [sys.executable, "-m", "tests.one", module]
    try:
        done = subprocess.run(command, capture_output=True, text=True, timeout=TIME_LIMIT_S, check=False)
    except subprocess.TimeoutExpired:
        return module, f"{module} did not end within {TIME_LIMIT_S} s\n", (0, 1, 0)
    found = CLOSING.search(done.stdout)
    said = CLOSING.sub("", done.stdout) + done.stderr
    if found is None:
        return module, said, (0, 1, 0)
    passed, failed, skipped = (int(n or 0) for n in found.groups())
    return module, said, (passed, failed + (done.returncode != 0 and failed == 0), skipped)


def main() -> int:
    began = time.monotonic()
    names = sys.argv[1:] or modules()
    total = [0, 0, 0]
    with tempfile.TemporaryDirectory(prefix="chronarch-db-") as folder, ThreadPoolExecutor(AT_ONCE) as pool:
        server = PrivateServer(Path(folder))
        server.start()
        os.environ[RUNS_DATABASE] = f"{server.folder}:{server.port}"
        for done in as_completed([pool.submit(run, name) for name in names]):
            _, said, counts = done.result()
            print(said, end="", flush=True)
            total = [a + b for a, b in zip(total, counts, strict=True)]
        server.stop()
    passed, failed, skipped = total
    print(f"\nall in {time.monotonic() - began:.0f} s")
    if passed + failed == 0:
        print("No test was found.")
        return 1
    print(f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""))
    return 1 if failed else 0


if __name__ == "__main__":
    raise SystemExit(main())
