"""Makes a PDF of a report's page: HTML comes in, a PDF goes out. Runs by itself, because that takes a while and much
memory: `python -m chronarch.service.ledger.reporting.pdf`."""

from __future__ import annotations

import asyncio
import sys
from contextlib import suppress
from typing import Any

from chronarch.service.problems import ApiProblem

WITHIN_S = 120.0
_ROOM = asyncio.Semaphore(1)


async def made(page: str) -> bytes:
    """The page as a PDF. Raises ApiProblem (500) where that fails or takes too long."""
    async with _ROOM:
        process = await asyncio.create_subprocess_exec(
            sys.executable, "-m", __name__, stdin=asyncio.subprocess.PIPE, stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.PIPE,
        )  # fmt: skip
        try:
            async with asyncio.timeout(WITHIN_S):
                found, said = await process.communicate(page.encode())
        except TimeoutError:
            raise ApiProblem(
                500, f"The PDF was not made within {WITHIN_S:.0f} s; open the page and print it."
            ) from None
        finally:
            if process.returncode is None:
                with suppress(ProcessLookupError):
                    process.kill()
                await process.wait()
    if process.returncode:
        last = said.decode(errors="replace").strip().splitlines()[-1:] or [""]
        raise ApiProblem(500, f"The PDF could not be made ({last[0][:200]}); open the page and print it.")
    return found


def _nothing_outside(url: str, *arguments: Any, **more: Any) -> Any:
    raise ValueError(f"a report shows nothing from outside: {url[:100]}")


def main() -> None:
    from weasyprint import HTML  # takes long to load, and nobody else needs it

    page = sys.stdin.buffer.read().decode()
    sys.stdout.buffer.write(HTML(string=page, url_fetcher=_nothing_outside).write_pdf())


if __name__ == "__main__":
    main()
