"""A shop in which there is nobody yet."""

from __future__ import annotations

from tests.support import processes
from tests.support.world import World


def without_people(world: World) -> str:
    """Start a world's service anew without anybody who could sign in; the code for the first."""
    world.kill("service")
    for table in ("session", "sign_in_place", "role_held", "person"):
        world.sql(f"delete from {table}")
    world.start_service()
    done = processes.run("service", "first-code", env=world.environment)
    assert done.returncode == 0, done.stderr
    return done.stdout.strip()
