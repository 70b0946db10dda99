"""Why a job waits, machine by machine, the smallest change that would start it, and why a machine stands idle."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.planning.eligibility import CHANGES_BY_HAND, JobNeed, MachineStatus, Options, blockers


@dataclass(frozen=True)
class Blocked:
    """A machine that does not take a job, and every reason. `change` is what a person could do about all of them, empty
    when nothing; `hands_s` is how long that takes."""

    machine: str
    reasons: tuple[str, ...]
    change: str = ""
    hands_s: float = 0.0

    @property
    def text(self) -> str:
        return f"{self.machine} {self.reasons[0]}"


_STATE_CHANGE = {
    MachineState.UNCLEARED: "clear the bed of {machine}",
    MachineState.SERVICE: "put {machine} back to work",
}
_INTAKE_CHANGE = {
    Intake.MANUAL: "start it on {machine}",
    Intake.CLOSED: "open the intake of {machine}",
}


def blocked(options: Options, at: MachineStatus) -> Blocked | None:
    """Why a machine does not take a job now; None when it can. Of several files, the one that comes nearest."""
    name = at.capability.machine
    needs = list(options(at))
    if not needs:
        return Blocked(name, ("has no file that makes this part",))
    best: Blocked | None = None
    for need in needs:
        found = blockers(need, at)
        if not found:
            return None
        change, seconds = _change(need, at, [rule for rule, _ in found])
        one = Blocked(name, tuple(reason for _, reason in found), change, seconds)
        if best is None or _nearness(one) < _nearness(best):
            best = one
    return best


def _nearness(b: Blocked) -> tuple[bool, float, int]:
    return (not b.change, b.hands_s, len(b.reasons))


def _change(need: JobNeed, at: MachineStatus, rules: Sequence[object]) -> tuple[str, float]:
    """What a person could do about these rules, and how many seconds it takes; nothing where nobody can."""
    r, name = need.requirement, at.capability.machine
    words: dict[str, str] = {}
    total = 0.0
    for rule in rules:
        if rule not in CHANGES_BY_HAND:
            return "", 0.0
        kind, seconds = CHANGES_BY_HAND[rule]
        if kind in words:
            continue
        match kind:
            case "load":
                what = f"{r.colour} {r.material or need.said_material}".strip() or "a fuller spool"
                text = f"load {what} on {name}"
            case "nozzle":
                wanted = r.nozzle_mm or need.said_nozzle_mm
                size = f"{wanted:g} mm " if wanted else ""
                text = f"put a {'hardened ' if r.hardened else ''}{size}nozzle on {name}"
            case "intake":
                text = _INTAKE_CHANGE[at.intake].format(machine=name)
            case "upkeep":
                text = f"do the upkeep of {name}"
            case _:
                if at.state not in _STATE_CHANGE:
                    return "", 0.0
                text = _STATE_CHANGE[at.state].format(machine=name)
        words[kind] = text
        total += seconds
    order = [words[kind] for kind in ("state", "upkeep", "nozzle", "load", "intake") if kind in words]
    return ", then ".join(order), total


def why_not(options: Options, fleet: Sequence[MachineStatus]) -> list[Blocked]:
    """Each machine that does not take a job now, nearest first."""
    found = [b for b in (blocked(options, at) for at in fleet) if b is not None]
    return sorted(found, key=lambda b: (*_nearness(b), b.machine))


def smallest_change(found: Sequence[Blocked]) -> str:
    """What would start a job with the least work by hand; empty when nothing would."""
    return next((b.change for b in found if b.change), "")


def why_idle(at: MachineStatus, waiting: Sequence[tuple[str, Options]]) -> str:
    """Why a machine with a clear bed builds nothing, in one sentence. `waiting` are the waiting jobs in the order of
    the queue, each with its name."""
    if not at.reachable:
        return "Its tender is not connected."
    if at.intake is Intake.CLOSED:
        return "Its intake is closed."
    if at.upkeep:
        return f"It takes no work until upkeep is done: {at.upkeep}."
    if not waiting:
        return "Nothing waits."
    nearest: tuple[Blocked, str] | None = None
    for name, options in waiting:
        found = blocked(options, at)
        if found is None or (len(found.reasons) == 1 and at.intake is Intake.MANUAL):
            return f"A person starts each build there; {name} could start." if found else f"It is about to take {name}."
        if nearest is None or _nearness(found) < _nearness(nearest[0]):
            nearest = (found, name)
    assert nearest is not None
    found, name = nearest
    more = f" To start it: {found.change}." if found.change else ""
    return f"Nothing that waits fits. Nearest is {name}: it {found.reasons[0]}.{more}"
