"""Which machines can make what waits: a table of distinct needs by machines, which plan and explanations share."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass
from itertools import chain
from typing import Any, TypeVar

import numpy as np

from chronarch.core.planning.snapshot import LoadedSpool, NeedRow, Nozzle, Snapshot

SAME_MM = 0.01
SpoolKind = tuple[str, str]
T = TypeVar("T")
Table = np.ndarray[Any, np.dtype[np.bool_]]


def spool_kind(spool: LoadedSpool) -> SpoolKind:
    return spool.material.lower(), spool.colour.lower()


def spool_fits(need: NeedRow, kind: SpoolKind) -> bool:
    material, colour = kind
    return (not need.material or need.material.lower() == material) and (
        not need.colour or need.colour.lower() == colour
    )


def nozzle_fits(need: NeedRow, nozzle: Nozzle) -> bool:
    if need.nozzle_mm is not None and abs(need.nozzle_mm - nozzle.mm) > SAME_MM:
        return False
    return nozzle.hardened or not need.hardened


def spool_table(rows: Sequence[NeedRow], kinds: Sequence[SpoolKind]) -> Table:
    """Which needs (rows) which loaded spools (columns) meet."""
    return _table(rows, kinds, spool_fits, lambda need: (need.material, need.colour))


def nozzle_table(rows: Sequence[NeedRow], nozzles: Sequence[Nozzle]) -> Table:
    """Which needs (rows) which nozzles (columns) meet."""
    return _table(rows, nozzles, nozzle_fits, lambda need: (need.nozzle_mm, need.hardened))


def _table(
    rows: Sequence[NeedRow],
    kinds: Sequence[T],
    fits: Callable[[NeedRow, T], bool],
    asked: Callable[[NeedRow], Hashable],
) -> Table:
    """Needs that ask for the same are looked at once."""
    alike = {asked(row): row for row in rows}
    place = {key: n for n, key in enumerate(alike)}
    found = np.array([[fits(row, kind) for kind in kinds] for row in alike.values()], bool).reshape(
        len(alike), len(kinds)
    )
    return found[np.array([place[asked(row)] for row in rows], np.int64)]


@dataclass(frozen=True)
class Fits:
    """`now` says of each distinct need (row) and each machine (column) whether it can make it as it is set up now,
    `ever` whether it could with another spool or nozzle. `rows` is each job's row, `names` each column's machine."""

    names: tuple[str, ...]
    rows: dict[int, int]
    now: Table
    ever: Table

    def able(self, job: int, *, ever: bool = False) -> list[str]:
        """The machines that can make a job."""
        row = self.rows.get(job)
        if row is None:
            return []
        return [self.names[n] for n in np.flatnonzero((self.ever if ever else self.now)[row]).tolist()]


def fits_of(shop: Snapshot) -> Fits:
    """All machines of a shop, those that are away included, against all that waits."""
    needs = {id(w.need): w.need for w in shop.work}
    row_of = {key: n for n, key in enumerate(needs)}
    rows, machines = list(needs.values()), shop.machines
    kinds = {k: n for n, k in enumerate(dict.fromkeys(m.kind for m in machines))}
    spools = {k: n for n, k in enumerate(dict.fromkeys(spool_kind(m.spool) for m in machines))}
    nozzles = {k: n for n, k in enumerate(dict.fromkeys(m.nozzle for m in machines))}
    known = chain.from_iterable(map(need.duration_s.__contains__, kinds) for need in rows)
    by_kind = np.fromiter(known, bool).reshape(len(rows), len(kinds))
    ever = by_kind[:, [kinds[m.kind] for m in machines]]
    spool_ok = spool_table(rows, list(spools))[:, [spools[spool_kind(m.spool)] for m in machines]]
    nozzle_ok = nozzle_table(rows, list(nozzles))[:, [nozzles[m.nozzle] for m in machines]]
    grams = np.array([need.grams for need in rows])[:, None] <= np.array([m.spool.grams for m in machines])[None, :]
    now = ever & spool_ok & nozzle_ok & grams
    return Fits(tuple(m.name for m in machines), {w.job: row_of[id(w.need)] for w in shop.work}, now, ever)
