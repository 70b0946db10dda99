"""Why the plan gives a machine a build, in words for an operator."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

from chronarch.core.planning.snapshot import Assignment, ChoiceReason, Strategy


def _length(seconds: float) -> str:
    minutes = max(1, round(seconds / 60))
    return f"{minutes} min" if minutes < 90 else f"{minutes / 60:.1f} h"


def put_on(a: Assignment) -> tuple[str, str]:
    """The filament and the nozzle that a person must put on before a build; `""` where what is on stays."""
    load = f"{a.load.colour} {a.load.material}".strip() if a.load else ""
    nozzle = f"a {'hardened ' if a.nozzle.hardened else ''}{a.nozzle.mm:g} mm nozzle" if a.nozzle else ""
    return load, nozzle


def why_words(a: Assignment, strategy: Strategy, time: Callable[[float], datetime], due: str = "") -> str:
    """One sentence for one assignment. `time` turns its seconds into a time of the shop's own clock; `due` says when
    its job is due."""
    among = f" of {a.choices} that fit" if a.choices > 1 else ""
    line = f", first in line{among}" if among else ""
    texts = {
        ChoiceReason.TOP: "put to the top by hand",
        ChoiceReason.PRIORITY: f"has priority{among}",
        ChoiceReason.DUE: f"due first{among} ({due})"
        if strategy is Strategy.DUE_FIRST
        else f"would be late otherwise ({due})",
        ChoiceReason.IN_LINE: f"first in line{among}",
        ChoiceReason.ENDS_STAFFED: f"ends at {time(a.end_s):%H:%M}, while somebody is there{line}",
        ChoiceReason.OVERNIGHT: f"long: it keeps the machine working for {_length(a.end_s - a.start_s)} of the hours "
        f"without hands{among and ', the best' + among}; its bed then waits {_length(a.wait_s)}",
        ChoiceReason.RELEASES: f"short, on a machine that lets go of its parts by itself{among}",
        ChoiceReason.ONLY: "the only one that fits",
    }
    text = texts[a.why]
    wanted = " and ".join(filter(None, put_on(a)))
    if wanted:
        text += f"; needs {wanted} first"
    return text
