"""Whether a machine can make a job, and if not, why: each reason is one rule, all in one table."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from chronarch.core.gcode.preflight import machine_findings
from chronarch.core.machines.states import Intake, MachineState
from chronarch.core.machines.tag_expression import parse_tags
from chronarch.core.machines.tools import Tool
from chronarch.core.orders.requirement import Requirement
from chronarch.core.planning.capability import Capability

NOZZLE_TOLERANCE_MM = 0.01


@dataclass(frozen=True)
class JobNeed:
    """What a job asks of a machine: its requirement, and what its file says, read for the machine's model.

    `refusals` are preflight findings that keep the file off the model; `overruled` are rules that a person has set
    aside for it. `said_...` is what the slicer declared, which holds where the requirement leaves it open.
    """

    requirement: Requirement
    tools: tuple[int, ...] = (0,)
    refusals: tuple[str, ...] = ()
    overruled: frozenset[str] = frozenset()
    said_nozzle_mm: float | None = None
    said_material: str = ""
    said_model: str = ""
    """One of the models of the shop; empty when the file names none of them."""
    grams: Mapping[int, float] = field(default_factory=dict)
    """The filament that one build lays with each tool, by the tool's number."""
    unreadable: str = ""
    """Why the records do not say what the job asks; empty when they do."""


@dataclass(frozen=True)
class MachineStatus:
    """A machine as the dispatcher sees it now."""

    capability: Capability
    state: MachineState
    intake: Intake
    reachable: bool = True
    busy: bool = False
    """Whether a build of its own is open."""
    reason: str = ""
    since: str = ""
    """Since when the machine is in its state, in words."""
    start_up_s: float = 0.0
    """How long until it can take work, because it is turned off or was just turned on."""
    held: str = ""
    """Why it takes no work yet though it is idle, in words that follow its name."""
    upkeep: str = ""
    """Upkeep that must be done before it takes any work; empty while there is none."""


Rule = Callable[[JobNeed, MachineStatus], str | None]


def _unreadable(need: JobNeed, at: MachineStatus) -> str | None:
    return f"cannot be given it: {need.unreadable}" if need.unreadable else None


def _other_machine(need: JobNeed, at: MachineStatus) -> str | None:
    wanted = need.requirement.machine
    return f"the job is for {wanted} only" if wanted and wanted != at.capability.machine else None


def _other_model(need: JobNeed, at: MachineStatus) -> str | None:
    wanted = need.requirement.model
    has = at.capability.model.name
    return f"is a {has}; the job needs a {wanted}" if wanted and wanted != has else None


def _other_pool(need: JobNeed, at: MachineStatus) -> str | None:
    wanted = need.requirement.pool
    if not wanted or wanted.lower() in {p.lower() for p in at.capability.pools}:
        return None
    return f"takes no work from the pool {wanted}"


def _tags(need: JobNeed, at: MachineStatus) -> str | None:
    wanted = parse_tags(need.requirement.tags)
    if wanted is None or wanted.met_by(at.capability.tags):
        return None
    has = ", ".join(at.capability.tags) or "no tags"
    return f"has {has}; the job needs {need.requirement.tags}"


def _volume(need: JobNeed, at: MachineStatus) -> str | None:
    wanted, has = need.requirement.volume_mm, at.capability.model.volume_mm
    if wanted is None or all(h >= w for h, w in zip(has, wanted, strict=True)):
        return None
    return f"builds {_size(has)} mm; the job needs {_size(wanted)} mm"


def _size(volume: Sequence[float]) -> str:
    return " x ".join(f"{v:g}" for v in volume)


def _grams(need: JobNeed, at: MachineStatus) -> str | None:
    for tool in _used(need, at):
        wanted = need.grams.get(tool.number, 0.0)
        if tool.grams is not None and tool.grams < wanted:
            loaded = f"{tool.colour} {tool.material}".strip()
            return f"has {tool.grams:.0f} g of {loaded} left{_on(tool, at)}; the build needs {wanted:.0f} g"
    return None


def _on(tool: Tool, at: MachineStatus) -> str:
    """Which tool is meant, on a machine with several."""
    return f" on tool {tool.number}" if len(at.capability.tools) > 1 else ""


def _preflight(need: JobNeed, at: MachineStatus) -> str | None:
    if need.refusals:
        more = f" (and {len(need.refusals) - 1} more)" if len(need.refusals) > 1 else ""
        return f"is kept from it by the preflight: {need.refusals[0]}{more}"
    return _declared(need, at, ("other-model", "no-tool"))


def _declared(need: JobNeed, at: MachineStatus, rules: tuple[str, ...]) -> str | None:
    """What the slicer declared and the machine does not have, for some of the preflight rules."""
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


