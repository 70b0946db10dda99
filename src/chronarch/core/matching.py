"""Whether a machine can make a job, and if not, why: one rule a blocker, all in one table."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from chronarch.core.fleet import Capability, Requirement, Tool
from chronarch.core.gcode.preflight import machine_findings
from chronarch.core.states import Intake, MachineState
from chronarch.core.tags import parse_tags

NOZZLE_TOLERANCE_MM = 0.01


@dataclass(frozen=True)
class Need:
    """What a job asks of a machine: its requirement, and what its file says of itself, read by the machine's model.

    `refusals` are the preflight's findings that keep the file off the model, `overruled` the rules that a person has
    set aside for it; `said_...` is what the slicer declared, which holds where the requirement leaves it open.
    """

    requirement: Requirement
    tools: tuple[int, ...] = (0,)
    refusals: tuple[str, ...] = ()
    overruled: frozenset[str] = frozenset()
    said_nozzle_mm: float | None = None
    said_material: str = ""
    said_model: str = ""
    """One of the shop's models; empty when the file names none of them."""
    grams: float = 0.0
    """What one build of it lays down, all tools together."""
    unreadable: str = ""
    """Why the records do not say what it asks; empty when they do."""


@dataclass(frozen=True)
class Standing:
    """A machine as the dispatcher sees it now."""

    capability: Capability
    state: MachineState
    intake: Intake
    reachable: bool = True
    busy: bool = False
    """Whether a build of its own is open."""
    reason: str = ""
    since: str = ""
    """Since when it is in its state, as a person would say it."""


Rule = Callable[[Need, Standing], str | None]


def _unreadable(need: Need, at: Standing) -> str | None:
    return f"cannot be given it: {need.unreadable}" if need.unreadable else None


def _other_machine(need: Need, at: Standing) -> str | None:
    wanted = need.requirement.machine
    return f"the job is for {wanted} only" if wanted and wanted != at.capability.machine else None


def _other_model(need: Need, at: Standing) -> str | None:
    wanted = need.requirement.model
    has = at.capability.model.name
    return f"is a {has}; the job needs a {wanted}" if wanted and wanted != has else None


def _other_pool(need: Need, at: Standing) -> str | None:
    wanted = need.requirement.pool
    if not wanted or wanted.lower() in {p.lower() for p in at.capability.pools}:
        return None
    return f"takes no work from the pool {wanted}"


def _tags(need: Need, at: Standing) -> str | None:
    wanted = parse_tags(need.requirement.tags)
    if wanted is None or wanted.met_by(at.capability.tags):
        return None
    has = ", ".join(at.capability.tags) or "no tags"
    return f"has {has}; the job needs {need.requirement.tags}"


def _volume(need: Need, at: Standing) -> str | None:
    wanted, has = need.requirement.volume_mm, at.capability.model.volume_mm
    if wanted is None or all(h >= w for h, w in zip(has, wanted, strict=True)):
        return None
    return f"builds {_size(has)} mm; the job needs {_size(wanted)} mm"


def _size(volume: Sequence[float]) -> str:
    return " x ".join(f"{v:g}" for v in volume)


def _grams(need: Need, at: Standing) -> str | None:
    for tool in _used(need, at):
        if tool.grams is not None and tool.grams < need.grams:
            loaded = f"{tool.colour} {tool.material}".strip()
            return f"has {tool.grams:.0f} g of {loaded} left; the build needs {need.grams:.0f} g"
    return None


def _preflight(need: Need, at: Standing) -> str | None:
    if need.refusals:
        more = f" (and {len(need.refusals) - 1} more)" if len(need.refusals) > 1 else ""
        return f"is kept from it by the preflight: {need.refusals[0]}{more}"
    return _declared(need, at, ("other-model", "no-tool"))


def _declared(need: Need, at: Standing, rules: tuple[str, ...]) -> str | None:
    """What the slicer declared and the machine is not, of some of the preflight's rules."""
    asked = need.requirement
    wrong = machine_findings(
        need.tools,
        None if asked.nozzle_mm is not None else need.said_nozzle_mm,
        "" if asked.material else need.said_material,
        at.capability.tools,
        "" if asked.model else need.said_model,
        at.capability.model.name,
    )
    kept = (f.text for f in wrong if f.rule in rules and f.rule not in need.overruled)
    return next((f"is kept from it: {text[:1].lower()}{text[1:].rstrip('.')}" for text in kept), None)


def _declared_nozzle(need: Need, at: Standing) -> str | None:
    return _declared(need, at, ("other-nozzle",))


def _declared_material(need: Need, at: Standing) -> str | None:
    return _declared(need, at, ("other-material",))


def _nozzle(need: Need, at: Standing) -> str | None:
    r = need.requirement
    for tool in _used(need, at):
        if r.nozzle_mm is not None and abs(tool.nozzle_mm - r.nozzle_mm) > NOZZLE_TOLERANCE_MM:
            return f"has a {tool.nozzle_mm:g} mm nozzle; the job needs {r.nozzle_mm:g} mm"
        if r.hardened and not tool.hardened:
            return "has no hardened nozzle; the job needs one"
    return None


