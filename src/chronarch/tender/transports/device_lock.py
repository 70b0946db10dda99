"""Whoever opens a way to a machine locks its device. A second one on this computer is refused and told who has it."""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import json
import os
import tempfile
from collections.abc import Iterator
from pathlib import Path

from chronarch.core.machines.address import Address


class DeviceInUse(OSError):
    """The device is in use; the message says by whom."""


@contextlib.contextmanager
def hold(address: Address, holder: str) -> Iterator[None]:
    """Hold the device behind an address for `holder`. Raises DeviceInUse."""
    folder = Path(tempfile.gettempdir()) / f"chronarch-links-{os.getuid()}"
    folder.mkdir(mode=0o700, exist_ok=True)
    device = address.device_key
    if address.device:
        device = f"serial:{Path(address.device).resolve()}"  # two names of one port mean one device
    path = folder / hashlib.sha256(device.encode()).hexdigest()[:24]
    with path.open("a+") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            file.seek(0)
            with contextlib.suppress(ValueError):
                raise DeviceInUse(f"{address.shown} is held by {json.loads(file.read())['holder']}") from None
            raise DeviceInUse(f"{address.shown} is held by another link") from None
        file.truncate(0)
        file.write(json.dumps({"holder": holder}))
        file.flush()
        yield
