"""Finding builds by anything that is known of them. Each thing that may be asked for is one row of a table.

Builds are found in a fraction of a second among a million, whether nearly all are meant or none: names are looked up
first, in the spellings that there are, so that the database knows how many rows an index would give; and in the order
of their numbers builds are looked for among the next few first, then among many, then among all.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime, timedelta
from itertools import pairwise
from typing import Any

from sqlalchemy import ColumnElement, and_, false, func, or_, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records import paging
from chronarch.records.ledger.stops import stopped_because
from chronarch.records.library.tables import File, Part
from chronarch.records.orders.tables import Build, BuildTag, BuildUse, Job, Order
from chronarch.wire.ledger.history import BuildSearch, BuildSort, BuildVerdict

Condition = ColumnElement[bool]
AMONG = (2_000, 60_000)
"""Among so many builds is looked first; then among all."""
MOST_LISTED = 2000
"""So many names, reasons or numbers are handed to the database one by one; where there are more, builds are soon
found."""


def _used(*where: Any) -> Any:
    return Build.id.in_(select(BuildUse.build_id).where(*where))


def _job(*where: Any) -> Any:
    return Build.job_id.in_(select(Job.id).where(*where))


def _file(*where: Any) -> Any:
    return Build.file_id.in_(select(File.id).where(*where))


ASKED: dict[str, Callable[[Any], Any]] = {
    "revision": lambda number: Build.revision == number,
    "job": lambda number: Build.job_id == number,
    "order": lambda number: _job(Job.order_id == number),
    "spool": lambda number: _used(BuildUse.spool_id == number),
    "nozzle_mm": lambda mm: _used(BuildUse.nozzle_mm.between(mm - 0.005, mm + 0.005)),
    "outcome": lambda outcome: Build.outcome == outcome,
    "verdict": lambda said: Build.verdict.is_(None) if said is BuildVerdict.NONE else Build.verdict == said,
    "stop_reason": lambda why: Build.id.in_(stopped_because(why)),
    "tag": lambda tag: Build.id.in_(select(BuildTag.build_id).where(BuildTag.tag == tag.lower())),
    "begin": lambda at: Build.started_at >= at,
    "end": lambda at: Build.started_at < at,
    "ended_from": lambda at: Build.ended_at >= at,
    "ended_to": lambda at: Build.ended_at < at,
    "uncleared": lambda so: Build.open_machine.is_not(None),
}
"""What is left out here is asked of the machines, which the caller knows: machine, model, site, pool."""
NAMED: dict[str, tuple[Any, Callable[[list[str]], Any]]] = {
    "part": (Part.name, lambda names: _file(File.part_id.in_(select(Part.id).where(Part.name.in_(names))))),
    "file": (File.name, lambda names: _file(File.name.in_(names))),
    "customer": (
        Order.customer, lambda names: _job(Job.order_id.in_(select(Order.id).where(Order.customer.in_(names))))
    ),
    "material": (BuildUse.material, lambda names: _used(BuildUse.material.in_(names))),
    "colour": (BuildUse.colour, lambda names: _used(BuildUse.colour.in_(names))),
    "scrap_reason": (Build.scrap_reason, lambda names: Build.scrap_reason.in_(names)),
    "person": (Build.judged_by, lambda names: Build.judged_by.in_(names)),
}  # fmt: skip
"""What is asked for by a name, however it is spelled: the column that has the names, and what builds must be."""


async def _word(db: AsyncSession, word: str) -> Any:
    """Builds of a file or part with the word in its name, those that say it in a reason or a note, and those tagged
    so. What there is of names and reasons is looked through first: then indexes find the builds."""
    named = select(File.id).outerjoin(Part, Part.id == File.part_id)
    looked_through = (
        (Build.file_id, named.where(_has(word, func.concat_ws(" ", File.name, Part.name)))),
        (Build.reason, _texts(Build.reason, lambda text: _has(word, text))),
        (Build.scrap_reason, _texts(Build.scrap_reason, lambda text: _has(word, text))),
        (Build.id, select(BuildTag.build_id).where(_has(word, BuildTag.tag))),
    )
    found = [and_(Build.has_note == 1, _has(word, Build.note))]
    for column, query in looked_through:
        few = await _list(db, query.limit(MOST_LISTED + 1))
        if few:
            found.append(column.in_(few if len(few) <= MOST_LISTED else query))
    return or_(*found)


def _has(word: str, text: Any) -> Any:
    return func.locate(word, func.lower(text)) > 0


def _texts(column: Any, wanted: Callable[[Any], Any]) -> Any:
    """Those of a column's different texts that are as wanted. Each column has an index, of which each text is read
    once."""
    texts = select(column).distinct().subquery().c[0]
    return select(texts).where(wanted(texts))


async def _list(db: AsyncSession, query: Any) -> list[Any]:
    return list((await db.execute(query)).scalars())


async def conditions(
    db: AsyncSession, asked: BuildSearch, machines: Sequence[int] | None, now: datetime
) -> list[Condition]:
    """What rows of builds must be; `machines` are those that may have made them, None for any."""
    found: list[Condition] = [row(value) for name, row in ASKED.items() if (value := getattr(asked, name))]
    for name, (column, row) in NAMED.items():
        if value := getattr(asked, name):
            names = await _list(db, _texts(column, lambda text: func.lower(text) == value.lower()))
            found.append(row(names) if names else false())
    if machines is not None:
        found.append(Build.machine_id.in_(machines) if machines else false())
    found += [await _word(db, word) for word in asked.search.lower().split()]
    if asked.days is not None:
        found.append(Build.started_at >= now - timedelta(days=asked.days))
    if asked.sort in (BuildSort.LONGEST, BuildSort.SHORTEST):
        found.append(Build.took_s.is_not(None))
    return found


def _by(column: Any, read: Callable[[str], Any], *, descending: bool) -> tuple[paging.SortKey, ...]:
    """By a column and then by number, both in one direction: an index is read in no other."""
    return paging.SortKey(column, descending, read), paging.number(Build.id, descending=descending)


SORTED: dict[BuildSort, tuple[tuple[paging.SortKey, ...], Callable[[Build], Sequence[Any]]]] = {
    BuildSort.NEWEST: ((paging.number(Build.id, descending=True),), lambda b: (b.id,)),
    BuildSort.OLDEST: ((paging.number(Build.id),), lambda b: (b.id,)),
    BuildSort.LONGEST: (_by(Build.took_s, int, descending=True), lambda b: (b.took_s, b.id)),
    BuildSort.SHORTEST: (_by(Build.took_s, int, descending=False), lambda b: (b.took_s, b.id)),
    BuildSort.HEAVIEST: (_by(Build.grams, float, descending=True), lambda b: (b.grams, b.id)),
}
"""By what builds are sorted, and a build's place in that order."""


