"""The engine, and bringing the tables up to date."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy.exc import DBAPIError, InterfaceError, OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from sqlalchemy.ext.asyncio import AsyncEngine, AsyncSession, async_sessionmaker, create_async_engine

from chronarch.records.change_log import LoggedSession, session_info

Sessions = async_sessionmaker[AsyncSession]
DEADLOCK = 1213
NOT_NOW = frozenset({1021, 1040, 1044, 1045, 1049, 1053, 1114, 1129, 1203, 1205, DEADLOCK, 1290, 1317, 1927, 1969})
"""Codes of MariaDB that say nothing about the request itself: full, stopping, locked, not let in, interrupted."""


def make_engine(url: str) -> AsyncEngine:
    """An engine that notices dead connections before it uses them, and fails soon when the server is away."""
    return create_async_engine(
        url,
        pool_pre_ping=True,
        pool_size=10,
        max_overflow=20,
        pool_timeout=10,
        pool_recycle=1800,
        isolation_level="READ COMMITTED",
        connect_args={"connect_timeout": 5},
    )


def make_sessions(engine: AsyncEngine, noticed: Callable[[], None] | None = None) -> Sessions:
    """Sessions that write the change log; `noticed` is called after each commit that did."""
    info = session_info(noticed)
    return async_sessionmaker(engine, expire_on_commit=False, sync_session_class=LoggedSession, info=info)


def deadlocked(error: DBAPIError) -> bool:
    """Whether two transactions waited for each other and the server undid this one: it may be tried again."""
    return bool(error.orig and error.orig.args and error.orig.args[0] == DEADLOCK)


def away(error: Exception) -> bool:
    """Whether the server is not there, or cannot do it now: the same request may succeed later. For other errors (a
    number that no column holds, a row that is not there) another try does not help."""
    if isinstance(error, InterfaceError | PoolTimeout):
        return True
    if not isinstance(error, OperationalError):
        return False
    code = error.orig.args[0] if error.orig and error.orig.args else 0
    return error.connection_invalidated or not isinstance(code, int) or code in NOT_NOW or 2000 <= code < 3000


def alembic_config(url: str) -> Config:
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.set_main_option("sqlalchemy.url", url.replace("+asyncmy", "+pymysql").replace("%", "%%"))
    return config


def migrate(url: str) -> None:
    """Bring the tables at `url` up to date."""
    command.upgrade(alembic_config(url), "head")
