"""What every transport is: bytes out, bytes in, and a call when the connection is gone."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

OnData = Callable[[bytes], None]
OnLost = Callable[[], None]


class Transport(Protocol):
    """An open connection to a machine."""

    def write(self, data: bytes) -> None: ...

    def close(self) -> None: ...
