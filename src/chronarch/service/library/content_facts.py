"""What planning needs to know of contents: read once, and kept until something is read or set aside anew."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from functools import partial
from threading import Lock
from typing import Annotated, Any

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.gcode.preflight import Severity
from chronarch.records import tables as t
from chronarch.records.library.files import overruled
from chronarch.service.context import ServiceContext, part

MOST_KEPT = 20_000
AT_ONCE = 500


@dataclass(frozen=True, eq=False)
class ContentFacts:
    """What one content says for one model. `refusals` are the preflight rules that keep it off, each with its text;
    `aside` the rules that a person has set aside for it; `filament_mm` is by tool."""

    planned_s: float
    commands: int = 0
    tools: tuple[int, ...] = (0,)
    nozzle_mm: float | None = None
    material: str = ""
    model: str = ""
    filament_mm: Mapping[int, float] = field(default_factory=dict)
    refusals: tuple[tuple[str, str], ...] = ()
    aside: frozenset[str] = frozenset()
    damage: str = ""
    """What is wrong with the record; empty when nothing is."""


FactsByModel = Mapping[str, ContentFacts]


def facts_of(planned_s: float, figures: Any, aside: Collection[str]) -> ContentFacts:
    """The facts in a reading's figures."""
    try:
        said = figures["declared"]
        return ContentFacts(
            planned_s, figures["commands"], tuple(figures["tools"]), said["nozzle_mm"], said["material"], said["model"],
            {int(n): mm for n, mm in figures["filament_mm"].items()},
            tuple((f["rule"], _refusal(f)) for f in figures["findings"] if f["severity"] == Severity.REFUSE),
            frozenset(aside),
        )  # fmt: skip
    except (AttributeError, LookupError, TypeError, ValueError) as error:
        return ContentFacts(planned_s, damage=f"{type(error).__name__}: {error}")


def _refusal(finding: Mapping[str, Any]) -> str:
    line = f" (line {finding['line']})" if finding["line"] else ""
    return f"{finding['text'].rstrip('.')}{line}"


class ContentFactsCache:
    """The facts of the contents that were asked for. The planner and others ask from threads of their own."""

    def __init__(self, context: ServiceContext) -> None:
        self._kept: dict[str, FactsByModel] = {}
        self._held = Lock()
        self._version = partial(context.changes.version, "files", "models")
        context.changes.hear(self._changed)

    def _changed(self, kind: str, subject: str) -> None:
        with self._held:
            if kind == "files" and subject:
                self._kept.pop(subject, None)
            elif kind in ("files", "models"):
                self._kept.clear()

    async def of(self, db: AsyncSession, contents: Collection[str]) -> dict[str, FactsByModel]:
        """By content and model, in the order in which the models were added; a content that is being read has none."""
        version = self._version()
        with self._held:
            found = {sha256: self._kept[sha256] for sha256 in contents if sha256 in self._kept}
        missing = [sha256 for sha256 in contents if sha256 not in found]
        for begin in range(0, len(missing), AT_ONCE):
            found |= await self._read(db, missing[begin : begin + AT_ONCE])
        with self._held:
            if len(self._kept) + len(missing) > MOST_KEPT:
                self._kept.clear()
            if version == self._version():  # or what was read may be old already
                self._kept.update((sha256, found[sha256]) for sha256 in missing)
        return found

    async def _read(self, db: AsyncSession, contents: Collection[str]) -> dict[str, FactsByModel]:
        columns = (
            t.ContentReading.sha256,
            t.ContentReading.model,
            t.ContentReading.planned_s,
            t.ContentReading.figures,
        )
        found: dict[str, dict[str, ContentFacts]] = {sha256: {} for sha256 in contents}
        aside = await overruled(db, contents)
        query = select(*columns).outerjoin(t.Model, t.Model.name == columns[1]).where(columns[0].in_(contents))
        for sha256, model, planned_s, figures in await db.execute(query.order_by(t.Model.id)):
            found[sha256][model] = facts_of(planned_s, figures, aside.get((sha256, model), ()))
        return dict(found)


TheContentFacts = Annotated[ContentFactsCache, part(ContentFactsCache)]
