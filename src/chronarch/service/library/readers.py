"""Work on file contents in processes of their own, off the event loop: unpacking, reading, drawing, editing."""

from __future__ import annotations

import multiprocessing
from pathlib import Path
from typing import Annotated, Any

from chronarch.core.gcode.contents import Layer, PrintedObject
from chronarch.core.gcode.edits import Edit
from chronarch.core.machines.model import MachineModel
from chronarch.service.context import part
from chronarch.service.process_pool import ProcessPool, allowed_s
from chronarch.wire import gcode as w

WORKERS, SLOTS = 2, 64
WORK = "chronarch.service.library.content_work"
"""The module with the work; only the workers load it."""


class ContentReaders:
    """A few workers for contents. Raises what the work raises, and NotDone when it takes too long or its worker
    dies."""

    def __init__(self) -> None:
        self._shares = multiprocessing.get_context("spawn").Array("d", SLOTS, lock=False)
        self._free = list(range(SLOTS))
        self._workers = ProcessPool(WORKERS, f"{WORK}:enter", self._shares)

    async def _run(self, work: str, path: Path, *arguments: Any, times: int = 1) -> Any:
        """Have something done with a file that may take `times` as long as a plain reading."""
        size = path.stat().st_size
        return await self._workers.run(f"{WORK}:{work}", path, *arguments, within_s=allowed_s(size * times))

    def slot(self) -> int:
        """A place for the progress of one reading; `release` gives it back."""
        slot = self._free.pop() if self._free else 0
        self._shares[slot] = 0.0
        return slot

    def release(self, slot: int) -> None:
        if slot not in self._free:
            self._free.append(slot)

    def share(self, slot: int) -> float:
        return float(self._shares[slot])

    async def unpack(self, path: Path, out: Path, largest: int) -> tuple[str, int]:
        """Unpack a file into `out`: its hash and size. Raises NotGcode, TooLarge."""
        found: tuple[str, int] = await self._run("unpack", path, out, largest)
        return found

    async def read(
        self, path: Path, derived: Path, models: dict[str, MachineModel], slot: int
    ) -> list[tuple[str, dict[str, Any], dict[str, Any]]]:
        """What a content says, for each model: name, figures, time plan. Raises NotGcode."""
        found: list[tuple[str, dict[str, Any], dict[str, Any]]] = await self._run(
            "read", path, derived, models, slot, times=len(models)
        )
        return found

    async def leave_out(
        self, path: Path, model: MachineModel, skips: list[tuple[str, int]], out: Path
    ) -> tuple[int, dict[str, Any], dict[str, Any]]:
        """The content without some objects, into `out`; see `content_work.leave_out`. Raises EditRefused."""
        found: tuple[int, dict[str, Any], dict[str, Any]] = await self._run(
            "leave_out", path, model, skips, out, times=1 + len(skips)
        )
        return found

    async def layer(self, path: Path, derived: Path, model: MachineModel, layer: int) -> bytes:
        found: bytes = await self._run("layer", path, derived, model, layer)
        return found

    async def table(self, path: Path, derived: Path, model: MachineModel) -> list[Layer]:
        found: list[Layer] = await self._run("table", path, derived, model)
        return found

    async def starts(self, path: Path, derived: Path, model: MachineModel) -> list[tuple[float, float, float]]:
        found: list[tuple[float, float, float]] = await self._run("starts", path, derived, model)
        return found

    async def shape(self, path: Path, derived: Path, model: MachineModel) -> bytes:
        found: bytes = await self._run("shape", path, derived, model)
        return found

    async def drawing(
        self,
        path: Path,
        derived: Path,
        model: MachineModel,
        layer: int | None,
        kind: str,
        title: str,
        objects: tuple[PrintedObject, ...],
    ) -> bytes:
        found: bytes = await self._run("drawing", path, derived, model, layer, kind, title, objects)
        return found

    async def preview(self, path: Path, model: MachineModel, edit: Edit, out: Path | None = None) -> w.EditPreview:
        """Raises EditRefused, NotGcode."""
        return w.EditPreview.model_validate(await self._run("preview", path, model, edit, out, times=3))

    async def difference(self, earlier: Path, later: Path, derived: Path, model: MachineModel) -> dict[str, Any]:
        found: dict[str, Any] = await self._run("difference", earlier, later, derived, model)
        return found

    async def text(self, path: Path, first: int, count: int) -> tuple[list[str], int]:
        found: tuple[list[str], int] = await self._run("text", path, first, count)
        return found

    async def solid(self, path: Path) -> dict[str, Any]:
        """Kind, size (mm) and number of triangles of a model. Raises NotAMesh."""
        found: dict[str, Any] = await self._run("solid", path)
        return found

    async def triangles(self, path: Path) -> bytes:
        found: bytes = await self._run("triangles", path)
        return found

    def close(self) -> None:
        self._workers.close()


TheContentReaders = Annotated[ContentReaders, part(ContentReaders)]
