"""The process that works on backups, beside the service: `python -m chronarch.service.system.backup.work`. It reads one
order from its standard input and says on its standard output, in lines of JSON, how far it is and what it came to."""

from __future__ import annotations

import ctypes
import fcntl
import os
import signal
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from pydantic import TypeAdapter
from sqlalchemy.exc import SQLAlchemyError

from chronarch.core.errors import CoreError
from chronarch.records.server import ServerFailed
from chronarch.service.system.backup.taking import take
from chronarch.service.system.backup.trying import try_backup
from chronarch.service.system.backup.work_messages import Failed, Going, Order, Taken, TakeOrder, Tried

NICE = 10
"""Feeding machines comes first, and it does not starve."""


def main() -> None:
    ctypes.CDLL(None).prctl(1, signal.SIGTERM)  # it ends with its parent
    os.nice(NICE)
    order: Order = TypeAdapter[Order](Order).validate_json(sys.stdin.readline())
    try:
        with alone(order.blobs if isinstance(order, TakeOrder) else order.scratch.parent):
            say(take(order, say) if isinstance(order, TakeOrder) else try_backup(order, say))
    except (CoreError, ServerFailed, OSError) as error:
        say(Failed(text=str(error)))
    except SQLAlchemyError as error:
        say(Failed(text=f"the database: {str(error).splitlines()[0]}"))


def say(line: Going | Taken | Tried | Failed) -> None:
    print(line.model_dump_json(), flush=True)


@contextmanager
def alone(folder: Path) -> Iterator[None]:
    """One works on a shop's backups at a time. Raises CoreError."""
    with (folder / "backup.lock").open("w") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            raise CoreError("Another backup, trial or restore is under way here; wait until it has ended.") from None
        yield


if __name__ == "__main__":
    main()
