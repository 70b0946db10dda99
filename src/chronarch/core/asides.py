"""A few commands slipped in between two of a file's lines, or given to a machine at rest: queries, adjustments, moves.

They go as a program of their own, numbered and check-summed, so that they run once whatever the wire does and never
upset the file's count.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from chronarch.core.answers import UNKNOWN


@dataclass
class Aside:
    """`said` is what the machine answered that was nothing else; `failed` says why it was not carried to its end."""

    commands: tuple[bytes, ...]
    said: list[str] = field(default_factory=list)
    done: bool = False
    failed: str = ""

    @property
    def unknown(self) -> str:
        """What the machine said of a word it does not know; empty when it knew all."""
        return next((line for line in self.said if UNKNOWN.search(line)), "")

    @property
    def over(self) -> bool:
        return self.done or bool(self.failed)
