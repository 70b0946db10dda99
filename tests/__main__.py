"""Runs all tests, or those named: `python -m tests [tests.core tests.cli.test_output ...]`, packages, files, classes or
single tests. Closes with the line `N passed, N failed`.

Each test file runs in a process of its own, three at a time, the longest first; what it says is printed at its end. The
processes are forks of this one, so that what all of them need is imported once. They share one database server, each
with databases of its own.
"""

from __future__ import annotations

import os
import re
import signal
import sys
import tempfile
import time
import traceback
from pathlib import Path
from typing import IO

from chronarch.records.server import PrivateServer
from tests import one
from tests.support.processes import import_all
from tests.support.world import RUNS_DATABASE

AT_ONCE = 3
LONGEST_FIRST = (
    "console",
    "faults",
    "hostile",
    "cli",
    "service",
    "install",
    "demo",
    "standins",
    "tender",
    "records",
    "client",
    "wire",
    "core",
    "bench",
)
CLOSING = re.compile(r"^(\d+) passed, (\d+) failed(?:, (\d+) skipped)?$", re.MULTILINE)
TIME_LIMIT_S = 1800


def modules(names: list[str]) -> list[str]:
    """The test files of packages, and what else is named as it is."""
    top = Path(__file__).parents[1]
    found: list[str] = []
    for name in names:
        folder = top.joinpath(*name.split("."))
        inside = [".".join(p.relative_to(top).with_suffix("").parts) for p in sorted(folder.rglob("test_*.py"))]
        found += inside or [name]
    return sorted(dict.fromkeys(found), key=lambda name: LONGEST_FIRST.index(name.split(".")[1]))


def start(module: str, said: IO[bytes]) -> int:
    """Run one file's tests in a process of its own, which ends at the latest after TIME_LIMIT_S; its number."""
    sys.stdout.flush()
    pid = os.fork()
    if pid:
        return pid
    code = 1
    try:
        signal.alarm(TIME_LIMIT_S)
        os.dup2(said.fileno(), 1)
        os.dup2(said.fileno(), 2)
        code = one.run([module])
    except BaseException:
        traceback.print_exc()
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)


def told(module: str, said: str, status: int) -> tuple[str, tuple[int, int, int]]:
    """What to print of one file, and how many passed, failed and were skipped."""
    if os.WIFSIGNALED(status) and os.WTERMSIG(status) == signal.SIGALRM:
        said += f"{module} did not end within {TIME_LIMIT_S} s\n"
    found = CLOSING.search(said)
    if found is None:
        return said, (0, 1, 0)
    passed, failed, skipped = (int(n or 0) for n in found.groups())
    return CLOSING.sub("", said), (passed, failed + (status != 0 and failed == 0), skipped)


def run(names: list[str]) -> tuple[int, int, int]:
    """All files named, AT_ONCE at a time."""
    total = (0, 0, 0)
    waiting, under_way = list(names), dict[int, tuple[str, IO[bytes]]]()
    while waiting or under_way:
        while waiting and len(under_way) < AT_ONCE:
            module, out = waiting.pop(0), tempfile.TemporaryFile()  # noqa: SIM115
            under_way[start(module, out)] = module, out
        pid, status, used = os.wait3(0)
        if pid not in under_way:
            continue
        module, out = under_way.pop(pid)
        with out:
            out.seek(0)
            said, counts = told(module, out.read().decode(errors="replace"), status)
        print(said, f"{module}: {used.ru_utime + used.ru_stime:.0f} s of processor time\n", sep="", flush=True)
        total = (total[0] + counts[0], total[1] + counts[1], total[2] + counts[2])
    return total


def main() -> int:
    began = time.monotonic()
    import_all()
    with tempfile.TemporaryDirectory(prefix="chronarch-db-") as folder:
        server = PrivateServer(Path(folder))
        server.start()
        os.environ[RUNS_DATABASE] = f"{server.folder}:{server.port}"
        try:
            passed, failed, skipped = run(modules(sys.argv[1:] or ["tests"]))
        finally:
            server.stop()
    print(f"\nall in {time.monotonic() - began:.0f} s")
    if passed + failed == 0:
        print("No test was found.")
        return 1
    print(f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""))
    return 1 if failed else 0


if __name__ == "__main__":
    raise SystemExit(main())
