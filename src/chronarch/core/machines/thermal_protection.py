"""Thermal rules: whether a heater does what it is asked.

The constants bound what a healthy hot end or bed does, with room for draughts and coarse sampling:

*   `BAND_C` 15 °C nozzle, 10 °C bed: a fan coming on or a tall first layer pulls a nozzle down by 5-8 °C; a
    heater that has lost its cartridge or its sensor passes these bands within half a minute.
*   `OUT_OF_BAND_S` 30 s: shorter dips heal by themselves.
*   `RISE_C` in `RISE_S`: a 40 W nozzle rises about 2 °C/s, a bed about 0.3 °C/s; a quarter of that or less is a dead
    heater or a sensor that has slipped out. The bed is given longer.
*   `SENSOR_C`: below -15 °C or above 350 °C, twice running, a thermistor is broken or shorted, not cold or hot.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import datetime

SENSOR_C = (-15.0, 350.0)
ASKED_AT_LEAST_C = 30.0


@dataclass(frozen=True)
class HeaterRules:
    """The limits for one heater."""

    name: str
    band_c: float
    out_of_band_s: float
    rise_c: float
    rise_s: float


NOZZLE = HeaterRules("nozzle", band_c=15.0, out_of_band_s=30.0, rise_c=4.0, rise_s=40.0)
BED = HeaterRules("bed", band_c=10.0, out_of_band_s=30.0, rise_c=2.0, rise_s=60.0)


class HeaterWatch:
    """Follows the readings of one heater; `take` says what is wrong, in words, or None.

    While the heater rises towards a new target it must gain `rise_c` in every `rise_s`. Once it has been within the
    band it must not stay outside longer than `out_of_band_s`. Falling towards a lower target is allowed.
    """

    def __init__(self, rules: HeaterRules) -> None:
        self._rules = rules
        self._asked = 0.0
        self._reached = False
        self._base: tuple[datetime, float] | None = None
        self._out_since: datetime | None = None
        self._odd = 0

    def take(self, at: datetime, measured_c: float, asked_c: float) -> str | None:
        """One reading at shop time `at`, °C. Returns a sentence when the heater is in alarm."""
        r = self._rules
        if math.isnan(measured_c) or not SENSOR_C[0] <= measured_c <= SENSOR_C[1]:
            self._odd += 1
            if self._odd < 2:
                return None  # a single one may be a report that was damaged on its way
            return f"the {r.name} sensor reads {measured_c:.0f} °C, which cannot be: look at its wiring"
        self._odd = 0
        if asked_c != self._asked:
            self._asked, self._reached = asked_c, False
            self._base, self._out_since = (at, measured_c), None
        if asked_c < ASKED_AT_LEAST_C:
            return None
        if abs(measured_c - asked_c) <= r.band_c:
            self._reached, self._out_since = True, None
            return None
        return self._out_of_band(at, measured_c) if self._reached else self._rising(at, measured_c)

    def _out_of_band(self, at: datetime, measured_c: float) -> str | None:
        r = self._rules
        self._out_since = self._out_since or at
        if (at - self._out_since).total_seconds() < r.out_of_band_s:
            return None
        return f"the {r.name} left its band: {measured_c:.0f} °C, asked {self._asked:.0f} °C ± {r.band_c:.0f}"

    def _rising(self, at: datetime, measured_c: float) -> str | None:
        r = self._rules
        if measured_c > self._asked:
            return None
        since, base_c = self._base or (at, measured_c)
        if measured_c >= base_c + r.rise_c:
            self._base = (at, measured_c)
        elif (at - since).total_seconds() >= r.rise_s:
            return (
                f"the {r.name} stopped rising: {measured_c:.0f} °C after {(at - since).total_seconds():.0f} s "
                f"at full power, asked {self._asked:.0f} °C"
            )
        return None
