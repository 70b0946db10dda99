"""How the processes that run for long log: to standard error, in plain characters."""

from __future__ import annotations

import faulthandler
import logging

from chronarch.core.plain import plain

QUIET = ("alembic", "httpx", "uvicorn")


class _Plain(logging.Formatter):
    def format(self, record: logging.LogRecord) -> str:
        return plain(super().format(record))


def begin_logging() -> None:
    """Log what is worth knowing; of others' libraries only warnings. A process that dies of a fault in a library's
    machine code says where each of its threads was."""
    faulthandler.enable()
    handler = logging.StreamHandler()
    handler.setFormatter(_Plain("%(asctime)s %(name)s %(levelname)s %(message)s"))
    logging.basicConfig(level=logging.INFO, handlers=[handler])
    for name in QUIET:
        logging.getLogger(name).setLevel(logging.WARNING)
