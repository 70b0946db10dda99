"""Taking a received file into the library: under which name, where, and what follows."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Annotated

from fastapi import Response
from pydantic import BaseModel

from chronarch.core.gcode.decompress import plain_name
from chronarch.core.library.names import check_folder, check_name
from chronarch.core.machines.states import MachineState
from chronarch.service.context import ServiceContext, part
from chronarch.service.http.idempotency import Note, fingerprint, once
from chronarch.service.library.arrivals import answer_of
from chronarch.service.library.content_store import Received
from chronarch.service.library.intake import UploadIntake
from chronarch.service.machines.fleet import Fleet
from chronarch.service.machines.learned_paces import LearnedPaces
from chronarch.service.principals import Principal
from chronarch.service.problems import ApiProblem
from chronarch.wire import library as w

MOST_FETCHED = 8
"""How many files are fetched from addresses at once."""


@dataclass
class Dropping:
    """What every way in has in common."""

    context: ServiceContext
    fleet: Fleet
    paces: LearnedPaces
    intake: UploadIntake
    _fetching: int = 0

    @contextmanager
    def turn(self) -> Iterator[None]:
        """While a file is fetched for somebody. Raises ApiProblem (503) where too many are."""
        if self._fetching >= MOST_FETCHED:
            raise ApiProblem(503, f"{MOST_FETCHED} files are being fetched already; try again when one is here.")
        self._fetching += 1
        try:
            yield
        finally:
            self._fetching -= 1

    def check(self, wish: w.QueueWish | None) -> None:
        """Whether what is asked can follow now; the machine gets its name as the shop writes it. Raises ApiProblem
        (404, 409)."""
        if wish is None or not wish.machine:
            return
        known = self.fleet.find(wish.machine)
        wish.machine = known.row.name
        if wish.now and (known.row.state != MachineState.IDLE or known.brief is not None):
            raise ApiProblem(
                409, f"{known.row.name} is {known.row.state}, so nothing can begin there now. Queue it instead."
            )

    async def take(
        self, received: Received, name: str, asked: w.DropWish, who: Principal, key: str | None, patience: float
    ) -> Response:
        """Keep it and begin to read it; the answer says what came of it. Raises ApiProblem, BadName."""
        wish = asked.queued()
        try:
            folder = asked.folder
            if "/" in name and not folder:
                folder, _, name = name.rpartition("/")
            name, folder = check_name(plain_name(name) if received.packed else name), check_folder(folder)
            self.check(wish)
            queue = wish.model_dump() if wish is not None else None

            async def work(note: Note) -> tuple[int, BaseModel]:
                number = await self.intake.take(received, name, who.signature, note, folder=folder, queue=queue)
                return await resume(str(number))

            async def resume(number: str) -> tuple[int, BaseModel]:
                row = await self.intake.settled(int(number), patience)
                return await answer_of(self.context, self.paces, self.intake, row)

            same = fingerprint("drop", name, folder, wish.model_dump_json() if wish else "", received.sha256)
            return await once(self.context, who.identity, key, same, work, resume)
        finally:
            received.path.unlink(missing_ok=True)


TheDropping = Annotated[Dropping, part(Dropping)]
