"""How long a caller waits for an answer that takes a while (RFC 7240: `Prefer: wait=60`)."""

from __future__ import annotations

import re
from typing import Annotated

from fastapi import Depends, Header

from chronarch.core.bounds import Word

ANSWER_WITHIN_S, LONGEST_S = 20.0, 120.0
_WAIT = re.compile(r"\bwait\s*=\s*(\d{1,4})\b", re.IGNORECASE)


def _patience(prefer: Annotated[Word | None, Header()] = None) -> float:
    """Seconds."""
    found = _WAIT.search(prefer or "")
    return min(float(found[1]), LONGEST_S) if found else ANSWER_WITHIN_S


Patience = Annotated[float, Depends(_patience)]
