"""Heat over time: readings gathered from samples and written in batches."""

from __future__ import annotations

import logging
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import delete
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.exc import SQLAlchemyError

from chronarch.records import tables as t
from chronarch.records.failures import away
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet
from chronarch.wire.control.upstream import Sample

WRITE_EVERY_S = 3.0
MOST_WAITING = 50_000
KEEP = timedelta(days=3)
PRUNE_EVERY = 200

log = logging.getLogger("chronarch.heat")


class HeatLog:
    """Readings on their way to the database; those of the last `KEEP` of shop time stay there."""

    def __init__(self, context: ServiceContext, fleet: Fleet) -> None:
        self._context, self._fleet = context, fleet
        self._rows: list[dict[str, Any]] = []
        self._last: dict[str, datetime] = {}
        self._writes = 0

    def take(self, sample: Sample) -> None:
        """Keep a sample's reading, once."""
        reading = sample.reading
        if reading is None or self._last.get(sample.machine) == reading.at or len(self._rows) >= MOST_WAITING:
            return
        self._last[sample.machine] = reading.at
        self._rows.append(
            {
                "machine_id": self._fleet.find(sample.machine).row.id,
                "at": reading.at,
                "nozzle_c": reading.nozzle.measured_c,
                "nozzle_asked_c": reading.nozzle.asked_c,
                "bed_c": reading.bed.measured_c,
                "bed_asked_c": reading.bed.asked_c,
                "chamber_c": reading.chamber.measured_c,
                "chamber_asked_c": reading.chamber.asked_c,
            }
        )

    async def write(self) -> None:
        """Write what has gathered, and now and then remove what is older than `KEEP`."""
        rows, self._rows = self._rows, []
        self._writes += 1
        try:
            async with self._context.sessions() as db:
                if rows:
                    await db.execute(insert(t.HeatReading).prefix_with("IGNORE"), rows)
                if self._writes % PRUNE_EVERY == 0:
                    await db.execute(delete(t.HeatReading).where(t.HeatReading.at < self._context.clock.now() - KEEP))
                await db.commit()
        except (SQLAlchemyError, OSError) as error:
            if away(error) or isinstance(error, OSError):
                self._rows = (rows + self._rows)[-MOST_WAITING:]
                raise
            log.warning("%d readings cannot be kept: %s", len(rows), str(error).splitlines()[0])
