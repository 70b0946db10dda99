"""How long to wait before something that failed is tried again."""

from __future__ import annotations

from collections.abc import Sequence


class Backoff:
    """Waits of `waits_s` seconds one after another, and then the last one for ever. After a try that lasted `lasting_s`
    seconds it starts with the first again."""

    def __init__(self, waits_s: Sequence[float], lasting_s: float) -> None:
        self._waits_s = waits_s
        self._lasting_s = lasting_s
        self._failed = 0

    def next_s(self, lasted_s: float) -> float:
        """How long to wait after a try that failed after `lasted_s` seconds."""
        if lasted_s >= self._lasting_s:
            self._failed = 0
        wait_s = self._waits_s[min(self._failed, len(self._waits_s) - 1)]
        self._failed += 1
        return wait_s
