"""What would happen if: a copy of a snapshot with something changed. Nothing of the shop changes."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from math import inf

from chronarch.core.planning.snapshot import MachineSlot, SlotPhase, Snapshot, Strategy


@dataclass(frozen=True)
class JobsDueBy:
    """These jobs are due at a time."""

    jobs: frozenset[int]
    due: datetime


@dataclass(frozen=True)
class JobsFirst:
    """These jobs go before everything else."""

    jobs: frozenset[int]


@dataclass(frozen=True)
class MachineOut:
    """A machine is taken out."""

    machine: str


@dataclass(frozen=True)
class MachineBack:
    """A machine that is out of work, down or closed takes work, from now on."""

    machine: str


@dataclass(frozen=True)
class ExtraShift:
    """Somebody is there in this span too."""

    begin: datetime
    end: datetime
    site: str = ""


@dataclass(frozen=True)
class MoreMachines:
    """Some more machines, each loaded like the one that is copied."""

    like: str
    many: int
    kind: Hashable = None


@dataclass(frozen=True)
class OtherStrategy:
    """Another strategy."""

    strategy: Strategy


ScenarioChange = JobsDueBy | JobsFirst | MachineOut | MachineBack | ExtraShift | MoreMachines | OtherStrategy


def _due_by(shop: Snapshot, c: JobsDueBy) -> Snapshot:
    due = (c.due - shop.at) / timedelta(seconds=1)
    return replace(shop, work=tuple(replace(w, due_s=due) if w.job in c.jobs else w for w in shop.work))


def _first(shop: Snapshot, c: JobsFirst) -> Snapshot:
    return replace(shop, work=tuple(replace(w, top=True) if w.job in c.jobs else w for w in shop.work))


def _machines(shop: Snapshot, name: str, change: Callable[[MachineSlot], MachineSlot]) -> Snapshot:
    if all(m.name != name for m in shop.machines):
        raise ValueError(f"there is no machine named {name}")
    return replace(shop, machines=tuple(change(m) if m.name == name else m for m in shop.machines))


def _without(shop: Snapshot, c: MachineOut) -> Snapshot:
    return _machines(shop, c.machine, lambda m: replace(m, takes=False))


def _with(shop: Snapshot, c: MachineBack) -> Snapshot:
    def back(m: MachineSlot) -> MachineSlot:
        phase, free = (SlotPhase.CLEAR, 0.0) if m.phase is SlotPhase.AWAY else (m.phase, m.free_s)
        return replace(m, phase=phase, free_s=free, takes=True)

    return _machines(shop, c.machine, back)


def _staffed(shop: Snapshot, c: ExtraShift) -> Snapshot:
    if c.end <= c.begin:
        raise ValueError("the time when somebody is there ends before it begins")
    hands = {}
    for site, (spans, people) in shop.hands.items():
        more = [*spans, (c.begin, c.end)] if site == c.site or not c.site else list(spans)
        merged: list[tuple[datetime, datetime]] = []
        for a, b in sorted(more):
            if merged and a <= merged[-1][1]:
                merged[-1] = (merged[-1][0], max(merged[-1][1], b))
            else:
                merged.append((a, b))
        hands[site] = (tuple(merged), people)
    return replace(shop, hands=hands)


def _more_of(shop: Snapshot, c: MoreMachines) -> Snapshot:
    like = next((m for m in shop.machines if m.name == c.like), None)
    if like is None:
        raise ValueError(f"there is no machine named {c.like}")
    clean = replace(like, phase=SlotPhase.CLEAR, free_s=0.0, idle_s=0.0, takes=True, by_hand=False, upkeep=(),
                    spool=replace(like.spool, grams=inf), kind=like.kind if c.kind is None else c.kind)  # fmt: skip
    more = tuple(replace(clean, name=f"{like.name} + {n}") for n in range(1, c.many + 1))
    return replace(shop, machines=(*shop.machines, *more))


def _by(shop: Snapshot, c: OtherStrategy) -> Snapshot:
    return replace(shop, strategy=c.strategy)


APPLY: dict[type, Callable[..., Snapshot]] = {
    JobsDueBy: _due_by,
    JobsFirst: _first,
    MachineOut: _without,
    MachineBack: _with,
    ExtraShift: _staffed,
    MoreMachines: _more_of,
    OtherStrategy: _by,
}


def changed(shop: Snapshot, *changes: ScenarioChange) -> Snapshot:
    """The changed snapshot. Raises ValueError, with the reason, for what is impossible."""
    for change in changes:
        shop = APPLY[type(change)](shop, change)
    return shop
