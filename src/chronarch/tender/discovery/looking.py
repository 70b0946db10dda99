"""Has machines looked for, each time by a process of its own."""

from __future__ import annotations

import asyncio
import contextlib
import sys

from pydantic import ValidationError

from chronarch.wire.machines.finding import Look, Looked

AT_ONCE = 4
SPARE_S = 30.0
"""So much longer than it was to take, a process may take: it starts, and finds the speed of a serial port."""


class Looking:
    """Up to `AT_ONCE` at a time."""

    def __init__(self) -> None:
        self._turns = asyncio.Semaphore(AT_ONCE)

    async def look(self, asked: Look) -> Looked:
        """What came of it."""
        if self._turns.locked():
            return Looked(
                problem=f"{AT_ONCE} are looking already at this tender's computer; try again when they are done."
            )
        async with self._turns:
            process = await asyncio.create_subprocess_exec(
                sys.executable, "-m", "chronarch", "tender", "look",
                stdin=asyncio.subprocess.PIPE, stdout=asyncio.subprocess.PIPE, stderr=asyncio.subprocess.PIPE,
            )  # fmt: skip
            try:
                async with asyncio.timeout(asked.within_s + SPARE_S):
                    said, wrong = await process.communicate(asked.model_dump_json().encode())
                return Looked.model_validate_json(said)
            except TimeoutError:
                return Looked(problem="Looking took too long, and was ended.")
            except ValidationError:
                return Looked(problem=f"Looking failed: {wrong.decode(errors='replace').strip()[-300:]}")
            finally:
                with contextlib.suppress(ProcessLookupError):
                    process.kill()
                await process.wait()
