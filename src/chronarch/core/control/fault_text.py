"""What a machine says of a fault, over several lines, told once as one text."""

from __future__ import annotations

from chronarch.core.control.responses import FaultReported, Halted, OtherText, Response

FAULT_SETTLES_S, MOST_FAULT_LINES = 0.3, 8
"""A fault is told once so long has passed, with all that was said by then. A wish for a line makes it a complaint."""


class FaultText:
    def __init__(self) -> None:
        self.lines: list[str] = []
        self._stops = False
        self._at_s = 0.0

    def begin(self, answer: FaultReported | Halted, now_s: float) -> None:
        self.lines, self._at_s = [answer.text], now_s
        self._stops = isinstance(answer, Halted)

    def takes(self, answer: Response) -> bool:
        """Take more text of the fault that is being told, if this is any."""
        more = self.lines and isinstance(answer, OtherText | FaultReported | Halted)
        if not more or len(self.lines) >= MOST_FAULT_LINES:
            return False
        self.lines.append(answer.text)  # type: ignore[union-attr]
        self._stops |= isinstance(answer, Halted)
        return True

    def settled(self, now_s: float) -> bool:
        return bool(self.lines) and now_s - self._at_s >= FAULT_SETTLES_S

    def told(self) -> list[Response]:
        """The fault, if there is one; it is told no more."""
        if not self.lines:
            return []
        text = "; ".join(self.lines)
        self.lines = []
        return [Halted(text) if self._stops else FaultReported(text)]
