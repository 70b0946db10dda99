"""The lines that are outstanding, by their lengths: one, or as many as the machine buffers."""

from __future__ import annotations

from collections import deque


class SendWindow:
    """`most_bytes` is how much may be outstanding; 0 for one line."""

    def __init__(self, most_bytes: int) -> None:
        self.most_bytes = most_bytes
        self._lengths: deque[int] = deque()
        self._bytes = 0

    @property
    def room(self) -> bool:
        """Whether one more line may be outstanding. The exact length of a line is not known before it is made, so the
        longest of those outstanding stands for it."""
        if not self._lengths:
            return True
        return bool(self.most_bytes) and self._bytes + max(self._lengths) <= self.most_bytes

    def add(self, length: int) -> None:
        self._lengths.append(length)
        self._bytes += length

    def taken(self, count: int) -> None:
        for _ in range(min(count, len(self._lengths))):
            self._bytes -= self._lengths.popleft()

    def clear(self) -> None:
        self._lengths.clear()
        self._bytes = 0
