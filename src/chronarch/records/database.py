"""The engine, and bringing the tables up to date."""

from __future__ import annotations

from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy.exc import DBAPIError
from sqlalchemy.ext.asyncio import AsyncEngine, AsyncSession, async_sessionmaker, create_async_engine

Sessions = async_sessionmaker[AsyncSession]
DEADLOCK = 1213


def make_engine(url: str) -> AsyncEngine:
    """An engine that notices dead connections before using them and answers soon when the server is away."""
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


def make_sessions(engine: AsyncEngine) -> Sessions:
    return async_sessionmaker(engine, expire_on_commit=False)


def deadlocked(error: DBAPIError) -> bool:
    """Whether two transactions waited for each other and the server undid this one: it may be tried again."""
    return bool(error.orig and error.orig.args and error.orig.args[0] == DEADLOCK)


def alembic_config(url: str) -> Config:
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.set_main_option("sqlalchemy.url", url.replace("+asyncmy", "+pymysql").replace("%", "%%"))
    return config


def migrate(url: str) -> None:
    """Bring the tables at `url` up to date."""
    command.upgrade(alembic_config(url), "head")
