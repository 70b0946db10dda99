"""What the watch costs a frame of 1280 x 720 against decoding the same JPEG, and what 60 machines with a frame in
ten seconds each would take of one core.

    python -m bench.watch

A build is drawn once; then its frames are decoded and watched in turn, each on one thread at low priority.
"""

from __future__ import annotations

import os
import statistics
import tempfile
import time
from pathlib import Path

from chronarch.cli.watching.labelled_folder import SetWatcher, read_labels
from chronarch.core.watching.build_watch import decode
from chronarch.core.watching.judgement import Judge
from chronarch.core.watching.learned import LEARNED
from chronarch.demo.labelled_sets import SetMaker

HOURS, MOST_MS = 0.6, 60.0
MACHINES, EVERY_S, MOST_CORE = 60, 10.0, 0.5


def main() -> None:
    os.nice(10)
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        maker = SetMaker(folder, "unseen", seed=9)
        for n in range(3):
            maker.good(f"good-{n}", HOURS)
        maker.close()
        sequences = read_labels(folder)
        jpegs = [(folder / frame.image).read_bytes() for frames in sequences.values() for frame in frames]
        begin = time.process_time()
        for jpeg in jpegs:
            decode(jpeg)
        decoding_ms = 1000 * (time.process_time() - begin) / len(jpegs)
        watcher = SetWatcher(folder, lambda: Judge(LEARNED))
        begin = time.process_time()
        took = [one.ms for frames in sequences.values() for one in watcher.watch(frames)]
        watching_ms = 1000 * (time.process_time() - begin) / len(took)
    core = MACHINES * watching_ms / 1000 / EVERY_S
    slow_ms = sorted(took)[int(0.95 * len(took))]
    print(f"{len(jpegs)} frames of 1280 x 720")
    print(f"decoding: {decoding_ms:.1f} ms of the processor a frame")
    print(
        f"watching, with decoding: {watching_ms:.1f} ms (at most {MOST_MS:.0f}), ratio {watching_ms / decoding_ms:.1f}"
    )
    print(f"by the clock: median {statistics.median(took):.1f} ms, 95th percentile {slow_ms:.1f} ms")
    print(f"{MACHINES} machines, one frame in {EVERY_S:.0f} s: {core:.2f} of a core (at most {MOST_CORE})")


if __name__ == "__main__":
    main()
