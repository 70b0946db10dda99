"""How fast a file is read: 100 MB of mixed lines made by the demo's generator, on one core.

The limit is a bare numba scan of the same bytes in the same run: it looks at each byte once and keeps the digits'
values, as any reader of numbers must. Beside it, a scan that only counts line ends, which the compiler turns into
vector instructions.
"""

from __future__ import annotations

import gc
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
from numba import njit

from chronarch.core.gcode.analysis import analyse
from chronarch.core.machines.model import MachineModel
from chronarch.demo.shop import PARTS
from chronarch.demo.slicer import slice_part

SIZE = 100_000_000
RUNS = 5
MODEL = MachineModel("Lantern 220")


def mixed_lines() -> Iterator[str]:
    """The demo's parts one after another, higher and higher; every third has its walls' corners cut by arcs, every
    fifth is numbered and check-summed, with lower case and CRLF among them."""
    for n in range(10_000):
        part = replace(PARTS[n % len(PARTS)], height_mm=PARTS[n % len(PARTS)].height_mm + 0.24 * (n % 7))
        for k, line in enumerate(slice_part(part)):
            if n % 3 == 1 and line.startswith("G1 X") and k % 9 == 0:
                yield line.replace("G1", "G3", 1).replace(" E", " R40 E", 1) + "\n"
            elif n % 5 == 2 and line[:1] in "GM":
                text = f"N{k} {line.lower()}"
                check = 0
                for char in text.encode():
                    check ^= char
                yield f"{text}*{check}\r\n"
            else:
                yield line + "\n"


def write(path: Path) -> None:
    size = 0
    with path.open("w", newline="") as out:
        for line in mixed_lines():
            size += len(line)
            if size > SIZE:
                break
            out.write(line)


@njit
def bare(data: np.ndarray) -> int:  # type: ignore[type-arg]
    lines, value = 0, 0
    for byte in data:
        if byte == 10:
            lines += 1
        elif 48 <= byte <= 57:
            value = value * 10 + byte - 48
        else:
            value = 0
    return lines + value


@njit
def line_ends(data: np.ndarray) -> int:  # type: ignore[type-arg]
    lines = 0
    for byte in data:
        if byte == 10:
            lines += 1
    return lines


def best(work: Callable[[], object]) -> float:
    """The quickest of several runs, s: these machines are shared."""
    found = []
    for _ in range(RUNS):
        gc.collect()
        begin = time.perf_counter()
        work()
        found.append(time.perf_counter() - begin)
    return min(found)


def peak_mb(path: Path) -> float:
    """Peak resident memory of a process of its own that reads the file, MB."""
    code = (
        "import resource,sys,numpy as np\n"
        "from chronarch.core.gcode.analysis import analyse\n"
        "from chronarch.core.machines.model import MachineModel\n"
        f"analyse(np.memmap({str(path)!r}, np.uint8, 'r'), MachineModel('m'))\n"
        "print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)\n"
    )
    return int(subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout) / 1024


def first_use_s() -> float:
    """A fresh process that reads one line, from import to result, with the kernel in its cache."""
    code = (
        "import time; t=time.perf_counter()\n"
        "from chronarch.core.gcode.analysis import analyse\n"
        "from chronarch.core.machines.model import MachineModel\n"
        "analyse(b'G1 X1 F600\\n', MachineModel('m')); print(time.perf_counter()-t)\n"
    )
    runs = [subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True) for _ in range(3)]
    return min(float(r.stdout) for r in runs)


def main() -> None:
    if hasattr(os, "sched_setaffinity"):
        os.sched_setaffinity(0, {sorted(os.sched_getaffinity(0))[-1]})
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "mixed.gcode"
        write(path)
        data = np.fromfile(path, np.uint8)
        mb = len(data) / 1e6
        for scan in (bare, line_ends):
            scan(data[:1000])
        a = analyse(data, MODEL)
        limit = best(lambda: bare(data))
        ends = best(lambda: line_ends(data))
        whole = best(lambda: analyse(data, MODEL))
        print(f"{mb:.0f} MB, {a.lines} lines, {len(a.layers)} layers, planned {a.planned_s / 3600:.1f} h")
        print(f"whole analysis        {mb / whole:7.0f} MB/s")
        print(f"bare scan of digits   {mb / limit:7.0f} MB/s   ratio {limit / whole:.3f} (aim 0.333)")
        print(f"bare count of lines   {mb / ends:7.0f} MB/s   ratio {ends / whole:.3f}")
        peak = peak_mb(path)
        print(f"peak memory           {peak:7.0f} MB     file + {peak - mb:.0f} MB (limit file + 300 MB)")
        print(f"first use             {first_use_s():7.2f} s      (limit 2 s, kernel in its cache)")
        junk = np.frombuffer((b"G1 X0." + b"1" * 60 + b" (((( *1*2*3 Y\n") * 200_000, np.uint8)
        for name, text in (("good lines", data), ("malformed lines", junk)):
            half = text[: int(np.flatnonzero(text[: len(text) // 2] == 10)[-1]) + 1]
            one, two = (best(lambda t=t: analyse(t, MODEL)) for t in (half, text))  # type: ignore[misc]
            print(f"{name:20}  twice the bytes take {two / one:.2f} times as long")


if __name__ == "__main__":
    main()
