"""Free TCP ports on loopback, each given to one process only.

A port that the kernel picks (bind to 0) is one that it may pick again for any outgoing connection before the server
that it was meant for listens on it. So ports are taken from outside the kernel's own range, and each is claimed for
as long as the asking process lives, by a Unix socket with the port's number in its (abstract) name: that leaves
nothing behind, whatever ends the process.
"""

from __future__ import annotations

import errno
import random
import socket
from itertools import islice
from pathlib import Path

_KERNELS_RANGE = Path("/proc/sys/net/ipv4/ip_local_port_range")
_LOWEST, _HIGHEST = 10_000, 65_535
_claims: list[socket.socket] = []


class NoFreePort(Exception):
    """Every port that may be given is in use."""


def candidates() -> list[int]:
    """The ports that may be given: those that the kernel gives to nobody by itself, or all where there are none."""
    first, last = map(int, _KERNELS_RANGE.read_text().split())
    return [*range(_LOWEST, first), *range(last + 1, _HIGHEST + 1)] or list(range(_LOWEST, _HIGHEST + 1))


def _claim(port: int) -> bool:
    """Claim the port for this process. False when another process has it or somebody uses it."""
    claim = socket.socket(socket.AF_UNIX)
    try:
        claim.bind(f"\0chronarch port {port}")
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", port))
    except OSError as error:
        claim.close()
        if error.errno != errno.EADDRINUSE:
            raise
        return False
    _claims.append(claim)
    return True


def free_ports(many: int) -> list[int]:
    """So many different ports that nobody uses and no other process was given. Raises NoFreePort."""
    order = candidates()
    random.shuffle(order)
    found = list(islice(filter(_claim, order), many))
    if len(found) < many:
        raise NoFreePort(f"Only {len(found)} of {many} ports on 127.0.0.1 are free. Stop other programs and try again.")
    return found


def free_port() -> int:
    """A port that nobody uses and no other process was given. Raises NoFreePort."""
    return free_ports(1)[0]
