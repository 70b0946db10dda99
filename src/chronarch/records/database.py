"""The engine, and bringing the tables up to date."""

from __future__ import annotations

from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Engine, create_engine
from sqlalchemy.ext.asyncio import AsyncEngine, AsyncSession, async_sessionmaker, create_async_engine

from chronarch.records import tables
from chronarch.records.change_log import LoggedSession, Noticed, session_info
from chronarch.records.orders.open_jobs import keep_open_jobs

keep_open_jobs(LoggedSession)
TABLES = tables.Base.metadata.tables
"""All of them: whoever opens a session knows what any table refers to."""
SESSION = "set group_concat_max_len = 1073741824, in_predicate_conversion_threshold = 0"
"""Texts of whole ledgers are not cut; a list of a thousand machines is looked up in an index like one of ten."""
Sessions = async_sessionmaker[AsyncSession]


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
        connect_args={"connect_timeout": 5, "init_command": SESSION},
    )


def make_sessions(engine: AsyncEngine, noticed: Noticed | None = None) -> Sessions:
    """Sessions that write the change log; `noticed` hears of what each commit wrote to it."""
    info = session_info(noticed)
    return async_sessionmaker(engine, expire_on_commit=False, sync_session_class=LoggedSession, info=info)


def alembic_config(url: str) -> Config:
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.set_main_option("sqlalchemy.url", _blocking(url).replace("%", "%%"))
    return config


def _blocking(url: str) -> str:
    """The same database through the driver that waits."""
    return url.replace("+asyncmy", "+pymysql")


def blocking_engine(url: str) -> Engine:
    """An engine for one thing done at a start or in a process of its own."""
    return create_engine(_blocking(url), connect_args={"connect_timeout": 5})


def head_revision() -> str:
    """The revision that tables of this version have."""
    return ScriptDirectory.from_config(alembic_config("mysql+pymysql://")).get_current_head() or ""


def known_revision(revision: str) -> bool:
    """Whether this version knows how tables of a revision are brought up to date."""
    script = ScriptDirectory.from_config(alembic_config("mysql+pymysql://"))
    return revision in {one.revision for one in script.walk_revisions()}


def revision_of(url: str) -> str:
    """The revision that the tables at `url` have; empty where there are none."""
    engine = blocking_engine(url)
    try:
        with engine.connect() as connection:
            return MigrationContext.configure(connection).get_current_revision() or ""
    finally:
        engine.dispose()


def migrate(url: str) -> None:
    """Bring the tables at `url` up to date."""
    command.upgrade(alembic_config(url), "head")
