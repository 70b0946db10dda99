"""The parts that run on a shop's computer: one table, from which systemd's units are written, and by which the same are
started where there is no systemd."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class InstalledPart:
    """One process. `words`: the command; `after`: the parts that it needs; `groups` and `devices`: what it may open;
    `families`: the kinds of sockets that it opens; `nice`: who comes first."""

    name: str
    says: str
    words: tuple[str, ...]
    after: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    devices: tuple[str, ...] = ()
    families: tuple[str, ...] = ("AF_INET", "AF_INET6", "AF_UNIX", "AF_NETLINK")
    nice: int = 0


DATABASE = InstalledPart(
    "database", "the database of the records", ("database", "run"), families=("AF_INET", "AF_UNIX")
)
SERVICE = InstalledPart("service", "records, decisions and the console", ("service", "run"), after=("database",))
TENDER = InstalledPart(
    "tender", "minds the machines", ("tender", "run"), groups=("dialout", "video"),
    devices=("char-ttyUSB rw", "char-ttyACM rw", "char-ttyS rw", "char-video4linux rw"), nice=-10,
)  # fmt: skip


def parts(own_database: bool) -> tuple[InstalledPart, ...]:
    """All that run, in the order in which they start."""
    return (DATABASE, SERVICE, TENDER) if own_database else (SERVICE, TENDER)
