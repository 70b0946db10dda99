"""All machines as they are now: what is asked for most often of all."""

from __future__ import annotations

from dataclasses import dataclass

from fastapi import Request, Response

from chronarch.service.changes import Changes
from chronarch.service.http.views import Views
from chronarch.service.machines.fleet import Fleet


@dataclass
class MachineList:
    """Keeps the list, put together from what each machine's last change has made of it."""

    changes: Changes
    fleet: Fleet
    views: Views

    async def answer(self, request: Request) -> Response:
        return await self.views.show(request, self._make, self.changes.version("machine"))

    async def _make(self) -> bytes:
        return f"[{','.join(known.shown for known in self.fleet.all())}]".encode()
