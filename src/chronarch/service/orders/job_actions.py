"""What can be done with jobs in the queue, by name."""

from __future__ import annotations

from collections.abc import Callable

from chronarch.records import tables as t

BATCH: dict[str, Callable[[t.Job], None]] = {
    "hold": lambda j: setattr(j, "held", True),
    "release": lambda j: setattr(j, "held", False),
    "withdraw": lambda j: setattr(j, "withdrawn", True),
    "top": lambda j: setattr(j, "top", True),
    "untop": lambda j: setattr(j, "top", False),
}
