"""By what machines are told apart, and those that are like what is asked for."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Protocol

from chronarch.service.machines.fleet import Fleet, FleetMachine

MACHINE_PARTS: Mapping[str, Callable[[FleetMachine], Sequence[str]]] = {
    "machine": lambda known: [known.row.name],
    "model": lambda known: [known.model.name],
    "site": lambda known: [known.row.site],
    "pool": lambda known: known.row.pools or [""],
    "group": lambda known: known.row.tags or [""],
}
"""What a machine counts for; for several of them in each. A group are those that have a tag."""


class MachineWish(Protocol):
    """Which machines are wanted; an empty text is any."""

    machine: str
    model: str
    site: str
    pool: str
    group: str


def machines_like(fleet: Fleet, asked: MachineWish) -> list[FleetMachine]:
    """The machines that are like this, in whatever case it is written, by name. Raises ApiProblem (404) for a machine
    that there is not."""
    some = [fleet.find(asked.machine)] if asked.machine else fleet.all()
    wish = {part: getattr(asked, part).lower() for part in MACHINE_PARTS}
    return [
        known for known in some
        if all(not wish[part] or wish[part] in map(str.lower, of(known)) for part, of in MACHINE_PARTS.items())
    ]  # fmt: skip


def any_machine(asked: MachineWish) -> bool:
    """Whether all machines are wanted."""
    return not any(getattr(asked, part) for part in MACHINE_PARTS)
