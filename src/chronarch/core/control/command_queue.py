"""Commands that wait for a place between two lines of the file, and those being sent."""

from __future__ import annotations

from collections import deque

from chronarch.core.control.pending_actions import PendingAction


class CommandQueue:
    def __init__(self) -> None:
        self.waiting: deque[PendingAction] = deque()
        self.current: PendingAction | None = None

    @property
    def busy(self) -> bool:
        return self.current is not None or bool(self.waiting)

    @property
    def pending(self) -> list[PendingAction]:
        """All that is on its way, oldest first."""
        return [*([self.current] if self.current else []), *self.waiting]

    def drop(self, why: str) -> None:
        """None of them will be carried out."""
        for pending in self.pending:
            pending.injected.failed = why
        self.current = None
        self.waiting.clear()
