"""One build of the demo goes wrong by itself each shop day, each day in another way, so that it can be seen how the
watch catches it."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import httpx

from chronarch.client import Client, requests
from chronarch.core.machines.states import MachineState
from chronarch.wire.machines.machine import Machine

KINDS = ("tangle", "loose", "blob", "shifted", "fallen", "not-growing")
SHARES = 0.25, 0.6
"""How far a build has come when it fails: far enough that the watch knows it."""
LEAST_LEFT_S = 1800.0
"""A build that ends sooner is left alone."""
NOT_BEFORE_H = 1.0
"""The first build fails so long after the shop has opened, hours."""


@dataclass
class FailingBuilds:
    """`step` is called again and again. `standins` is the address of the stand-ins, `kept` the file that says what has
    failed so far."""

    client: Client
    standins: str
    kept: Path

    def step(self) -> None:
        """Have a build fail if none has today. Raises ClientError when the service is away."""
        now, (day, count, began) = self.client.do(requests.shop()).now, self._read()
        if began is None:
            return self._write(day, count, now)
        if day == f"{now:%Y-%m-%d}" or (now - began).total_seconds() < 3600 * NOT_BEFORE_H:
            return None
        fit = [m for m in self.client.do(requests.machines()) if _fits(m)]
        watched = {m.machine for m in self.client.do(requests.watch_standing()).machines if m.watching}
        for machine in fit:
            if machine.name in watched and self._fail(machine.name, KINDS[count % len(KINDS)]):
                return self._write(f"{now:%Y-%m-%d}", count + 1, began)
        return None

    def _fail(self, machine: str, kind: str) -> bool:
        url = f"{self.standins}/machines/{machine}/faults/build-fails"
        try:
            return httpx.post(url, json={"text": kind}, timeout=5).is_success
        except httpx.HTTPError:
            return False

    def _read(self) -> tuple[str, int, datetime | None]:
        try:
            kept = json.loads(self.kept.read_text())
            return kept["day"], kept["count"], datetime.fromisoformat(kept["began"])
        except (OSError, ValueError, KeyError):
            return "", 0, None

    def _write(self, day: str, count: int, began: datetime) -> None:
        fresh = self.kept.with_suffix(".new")
        fresh.write_text(json.dumps({"day": day, "count": count, "began": began.isoformat()}))
        fresh.replace(self.kept)


def failing(standins: str, machine: str) -> bool:
    """Whether what lies on the bed of a machine has failed."""
    try:
        return bool(httpx.get(f"{standins}/machines/{machine}", timeout=5).json()["failing"])
    except (httpx.HTTPError, KeyError, ValueError):
        return False


def lifted_off(standins: str, machine: str) -> bool:
    """Whether something lay on the bed of a machine that should have been clear; it is lifted off."""
    try:
        lies = httpx.get(f"{standins}/machines/{machine}", timeout=5).json()["segments"] > 0
        if lies:
            httpx.post(f"{standins}/machines/{machine}/faults/heal", json={}, timeout=5)
        return bool(lies)
    except (httpx.HTTPError, KeyError, ValueError):
        return False


def _fits(machine: Machine) -> bool:
    b = machine.build
    least, most = SHARES
    return (
        machine.state is MachineState.BUILDING and b is not None and b.outcome is None
        and least <= (b.progress or 0) <= most and (b.remaining_s or 0) >= LEAST_LEFT_S
    )  # fmt: skip
