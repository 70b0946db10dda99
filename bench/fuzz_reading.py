"""10,000 mutated files are read: none may crash, hang or take memory without bound.

`python -m bench.fuzz_reading [COUNT]`
"""

from __future__ import annotations

import json
import random
import resource
import sys
import time

from chronarch.core.errors import CoreError
from chronarch.core.gcode.analysis import analyse
from chronarch.core.gcode.editing import make
from chronarch.core.gcode.edits import PauseAt, Repeat, SetFromLayer, SkipObject, StartFrom
from chronarch.core.gcode.layers import layer_moves
from chronarch.core.gcode.reader import as_bytes
from chronarch.core.gcode.splice import apply
from chronarch.core.machines.model import MachineModel
from chronarch.demo.shop import PARTS
from chronarch.demo.slicer import slice_part
from chronarch.wire.gcode import FileReading

MODEL = MachineModel("Lantern 220")
PIECES = (b"G2 X1 R0", b"G3 I9e9", b"M486 S99999999999", b"T-1", b"G28 Q", b"G92 E1e308", b"M104 S" + b"9" * 400, b"\0",
          b"\xff" * 9, b"; printing object", b"M600", b"G91", b"G20", b"M221 S0", b"M203 X0", b"M204 S1e-9", b"(((",
          b"*", b"N1*1*1", b"G1 X1e400 E-", b"; thumbnail begin 9x9 1\n; ==\n", b"M200 D0.0000001",
          b"G4 S99999999")  # fmt: skip


def mutate(data: bytes, r: random.Random) -> bytes:
    out = bytearray(data)
    for _ in range(r.choice((1, 2, 5, 40))):
        at = r.randrange(len(out) + 1)
        match r.randrange(7):
            case 0:
                out[at : at + r.randrange(1, 30)] = r.randbytes(r.randrange(20))
            case 1:
                out[at:at] = b"\n" + r.choice(PIECES) + b"\n"
            case 2:
                del out[at : at + r.randrange(1, 400)]
            case 3:
                out[at:at] = out[max(0, at - r.randrange(600)) : at]
            case 4 if at < len(out):
                out[at] = r.randrange(256)
            case 5:
                del out[at:]
            case _:
                out[at:at] = str(r.choice((-1, 0, 1e9, 10**17, -(10**30)))).encode()
        if not out:
            break
    return bytes(out)


def main(count: int = 10_000) -> None:
    r = random.Random(20261019)
    seeds = ["\n".join(list(slice_part(part))[:1200]).encode() + b"\n" for part in PARTS[:4]]
    analyse(seeds[0], MODEL)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    read = refused = edited = 0
    slowest = 0.0
    begin = time.perf_counter()
    for n in range(count):
        data = mutate(r.choice(seeds), r)
        started = time.perf_counter()
        try:
            a = analyse(data, MODEL)
            read += 1
            json.dumps(FileReading.of(a, "m").model_dump(), allow_nan=False)
            if a.layers:
                layer_moves(as_bytes(data), a.index, r.randrange(len(a.layers) + 1), MODEL).encode()
            if n % 4 == 0 and a.layers:
                wish = r.choice(
                    (PauseAt(1, "x"), SetFromLayer(1, 200.0), Repeat(2), StartFrom(2), SkipObject("object 1"))
                )
                apply(data, make(as_bytes(data), a, wish, MODEL).splices)
                edited += 1
        except CoreError:
            refused += 1
        slowest = max(slowest, time.perf_counter() - started)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(
        f"{count} mutated files in {time.perf_counter() - begin:.0f} s: {read} read, {refused} refused, {edited} edited"
    )
    print(f"slowest {slowest:.2f} s, memory {before:.0f} MB before, {peak:.0f} MB at most")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 10_000)