def _declared_nozzle(need: JobNeed, at: MachineStatus) -> str | None:
    return _declared(need, at, ("other-nozzle",))


def _declared_material(need: JobNeed, at: MachineStatus) -> str | None:
    return _declared(need, at, ("other-material",))


def _nozzle(need: JobNeed, at: MachineStatus) -> str | None:
    r = need.requirement
    for tool in _used(need, at):
        if r.nozzle_mm is not None and abs(tool.nozzle_mm - r.nozzle_mm) > NOZZLE_TOLERANCE_MM:
            return f"has a {tool.nozzle_mm:g} mm nozzle{_on(tool, at)}; the job needs {r.nozzle_mm:g} mm"
        if r.hardened and not tool.hardened:
            return f"has no hardened nozzle{_on(tool, at)}; the job needs one"
    return None


def _material(need: JobNeed, at: MachineStatus) -> str | None:
    r = need.requirement
    for tool in _used(need, at):
        loaded = f"{tool.colour} {tool.material}".strip() or "nothing"
        if r.material and tool.material.lower() != r.material.lower():
            return f"has {loaded} loaded{_on(tool, at)}; the job needs {f'{r.colour} {r.material}'.strip()}"
        if r.colour and tool.colour.lower() != r.colour.lower():
            return f"has {loaded} loaded{_on(tool, at)}; the job needs {r.colour}"
    return None


def _used(need: JobNeed, at: MachineStatus) -> list[Tool]:
    return [tool for tool in at.capability.tools if tool.number in need.tools]


def _intake(need: JobNeed, at: MachineStatus) -> str | None:
    words = {Intake.MANUAL: "a person starts each build there", Intake.CLOSED: "takes no work now"}
    return words.get(at.intake)


def _upkeep(need: JobNeed, at: MachineStatus) -> str | None:
    return f"takes no work until upkeep is done: {at.upkeep}" if at.upkeep else None


def _state(need: JobNeed, at: MachineStatus) -> str | None:
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


def _claimed(need: JobNeed, at: MachineStatus) -> str | None:
    return "has another build" if at.busy and at.state is MachineState.IDLE else None


def _held(need: JobNeed, at: MachineStatus) -> str | None:
    return (at.held or None) if at.state is MachineState.IDLE else None


def _reachable(need: JobNeed, at: MachineStatus) -> str | None:
    return None if at.reachable else "its tender is not connected"


RULES_FOR_SETUP: tuple[Rule, ...] = (
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

RULES_FOR_NOW: tuple[Rule, ...] = (_intake, _upkeep, _state, _claimed, _held, _reachable)
"""Rules that time or a person can lift."""


def blocker(
    need: JobNeed, at: MachineStatus, rules: tuple[Rule, ...] = (*RULES_FOR_SETUP, *RULES_FOR_NOW)
) -> str | None:
    """The first reason why this machine cannot take the job now, in words that follow the machine's name; None when
    it can."""
    for rule in rules:
        reason = rule(need, at)
        if reason:
            return reason
    return None


CHANGES_BY_HAND: dict[Rule, tuple[str, float]] = {
    _nozzle: ("nozzle", 900.0),
    _declared_nozzle: ("nozzle", 900.0),
    _material: ("load", 240.0),
    _declared_material: ("load", 240.0),
    _grams: ("load", 240.0),
    _intake: ("intake", 30.0),
    _upkeep: ("upkeep", 1800.0),
    _state: ("state", 180.0),
}
"""Rules that a person can lift: how, and how many seconds that takes."""

RULES_FOR_KIND: tuple[Rule, ...] = tuple(rule for rule in RULES_FOR_SETUP if rule not in CHANGES_BY_HAND)
"""Rules that hold whatever is loaded on a machine: they are about its kind, not its set-up."""


def blockers(need: JobNeed, at: MachineStatus) -> list[tuple[Rule, str]]:
    """Every rule that keeps the machine from the job now, with its reason."""
    found = ((rule, rule(need, at)) for rule in (*RULES_FOR_SETUP, *RULES_FOR_NOW))
    return [(rule, reason) for rule, reason in found if reason]


Options = Callable[[MachineStatus], Sequence[JobNeed]]
"""What a job may be made from on a machine: one need for a file, one each for the files of a part."""


def first_blocker(
    needs: Sequence[JobNeed], at: MachineStatus, rules: tuple[Rule, ...] = (*RULES_FOR_SETUP, *RULES_FOR_NOW)
) -> str | None:
    """None when one of the needs can be met by the machine; else why the first cannot."""
    reasons = []
    for need in needs:
        reason = blocker(need, at, rules)
        if reason is None:
            return None
        reasons.append(reason)
    return reasons[0] if reasons else "has no file that makes this part"
