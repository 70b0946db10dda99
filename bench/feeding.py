"""How fast lines are fed to one machine, as a ratio to a bare echo of the same bytes on the same machine.

Both talk over TCP on loopback, one line outstanding at a time, in two processes. The limit sends each line as the link
would, numbered and check-summed, and waits for three bytes to come back; the measured run feeds a stand-in through the
tender's own link. Run it with `make bench`.
"""

from __future__ import annotations

import asyncio
import multiprocessing
import statistics
import time

from chronarch.core.line_link import Acknowledged, Finished, LineLink, Steps, numbered
from chronarch.standins.machine import MachineStandin, Setup

LINES = 10_000
ROUNDS = 3


def program(lines: int) -> Steps:
    """Short moves that a machine with a quick clock never has to wait for."""
    return Steps(tuple(b"G1 X%.3f Y%.3f E%.5f F18000" % (100 + n % 7, 100 + n % 5, n * 0.01) for n in range(lines)))


def _serve(kind: str, port: multiprocessing.Queue[int]) -> None:
    asyncio.run(_echo(port) if kind == "echo" else _standin(port))


async def _echo(port: multiprocessing.Queue[int]) -> None:
    async def answer(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        while await reader.readline():
            writer.write(b"ok\n")

    server = await asyncio.start_server(answer, "127.0.0.1", 0)
    port.put(server.sockets[0].getsockname()[1])
    await server.serve_forever()


async def _standin(port: multiprocessing.Queue[int]) -> None:
    machine = MachineStandin(Setup("Anchor", rate=1000))
    await machine.start()
    port.put(machine.port)
    await asyncio.Event().wait()


async def bare(port: int, lines: int) -> float:
    """Lines a second of the limit."""
    reader, writer = await asyncio.open_connection("127.0.0.1", port)
    steps = program(lines)
    began = time.perf_counter()
    for n in range(lines):
        writer.write(numbered(n + 1, steps.command(n)))
        await reader.readline()
    rate = lines / (time.perf_counter() - began)
    writer.close()
    return rate


async def fed(port: int, lines: int) -> tuple[float, list[float]]:
    """Lines a second through the link, and each line's seconds from one acknowledgement to the next."""
    reader, writer = await asyncio.open_connection("127.0.0.1", port)
    link = LineLink()
    link.connected()
    link.load(program(lines), own=False)
    gaps: list[float] = []
    last = began = time.perf_counter()
    while True:
        writer.write(link.outgoing())
        events = link.receive(await reader.read(65536), time.monotonic())
        now = time.perf_counter()
        for event in events:
            if isinstance(event, Acknowledged):
                gaps.append(now - last)
                last = now
        if len(gaps) >= lines or any(isinstance(e, Finished) for e in events):
            break
    rate = lines / (now - began)
    writer.close()
    return rate, gaps


def main() -> None:
    context = multiprocessing.get_context("spawn")
    rates: dict[str, list[float]] = {"echo": [], "fed": []}
    gaps: list[float] = []
    for _ in range(ROUNDS):
        for kind in ("echo", "standin"):
            ports: multiprocessing.Queue[int] = context.Queue()
            server = context.Process(target=_serve, args=(kind, ports), daemon=True)
            server.start()
            port = ports.get(timeout=20)
            if kind == "echo":
                rates["echo"].append(asyncio.run(bare(port, LINES)))
            else:
                rate, found = asyncio.run(fed(port, LINES))
                rates["fed"].append(rate)
                gaps += found
            server.terminate()
            server.join()
    limit, measured = statistics.median(rates["echo"]), statistics.median(rates["fed"])
    gaps.sort()
    print(f"bare echo  {limit:8.0f} lines/s  (median of {ROUNDS}, {LINES} lines each)")
    print(
        f"fed        {measured:8.0f} lines/s  99th percentile between lines {gaps[int(len(gaps) * 0.99)] * 1000:.2f} ms"
    )
    print(f"ratio      {measured / limit:8.2f}")


if __name__ == "__main__":
    main()
