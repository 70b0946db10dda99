"""Who comes first on the tender's computer: lines to machines before everything else, pictures after it."""

from __future__ import annotations

import contextlib
import os

FEEDING, PICTURES, LATER = -10, 5, 15
"""Nice values. Lines are urgent and few; pictures may wait, and logs have all the time there is."""


def feed_first() -> None:
    """Let this process come before others, where it is allowed to (root, or a service manager that grants it): its
    event loop in real time, which the kernel holds to 95 % of a core; what it starts runs as usual."""
    _nice(FEEDING)
    with contextlib.suppress(OSError, AttributeError):
        os.sched_setscheduler(0, os.SCHED_RR | os.SCHED_RESET_ON_FORK, os.sched_param(1))


def pictures() -> None:
    """Let this process come after others, but not starve."""
    _nice(PICTURES)


def yield_to_all() -> None:
    """Let this process run only when nothing else wants the processor, or seldom where that cannot be had."""
    _nice(LATER)
    with contextlib.suppress(OSError, AttributeError):
        os.sched_setscheduler(0, os.SCHED_IDLE, os.sched_param(0))


def _nice(value: int) -> None:
    with contextlib.suppress(OSError):
        os.setpriority(os.PRIO_PROCESS, 0, value)
