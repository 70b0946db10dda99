"""What must be done at a machine in few plain characters, for its own display."""

from __future__ import annotations

import unicodedata
from collections.abc import Callable, Sequence

from chronarch.core.rounds.tasks import Task, TaskKind


def _of(task: Task, what: str) -> str:
    return what if task.next is None else f"{what} for {task.next.what}"


_WORDS: dict[TaskKind, Callable[[Task], Sequence[str]]] = {
    TaskKind.LOOK: lambda t: (t.text.partition(" is ")[2].capitalize(), "Paused: have a look", "Paused"),
    TaskKind.CLEAR: lambda t: ("Lift off the part", "Lift off"),
    TaskKind.CONFIRM: lambda t: ("Lift off by hand", "Lift off"),
    TaskKind.NOZZLE: lambda t: (f"Put on {t.next.nozzle}", "Change nozzle") if t.next else (),
    TaskKind.LOAD: lambda t: (f"Load {t.next.load}", "Change spool") if t.next else (),
    TaskKind.START: lambda t: (_of(t, "Start"), "Start the next"),
    TaskKind.UPKEEP: lambda t: (t.upkeep.name.capitalize(), "Upkeep is due", "Upkeep") if t.upkeep else (),
}
"""From the longest wording to the shortest. Kinds without a row are nothing that is done at the machine, or leave its
display to what it says itself."""


def short_words(tasks: Sequence[Task], chars: int) -> str:
    """What must be done first at one machine, and what then, as far as `chars` plain characters can say it; empty when
    nothing must be done there."""
    order = list(TaskKind)
    there = sorted((t for t in tasks if t.kind in _WORDS), key=lambda t: order.index(t.kind))
    if not there or chars <= 0:
        return ""
    wordings = [[plain(words) for words in _WORDS[t.kind](t)] for t in there[:2]]
    first = next((words for words in wordings[0] if len(words) <= chars), wordings[0][-1][:chars])
    for then in wordings[1] if len(wordings) > 1 else ():
        both = f"{first}, then {then[0].lower()}{then[1:]}"
        if len(both) <= chars:
            return both
    return first


def plain(text: str) -> str:
    """Without what a machine's display has no letters for.

    >>> plain("für 0,4 mm – später")
    'fur 0,4 mm - spater'
    """
    text = text.replace("\u2013", "-").replace("\u2019", "'").replace("\u00df", "ss")
    folded = unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode()
    return " ".join("".join(c if c.isprintable() else " " for c in folded).split())