async def find(
    db: AsyncSession, wanted: Sequence[Condition], sort: BuildSort, after: Sequence[Any], most: int
) -> list[Build]:
    """At most so many builds that are as wanted, in an order, after the one at a place of it."""
    found: list[int] = []
    for query in await _queries(db, sort, after):
        if len(found) < most:
            found += await _list(db, query.where(*wanted).limit(most - len(found)))
    rows = {row.id: row for row in (await db.execute(select(Build).where(Build.id.in_(found)))).scalars()}
    return [rows[number] for number in found]


async def _queries(db: AsyncSession, sort: BuildSort, after: Sequence[Any]) -> list[Any]:
    """What is asked one after the other until enough is found: for numbers of builds after a place."""
    if sort not in (BuildSort.NEWEST, BuildSort.OLDEST):
        return [paging.page_of(select(Build.id), SORTED[sort][0], after, 0)]  # how many, `find` says
    lowest, highest = (await db.execute(select(func.min(Build.id), func.max(Build.id)))).one()
    if lowest is None:
        return []
    newest = sort is BuildSort.NEWEST
    begin = after[0] if after else highest + 1 if newest else lowest - 1
    edges = [begin, *(begin - many if newest else begin + many for many in AMONG)]
    further = [edge > lowest if newest else edge < highest for edge in edges]
    spans = [(Build.id < a, Build.id >= b) if newest else (Build.id > a, Build.id <= b) for a, b in pairwise(edges)]
    beyond = Build.id + 0 < edges[-1] if newest else Build.id + 0 > edges[-1]  # by any index but that of numbers
    query = select(Build.id).order_by(Build.id.desc() if newest else Build.id)
    return [query.where(*span) for span, more in zip([*spans, (beyond,)], further, strict=True) if more]
