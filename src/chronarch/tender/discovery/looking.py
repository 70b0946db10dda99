"""Has machines looked for, each time by a process of its own."""

from __future__ import annotations

import asyncio
import contextlib
import signal
import sys
from collections.abc import Awaitable, Callable

from pydantic import ValidationError

from chronarch.wire.machines.finding import Look, Looked

AT_ONCE = 4
SPARE_S = 30.0
"""So much longer than it was to take, a process may take: it starts, and finds the speed of a serial port."""
LETS_GO_WITHIN_S = 5.0
"""A process that is ended lets go of its machine, which then waits for no click any longer."""


class Looking:
    """Up to `AT_ONCE` at a time, and one at a link: the next takes the place of the one before."""

    def __init__(self) -> None:
        self._turns = asyncio.Semaphore(AT_ONCE)
        self._at: dict[str, Callable[[], Awaitable[None]]] = {}
        """How the look at a link is ended."""

    async def look(self, asked: Look) -> Looked:
        """What came of it."""
        if asked.kind != "find" and asked.link in self._at:
            await self._at[asked.link]()
        if self._turns.locked():
            return Looked(
                problem=f"{AT_ONCE} are looking already at this tender's computer; try again when they are done."
            )
        async with self._turns:
            process = await asyncio.create_subprocess_exec(
                sys.executable, "-m", "chronarch", "tender", "look",
                stdin=asyncio.subprocess.PIPE, stdout=asyncio.subprocess.PIPE, stderr=asyncio.subprocess.PIPE,
            )  # fmt: skip
            replaced = False

            async def give_way() -> None:
                nonlocal replaced
                replaced = True
                await _end(process)

            self._at[asked.link] = give_way
            try:
                async with asyncio.timeout(asked.within_s + SPARE_S):
                    said, wrong = await process.communicate(asked.model_dump_json().encode())
                return Looked.model_validate_json(said)
            except TimeoutError:
                return Looked(problem="Looking took too long, and was ended.")
            except ValidationError:
                if replaced:
                    return Looked(problem="Something else was asked of this machine meanwhile.")
                return Looked(problem=f"Looking failed: {wrong.decode(errors='replace').strip()[-300:]}")
            finally:
                if self._at.get(asked.link) is give_way:
                    del self._at[asked.link]
                await _end(process)


async def _end(process: asyncio.subprocess.Process) -> None:
    """First by an interrupt, at which it lets go of its machine."""
    for how, within_s in ((signal.SIGINT, LETS_GO_WITHIN_S), (signal.SIGKILL, None)):
        with contextlib.suppress(ProcessLookupError, TimeoutError):
            process.send_signal(how)
            async with asyncio.timeout(within_s):
                await process.wait()
        if process.returncode is not None:
            return
