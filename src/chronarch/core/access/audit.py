"""The audit's chain: each entry is sealed together with the seal of the one before, so that a changed, a missing and a
moved one are found.

What is told of a person goes when they leave. So an entry is not sealed over what it tells, but over the hashes of it
(its salt is within): what it tells can be taken out, and the chain still holds.
"""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime

MOST_FAULTS = 50
"""Faults that a check tells one by one."""
NOTHING_BEFORE = "0" * 64


def digest_of(text: str) -> str:
    """The hash that stands for a text (SHA-256, in hexadecimal)."""
    return hashlib.sha256(text.encode()).hexdigest()


@dataclass(frozen=True)
class SealedEntry:
    """One entry as it is kept. `origin` and `told` are null where they have been taken out; their hashes stay."""

    number: int
    at: datetime
    who: str
    act: str
    status: int
    origin: str | None
    told: str | None
    origin_digest: str
    told_digest: str
    seal: str = ""


def seal_of(key: bytes, before: str, entry: SealedEntry) -> str:
    """The seal of an entry after one with the seal `before`: HMAC-SHA-256 (RFC 2104), in hexadecimal. Each field comes
    with its length, so that no two entries look alike."""
    fields = (
        before, str(entry.number), entry.at.astimezone(UTC).isoformat(timespec="microseconds"), entry.who, entry.act,
        str(entry.status), entry.origin_digest, entry.told_digest,
    )  # fmt: skip
    sealed = b"".join(len(one.encode()).to_bytes(4, "big") + one.encode() for one in fields)
    return hmac.new(key, sealed, hashlib.sha256).hexdigest()


def head_of(key: bytes, first: int, before_first: str, last: int, last_seal: str) -> str:
    """What seals where the chain begins and ends, so that entries cut off at either end are missed."""
    text = f"head {first} {before_first} {last} {last_seal}"
    return hmac.new(key, text.encode(), hashlib.sha256).hexdigest()


@dataclass
class ChainCheck:
    """Looks through a chain, entry by entry in the order of their numbers, from the one that is to be its first."""

    key: bytes
    first: int
    before: str
    """The seal of the entry before the first one."""
    entries: int = 0
    taken_out: int = 0
    """Entries of which something was taken out."""
    found: int = 0
    """Faults in all; `faults` tells the first of them."""
    faults: list[str] = field(default_factory=list)
    _next: int = field(init=False)

    def __post_init__(self) -> None:
        self._next = self.first

    def take(self, entries: Iterable[SealedEntry]) -> None:
        for entry in entries:
            self.entries += 1
            self.taken_out += entry.origin is None or entry.told is None
            for fault in self._faults_of(entry):
                self.fault(fault)
            self.before, self._next = entry.seal, entry.number + 1

    def end(self, last: int, last_seal: str) -> None:
        """Nothing comes any more; the chain is to end with this number and seal."""
        if self._next <= last:
            self.fault(_missing(self._next, last))
        elif self.before != last_seal:
            self.fault(f"Entry {last} is not the last one that was sealed.")

    def fault(self, text: str) -> None:
        self.found += 1
        if len(self.faults) < MOST_FAULTS:
            self.faults.append(text)

    def _faults_of(self, entry: SealedEntry) -> Iterator[str]:
        if entry.number > self._next:
            yield _missing(self._next, entry.number - 1)
        elif entry.number < self._next:
            yield f"Entry {entry.number} stands where none can be: the audit begins with entry {self.first}."
        for what, text, digest in (
            ("where it came from", entry.origin, entry.origin_digest), ("what it tells", entry.told, entry.told_digest)
        ):  # fmt: skip
            if text is not None and digest_of(text) != digest:
                yield f"Entry {entry.number} was changed: {what}."
        if entry.number == self._next and not hmac.compare_digest(seal_of(self.key, self.before, entry), entry.seal):
            yield f"Entry {entry.number} was changed, or is not the one that followed the entry before it."


def _missing(first: int, last: int) -> str:
    return f"Entry {first} is missing." if first == last else f"Entries {first} to {last} are missing."
