"""How long each layer of a build took, kept as one small packed row a build."""

from __future__ import annotations

import math
import sys
import zlib
from array import array
from collections.abc import Iterable, Sequence

from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records.orders.tables import BuildLayers

MOST_LAYERS = 200_000
UNKNOWN = math.nan


async def add(db: AsyncSession, build: int, layers: Iterable[tuple[int, float]]) -> None:
    """Note how long some layers of a build took, s; they are counted from 1."""
    row = await db.get(BuildLayers, build, with_for_update=True)
    times = _read(row.seconds) if row is not None else array("f")
    for layer, took_s in layers:
        if not 1 <= layer <= MOST_LAYERS:
            continue
        times.extend([UNKNOWN] * (layer - len(times)))
        times[layer - 1] = took_s
    if row is None:
        db.add(BuildLayers(build_id=build, seconds=_written(times)))
    else:
        row.seconds = _written(times)


async def times_of(db: AsyncSession, build: int) -> list[float | None]:
    """How long each layer took, s, from the first on; None where that was not seen."""
    row = await db.get(BuildLayers, build)
    return [] if row is None else [None if math.isnan(s) else s for s in _read(row.seconds)]


def packed(seconds: Sequence[float]) -> bytes:
    """As they are kept: little-endian 32-bit floats, deflated (RFC 1950)."""
    return _written(array("f", seconds))


def _written(times: array[float]) -> bytes:
    return zlib.compress((_swapped(times) if sys.byteorder == "big" else times).tobytes(), 6)


def _read(kept: bytes) -> array[float]:
    times = array("f", zlib.decompress(kept))
    return _swapped(times) if sys.byteorder == "big" else times


def _swapped(times: array[float]) -> array[float]:
    found = array("f", times)
    found.byteswap()
    return found
