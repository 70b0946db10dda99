"""A few commands that are sent between two lines of a file, or to a machine at rest: queries, adjustments, moves.

They are numbered and check-summed as a sequence of their own, so that they run once whatever the wire does, and the
file's own count is untouched.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from chronarch.core.control.responses import UNKNOWN


@dataclass
class InjectedCommands:
    """`said` is what the machine answered besides acknowledgements. `failed` says why they were not carried out to the
    end."""

    commands: tuple[bytes, ...]
    said: list[str] = field(default_factory=list)
    done: bool = False
    failed: str = ""

    @property
    def unknown(self) -> str:
        """What the machine said of a word that it does not know; empty when it knew all words."""
        return next((line for line in self.said if UNKNOWN.search(line)), "")

    @property
    def over(self) -> bool:
        return self.done or bool(self.failed)
