"""Heat over time: readings gathered from samples and written in batches."""

from __future__ import annotations

import logging
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy.dialects.mysql import insert
from sqlalchemy.exc import SQLAlchemyError

from chronarch.records import tables as t
from chronarch.records.failures import away
from chronarch.records.machines import heat
from chronarch.service.context import ServiceContext
from chronarch.service.machines.fleet import Fleet
from chronarch.wire.control.upstream import Sample

WRITE_EVERY_S = 3.0
MOST_WAITING = 50_000
LAG_S = 10.0
"""Real seconds until a minute is taken to be complete: what was measured in it has been written by then."""
ROLL_UP_EVERY, PRUNE_EVERY = 4, 200
"""Writes between two makings of means, and between two removals of what is too old."""

log = logging.getLogger("chronarch.heat")


class HeatLog:
    """Readings on their way to the database, where they become means of minutes and hours as they grow old."""

    def __init__(self, context: ServiceContext, fleet: Fleet) -> None:
        self._context, self._fleet = context, fleet
        self._rows: list[dict[str, Any]] = []
        self._further: list[dict[str, Any]] = []
        self._last: dict[str, datetime] = {}
        self._writes = 0

    def take(self, sample: Sample) -> None:
        """Keep a sample's reading, once."""
        reading = sample.reading
        if reading is None or self._last.get(sample.machine) == reading.at or len(self._rows) >= MOST_WAITING:
            return
        self._last[sample.machine] = reading.at
        when = {"machine_id": self._fleet.find(sample.machine).row.id, "at": reading.at}
        if len(self._further) < MOST_WAITING:
            self._further += [
                {**when, "sensor": sensor, "c": value.measured_c, "asked_c": value.asked_c}
                for sensor, value in reading.further.items()
            ]
        self._rows.append(
            {
                **when,
                "nozzle_c": reading.nozzle.measured_c,
                "nozzle_asked_c": reading.nozzle.asked_c,
                "bed_c": reading.bed.measured_c,
                "bed_asked_c": reading.bed.asked_c,
                "chamber_c": reading.chamber.measured_c,
                "chamber_asked_c": reading.chamber.asked_c,
                "power_w": sample.power.watts if sample.power else None,
                "fan_pct": reading.fan_pct,
            }
        )

    async def write(self) -> None:
        """Write what has gathered, make the means that are due, and now and then remove what is too old."""
        rows, self._rows = self._rows, []
        further, self._further = self._further, []
        self._writes += 1
        try:
            async with self._context.sessions() as db:
                if rows:
                    await db.execute(insert(t.HeatReading).prefix_with("IGNORE"), rows)
                if further:
                    await db.execute(insert(t.SensorReading).prefix_with("IGNORE"), further)
                now = self._context.clock.now()
                machines = [known.row.id for known in self._fleet.all()]
                if self._writes % ROLL_UP_EVERY == 0:
                    await heat.roll_up(db, machines, now - timedelta(seconds=LAG_S * self._context.clock.rate))
                if self._writes % PRUNE_EVERY == 0:
                    await heat.forget_old(db, machines, now)
                await db.commit()
        except (SQLAlchemyError, OSError) as error:
            if away(error) or isinstance(error, OSError):
                self._rows = (rows + self._rows)[-MOST_WAITING:]
                self._further = (further + self._further)[-MOST_WAITING:]
                raise
            log.warning("%d readings cannot be kept: %s", len(rows), str(error).splitlines()[0])
