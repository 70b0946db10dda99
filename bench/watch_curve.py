"""Write what the watch does on the unseen part of the labelled frames into the product, as the curve that shops choose
on.

    chronarch watch score FOLDER --json > scores.json
    python -m bench.watch_curve scores.json
"""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import Any

from chronarch.core.watching import carefulness
from chronarch.core.watching.scoring import ScoredFrame, curve
from chronarch.core.watching.suspicion import FailureMode

OUT = Path(carefulness.__file__).with_name("measured.py")
THRESHOLDS = (0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.85, 0.9, 0.93, 0.95, 0.97, 0.98, 0.99, 0.993, 0.995, 0.997)


def frame_of(row: dict[str, Any]) -> ScoredFrame:
    """One frame of the scores."""
    top = max(row["scores"].items(), key=lambda item: item[1], default=None)
    mode = FailureMode(top[0].partition(":")[0]) if top else None
    return ScoredFrame(
        row["sequence"], row["at_s"], row["label"], mode, top[1] if top else 0.0, "", row["unjudged"] or "", row["ms"]
    )


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("scores", type=Path)
    frames = [frame_of(row) for row in json.loads(options.parse_args().scores.read_text())["frames"]]
    points = "".join(
        f"    CatchRate({p.threshold}, {p.false_per_h:.5f}, {p.caught:.4f}, {p.in_time:.4f}, {p.delay_s:.1f}),\n"
        for p in curve(frames, THRESHOLDS)
    )
    title = "What the watch does on labelled builds that it was not tuned on; written by `python -m bench.watch_curve`."
    OUT.write_text(f'''"""{title}"""

from __future__ import annotations

from chronarch.core.watching.carefulness import CatchRate

MEASURED = (
{points})  # fmt: skip
''')
    print(f"written: {OUT}")


if __name__ == "__main__":
    main()
