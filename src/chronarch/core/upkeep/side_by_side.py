"""Which of the values that machines have stored are not the same on all of them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass


@dataclass(frozen=True)
class Different:
    """A value by machine; None where a machine told none. `usual` is what most have, None where none has more than
    another."""

    name: str
    usual: float | None
    values: Mapping[str, float | None]


def side_by_side(told: Mapping[str, Mapping[str, float]]) -> tuple[list[Different], int]:
    """What differs among machines, and how many values are the same on all. `told`: each machine's values by name."""
    names = sorted({name for values in told.values() for name in values})
    found = []
    for name in names:
        values = {machine: values.get(name) for machine, values in told.items()}
        if len(set(values.values())) < 2:
            continue
        first, *others = Counter(values.values()).most_common(2)
        usual = first[0] if not others or first[1] > others[0][1] else None
        found.append(Different(name, usual, values))
    return found, len(names) - len(found)
