"""One build whose tender lives by a clock that somebody keeps setting."""

from __future__ import annotations

import asyncio
import hashlib
import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path

from chronarch.core.clock import ScaledClock, SteadyWall
from chronarch.core.control.events import BuildEnded, ControlEvent
from chronarch.core.gcode.analysis import analyse
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState
from chronarch.standins.machine import MachineStandin, Setup
from chronarch.tender.checkpoints import CheckpointStore
from chronarch.tender.controllers.driver import DriverContext
from chronarch.tender.controllers.streaming_driver import StreamingDriver
from chronarch.wire.control.upstream import MachineConfig, OpenBuild
from chronarch.wire.gcode import WirePlan
from tests.support.gcode import commands, executed_sha256, squares
from tests.tender.controllers.test_streaming_driver import OwnStore

TEXT = squares(layers=8, rounds=20, feed=3000, nozzle=205, bed=60)
RATE = 200.0
HOUR = 3600.0


async def jumping_build(jumps: int) -> tuple[int, list[ControlEvent]]:
    """Jumps made, and all that was told of the build."""
    set_by = 0.0
    told: list[ControlEvent] = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        wall = SteadyWall(lambda: time.time() + set_by)
        clock = ScaledClock(datetime.now(UTC), datetime(2026, 10, 19, 9, tzinfo=UTC), RATE, wall)
        store = OwnStore(folder)
        store.path.write_text(TEXT)
        machine = MachineStandin(Setup("Anchor", rate=RATE))
        await machine.start()
        around = DriverContext(
            "t", clock, store, CheckpointStore(folder / "kept"), lambda name, at, what: told.append(what)
        )  # type: ignore[arg-type]
        plan = WirePlan.of(analyse(TEXT.encode(), MachineModel(name="m")).plan)
        sha256 = hashlib.sha256(TEXT.encode()).hexdigest()
        order = OpenBuild(build=7, sha256=sha256, size=1, file="f", job=1, copy_number=1, plan=plan)
        address = f"tcp://127.0.0.1:{machine.port}"
        config = MachineConfig(machine="Anchor", link=address, model=MachineModel(name="m"), state=MachineState.IDLE)
        link = StreamingDriver(config, around)
        task = asyncio.create_task(link.run())
        try:
            link.assign(config.model_copy(update={"order": order}))
            made = 0
            async with asyncio.timeout(120):
                while not any(isinstance(what, BuildEnded) for what in told):
                    if made < jumps and len(machine.record.commands) > made * len(commands(TEXT)) / jumps:
                        made += 1
                        set_by = HOUR if set_by <= 0 else -HOUR
                    await asyncio.sleep(0.01)
            assert machine.record.sha256 == executed_sha256(TEXT), "the machine ran the file exactly"
        finally:
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)
            await machine.stop()
    return made, told
