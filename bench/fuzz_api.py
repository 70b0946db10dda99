"""The whole API is tried with made-up requests, good and bad, by schemathesis: no answer may be a 5xx, of a status or
kind that the OpenAPI document does not name, or given to somebody without a key.

`python -m bench.fuzz_api [SECONDS]`
"""

from __future__ import annotations

import asyncio
import json
import os
import subprocess
import sys
import tempfile
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import select, update

from bench.fuzz_hooks import ITS_NUMBER
from chronarch.client import requests
from chronarch.core.access.rights import GivenRole
from chronarch.core.machines.states import Intake
from chronarch.demo.shop import PARTS
from chronarch.demo.slicer import slice_part
from chronarch.records import tables as t
from chronarch.records.database import make_engine, make_sessions
from chronarch.service.principals import key_row, new_secret
from chronarch.wire.library import NewPart
from chronarch.wire.machines.spools import NewSpool
from chronarch.wire.orders.jobs import NewJob
from chronarch.wire.orders.orders import NewOrder, NewOrderLine
from chronarch.wire.rounds import NewHelper
from tests.support.world import World, close_all

SECONDS = 300
CHECKS = (
    "not_a_server_error", "status_code_conformance", "content_type_conformance", "response_headers_conformance",
    "response_schema_conformance", "ignored_auth", "unsupported_method", "allow_header_conformance",
)  # fmt: skip
ENDLESS = "/api/live"
"""The one answer that has no end."""


async def _make_key(database: str) -> str:
    secret, engine = new_secret(), make_engine(database)
    async with make_sessions(engine)() as db:
        row = t.Key(id=ITS_NUMBER, **key_row("fuzzer", secret, GivenRole.MANAGER, datetime.now(UTC)))
        db.add(row)
        await db.execute(update(t.Key).where(t.Key.name == "tender").values(id=ITS_NUMBER + 1))
        await db.commit()
    await engine.dispose()
    return secret


async def _revoked(database: str) -> str:
    """Which of the keys that this needs were revoked in its course."""
    engine = make_engine(database)
    async with make_sessions(engine)() as db:
        query = select(t.Key.name).where(t.Key.id.in_((ITS_NUMBER, ITS_NUMBER + 1)), t.Key.revoked)
        found = ", ".join((await db.execute(query)).scalars())
    await engine.dispose()
    return found


def furnish(world: World) -> dict[str, list[object]]:
    """Give the shop something of everything; returns what its addresses may name."""
    client, names, hashes = world.client, [], []
    with tempfile.TemporaryDirectory() as folder:
        for part in PARTS[:3]:
            path = Path(folder) / f"{part.name}.gcode"
            path.write_text("".join(f"{line}\n" for line in slice_part(part)))
            file = client.add_file(path).file
            names.append(file.name)
            hashes.append(file.sha256)
    for name in names:
        client.do(requests.submit(NewJob(file=name, copies=20)))
    client.do(requests.add_part(NewPart(name="bobbin", files=[1])))
    for _ in range(2):
        client.do(
            requests.make_order(NewOrder(customer="Tern Island", lines=[NewOrderLine(file=names[0], quantity=3)]))
        )
    client.do(requests.add_spool(NewSpool(material="PLA", colour="teal")))
    client.do(requests.make_helper(NewHelper(name="Saturday help")))
    world.intake(Intake.OPEN)
    numbers = [1, 2, 3]
    return {
        "name": [*world.names, "Lantern 220", *names], "which": [1, *names, "bobbin"], "sha256": hashes,
        "number": numbers, "layer": numbers, "kind": ["png", "svg"],
    }  # fmt: skip


def main(seconds: int) -> int:
    world = World(("Anchor", "Fathom"))
    try:
        key = asyncio.run(_make_key(world.database))
        world.start()
        known = furnish(world)
        folder = tempfile.mkdtemp(prefix="chronarch-fuzz-")
        command = [
            str(Path(sys.executable).with_name("schemathesis")), "run", f"{world.address}/api/openapi.json",
            "-H", f"Authorization: Bearer {key}", "--max-time", str(seconds), "--request-timeout", "60",
            "--exclude-path", ENDLESS, "-c", ",".join(CHECKS), "--continue-on-failure", "--warnings", "off",
            "--no-color", "--generation-database", "none", *sys.argv[2:],
        ]  # fmt: skip
        hooks = {"SCHEMATHESIS_HOOKS": "bench.fuzz_hooks", "CHRONARCH_FUZZ_KNOWN": json.dumps(known)}
        environment = {**os.environ, **hooks, "PYTHONPATH": str(Path.cwd())}
        found = subprocess.run(command, env=environment, cwd=folder, timeout=seconds + 300, check=False)
        log = (world.folder / "service.log").read_text(errors="replace")
        failed = [line for line in log.splitlines() if line.endswith(" failed") and "ERROR" in line]
        print(f"what the service's log calls unforeseen: {len(failed)}", *failed[:20], sep="\n")
        lost = asyncio.run(_revoked(world.database))
        if lost:
            print(f"It has revoked keys that it needs itself ({lost}): what came after that says nothing.")
        if found.returncode:
            print("the tender's log ends:", world.log("tender"), sep="\n")
        return 1 if failed or lost else found.returncode
    finally:
        world.close()
        close_all()


if __name__ == "__main__":
    raise SystemExit(main(int(sys.argv[1]) if len(sys.argv) > 1 else SECONDS))