def _material(need: Need, at: Standing) -> str | None:
    r = need.requirement
    for tool in _used(need, at):
        loaded = f"{tool.colour} {tool.material}".strip() or "nothing"
        if r.material and tool.material.lower() != r.material.lower():
            return f"has {loaded} loaded; the job needs {f'{r.colour} {r.material}'.strip()}"
        if r.colour and tool.colour.lower() != r.colour.lower():
            return f"has {loaded} loaded; the job needs {r.colour}"
    return None


def _used(need: Need, at: Standing) -> list[Tool]:
    return [tool for tool in at.capability.tools if tool.number in need.tools]


def _intake(need: Need, at: Standing) -> str | None:
    words = {Intake.MANUAL: "a person starts each build there", Intake.CLOSED: "takes no work now"}
    return words.get(at.intake)


def _state(need: Need, at: Standing) -> str | None:
    words = {
        MachineState.WARMING: "is warming for another build",
        MachineState.BUILDING: "is building",
        MachineState.PAUSED: "has a paused build",
        MachineState.COOLING: "is cooling after a build",
        MachineState.UNCLEARED: "waits for its bed to be cleared",
        MachineState.DOWN: "is down",
        MachineState.SERVICE: "is in service",
        MachineState.OFFLINE: "is offline",
    }
    text = words.get(at.state)
    if text is None:
        return None
    if at.since and at.state not in (MachineState.WARMING, MachineState.BUILDING, MachineState.COOLING):
        text += f" since {at.since}"
    return f"{text}: {at.reason}" if at.reason and at.state is MachineState.DOWN else text


def _claimed(need: Need, at: Standing) -> str | None:
    return "has another build" if at.busy and at.state is MachineState.IDLE else None


def _reachable(need: Need, at: Standing) -> str | None:
    return None if at.reachable else "its tender is not connected"


LASTING: tuple[Rule, ...] = (
    _unreadable,
    _other_machine,
    _other_model,
    _other_pool,
    _tags,
    _volume,
    _nozzle,
    _material,
    _grams,
    _preflight,
    _declared_nozzle,
    _declared_material,
)
"""Rules that hold until somebody changes the machine or the job."""

PASSING: tuple[Rule, ...] = (_intake, _state, _claimed, _reachable)
"""Rules that time or a person's hands lift."""


def blocker(need: Need, at: Standing, rules: tuple[Rule, ...] = (*LASTING, *PASSING)) -> str | None:
    """The first reason why this machine cannot take the job now, in words that follow the machine's name; None when
    it can."""
    for rule in rules:
        reason = rule(need, at)
        if reason:
            return reason
    return None


BY_HANDS: dict[Rule, tuple[str, float]] = {
    _nozzle: ("nozzle", 900.0),
    _declared_nozzle: ("nozzle", 900.0),
    _material: ("load", 240.0),
    _declared_material: ("load", 240.0),
    _grams: ("load", 240.0),
    _intake: ("intake", 30.0),
    _state: ("state", 180.0),
}
"""Rules that hands can lift: how, and the seconds it takes them."""

KINDS: tuple[Rule, ...] = tuple(rule for rule in LASTING if rule not in BY_HANDS)
"""Rules that hold whatever is loaded on a machine: what it is for, not how it is set up."""


def blockers(need: Need, at: Standing) -> list[tuple[Rule, str]]:
    """Every rule that keeps the machine from the job now, with its reason."""
    found = ((rule, rule(need, at)) for rule in (*LASTING, *PASSING))
    return [(rule, reason) for rule, reason in found if reason]


Options = Callable[[Standing], Sequence[Need]]
"""What a job may be made from on a machine: one need for a file, one each for the files of a part."""


def first_blocker(needs: Sequence[Need], at: Standing, rules: tuple[Rule, ...] = (*LASTING, *PASSING)) -> str | None:
    """None when one of the needs can be met by the machine; else why the first cannot."""
    reasons = []
    for need in needs:
        reason = blocker(need, at, rules)
        if reason is None:
            return None
        reasons.append(reason)
    return reasons[0] if reasons else "has no file that makes this part"


def why_waiting(options: Options, wanted: str, fleet: list[Standing], promised: Mapping[str, str] | None = None) -> str:
    """One sentence that says why a job waits: the nearest machine's blocker, and how many could make it at all.
    `wanted` is the machine it is for, empty for any; `promised` says what an idle machine takes first."""
    if not fleet:
        return "There are no machines yet; add one."
    able = [at for at in fleet if first_blocker(options(at), at, LASTING) is None]
    if able:
        passing = [(at, first_blocker(options(at), at, PASSING)) for at in able]
        first = promised or {}
        names = [(at.capability.machine, reason) for at, reason in passing]
        reasons = [f"{name} {reason or first.get(name, 'is about to take it')}" for name, reason in names]
        more = f" (and {len(able) - 2} more)" if len(able) > 2 else ""
        return "; ".join(reasons[:2]) + more + "."
    asked = [at for at in fleet if not wanted or at.capability.machine == wanted]
    if not asked:
        return f"No machine fits: there is no machine named {wanted}."
    reasons = [
        f"{at.capability.machine} {_as_clause(first_blocker(options(at), at, LASTING) or '')}".rstrip(".")
        for at in asked
    ]
    more = f" (and {len(reasons) - 2} more)" if len(reasons) > 2 else ""
    return "No machine fits: " + "; ".join(reasons[:2]) + more + "."


def _as_clause(reason: str) -> str:
    return f"cannot: {reason}" if reason.startswith(("the ", "a ", "its ")) else reason
