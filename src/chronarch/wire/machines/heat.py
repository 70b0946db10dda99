"""Heat over time, as it is drawn."""

from __future__ import annotations

from pydantic import Field

from chronarch.wire.common import Wire


class HeaterCurve(Wire):
    """One heater, °C: a value for each time of the curve, None where nothing was measured. `least` and `most` are the
    extremes of the time that a point stands for."""

    measured: list[float | None] = Field(default_factory=list)
    least: list[float | None] = Field(default_factory=list)
    most: list[float | None] = Field(default_factory=list)
    asked: list[float | None] = Field(default_factory=list)


class HeatStanding(Wire):
    """What heat over time takes in the database; GB are 10⁹ bytes."""

    now_gb: float
    most_gb: float
    """What it comes to at most with the machines that there are, once a year has passed."""


class HeatCurve(Wire):
    """Heat between two times. A heater of which nothing is known is None."""

    step_s: float
    """How many seconds a point stands for."""
    at: list[float]
    """Seconds since 1970, UTC, shop time; rising."""
    nozzle: HeaterCurve | None = None
    bed: HeaterCurve | None = None
    chamber: HeaterCurve | None = None
    further: dict[str, HeaterCurve] = Field(default_factory=dict)
    """What else was measured, by the sensor's name."""
    power_w: list[float | None] | None = None
    fan_pct: list[float | None] | None = None
    """What the machine drew (W), and the part fan (%): means; None where nothing is known."""
