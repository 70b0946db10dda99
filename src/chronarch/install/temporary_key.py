"""A key of the service for a moment: who may read the records past the service may also ask it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from sqlalchemy import Engine, delete, insert

from chronarch.core.access.rights import GivenRole
from chronarch.core.clock import real_clock
from chronarch.records import tables as t
from chronarch.service.principals import hash_secret, key_row, new_secret


@contextmanager
def temporary_key(engine: Engine, role: str = GivenRole.MANAGER) -> Iterator[str]:
    """A key that is gone afterwards."""
    secret = new_secret()
    row = key_row("doctor", secret, role, real_clock().real_now())
    with engine.begin() as db:
        db.execute(insert(t.Key).values(**row, revoked=False))
    try:
        yield secret
    finally:
        with engine.begin() as db:
            db.execute(delete(t.Key).where(t.Key.secret_hash == hash_secret(secret)))
