"""What the watch may suspect of a build, and how it says so."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class FailureMode(StrEnum):
    """What may be wrong with a build."""

    LOOSE = "loose"
    TANGLE = "tangle"
    SHIFTED = "shifted"
    NOT_GROWING = "not-growing"
    BLOB = "blob"
    FALLEN = "fallen"
    NOT_CLEAR = "not-clear"


OF_OBJECT = (FailureMode.LOOSE, FailureMode.TANGLE, FailureMode.FALLEN)
OF_BUILD = (FailureMode.SHIFTED, FailureMode.NOT_GROWING, FailureMode.BLOB)
KINDS = (*OF_OBJECT, *OF_BUILD)
SENTENCES = {
    FailureMode.LOOSE: "{name} is not where it was laid.",
    FailureMode.TANGLE: "There is material beside {name} where none should be.",
    FailureMode.SHIFTED: "Layers do not stand over each other: all that was laid since is moved.",
    FailureMode.NOT_GROWING: "Nothing is added any more: no material comes out of the nozzle.",
    FailureMode.BLOB: "Material gathers at the nozzle.",
    FailureMode.FALLEN: "{name} has fallen over.",
    FailureMode.NOT_CLEAR: "Something lies on the bed.",
}


@dataclass(frozen=True)
class Suspicion:
    """What seems to be wrong: `probability` 0 to 1; `object` its name and `number` it counts from 1, empty and 0 where
    it is the whole build; `place` where in the picture (left, top, width, height, as shares of it), `since_s` when it
    was first more likely than not."""

    mode: FailureMode
    probability: float
    object: str
    number: int
    sentence: str
    place: tuple[float, float, float, float] | None
    since_s: float | None
