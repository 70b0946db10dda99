"""A heater with a lump of metal on it: first-order heat physics."""

from __future__ import annotations

from dataclasses import dataclass

AMBIENT_C = 23.0
_STEP_S = 0.5


@dataclass
class SimulatedHeater:
    """Energy balance C dT/dt = P u - k (T - ambient), with P in W, C in J/K, k in W/K and u from 0 to 1 by a
    proportional controller with feed-forward.

    `dead`: no power arrives. `drift_c_s`: the sensor's reading wanders off by so much a second, as a loosening
    thermistor does.
    """

    power_w: float
    capacity_j_k: float
    loss_w_k: float
    temperature_c: float = AMBIENT_C
    target_c: float = 0.0
    dead: bool = False
    drift_c_s: float = 0.0
    offset_c: float = 0.0
    supplied_w: float = 0.0
    supplied_j: float = 0.0
    """What it draws now, and has drawn."""

    @property
    def reading_c(self) -> float:
        return self.temperature_c + self.offset_c

    def advance(self, seconds: float) -> None:
        """Let time pass, in steps short enough for the time constant."""
        while seconds > 0:
            step = min(_STEP_S, seconds)
            seconds -= step
            self.offset_c += self.drift_c_s * step
            hold_w = self.loss_w_k * (self.target_c - AMBIENT_C)
            wanted_w = hold_w + 0.4 * self.capacity_j_k * (self.target_c - self.reading_c)
            supplied_w = 0.0 if self.dead or self.target_c <= 0 else min(self.power_w, max(0.0, wanted_w))
            self.supplied_w = supplied_w
            self.supplied_j += supplied_w * step
            flow_w = supplied_w - self.loss_w_k * (self.temperature_c - AMBIENT_C)
            self.temperature_c += flow_w * step / self.capacity_j_k


def nozzle() -> SimulatedHeater:
    return SimulatedHeater(power_w=45.0, capacity_j_k=16.0, loss_w_k=0.11)


def bed() -> SimulatedHeater:
    return SimulatedHeater(power_w=260.0, capacity_j_k=420.0, loss_w_k=1.3)
