"""What goes to a machine that runs files itself: orders, which are sent again until answered, and a file in pieces.

docs/protocols/store-and-run.yaml describes the messages. Orders carry an id, and the machine does each once. A file is
offered by its hash and sent in pieces from where the machine says it has come to, so a cut costs nothing but the piece
on its way; a build starts only once the machine says that what it has makes the hash.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass
from typing import Any, Protocol

from chronarch.core.control.actions import Action
from chronarch.core.control.controlled_machine import ControlledMachine
from chronarch.core.control.injected_commands import InjectedCommands
from chronarch.core.control.pending_actions import PendingAction

PIECE = 64 * 1024
AHEAD = 8 * PIECE
"""How many bytes may be on their way beyond what the machine says it has."""

AGAIN_S = 2.0
SUSPECT_S = 10.0
MOST_DAMAGED = 3


class StoredContent(Protocol):
    """A file whose bytes can be had piece by piece."""

    @property
    def size(self) -> int: ...

    def piece(self, offset: int, length: int) -> bytes: ...


@dataclass(frozen=True)
class StoredFileMessage:
    """One message: its topic below the machine's own; a body of JSON, or a piece of a file with its place."""

    topic: str
    body: dict[str, Any] | None = None
    piece: bytes = b""
    sha256: str = ""
    offset: int = 0


@dataclass
class PendingOrder:
    """An order that waits for its answer."""

    body: dict[str, Any]
    sent_s: float
    pending: PendingAction


class Orders:
    """Orders to one machine. `prefix` makes their ids unlike those of any earlier tender."""

    def __init__(self, machine: ControlledMachine, prefix: str) -> None:
        self._machine = machine
        self._prefix = prefix
        self._number = 0
        self._waiting: dict[str, PendingOrder] = {}
        self.out: deque[StoredFileMessage] = deque()
        self.here = False
        """Whether the machine is there, so that an order reaches it."""

    def __bool__(self) -> bool:
        return bool(self._waiting)

    @property
    def pending(self) -> list[PendingAction]:
        return [order.pending for order in self._waiting.values()]

    @property
    def suspect(self) -> bool:
        now_s = self._machine.moment.real_s if self._machine.moment else 0.0
        return any(now_s - order.sent_s > SUSPECT_S for order in self._waiting.values())

    def message(self, **body: Any) -> StoredFileMessage:
        """A message that waits for no answer."""
        self._number += 1
        return StoredFileMessage("order", {"id": f"{self._prefix}-{self._number}", **body})

    def give(self, action: Action | None = None, by: str = "", **body: Any) -> InjectedCommands:
        message = self.message(**body)
        assert message.body is not None
        order = PendingOrder(message.body, self._machine.now().real_s, PendingAction(InjectedCommands(()), action, by))
        self._waiting[order.body["id"]] = order
        if self.here:
            self._send(order)
        return order.pending.injected

    def _send(self, order: PendingOrder) -> None:
        self.out.append(StoredFileMessage("order", order.body))
        order.sent_s = self._machine.now().real_s

    def send_again(self, after_s: float = 0.0) -> None:
        """Send what has waited so long for its answer."""
        for order in self._waiting.values():
            if self._machine.now().real_s - order.sent_s >= after_s:
                self._send(order)

    def answered(self, number: str) -> PendingOrder | None:
        return self._waiting.pop(number, None)

    def drop(self, why: str) -> None:
        for order in self._waiting.values():
            order.pending.injected.failed = why
        self._waiting.clear()


class FileTransfer:
    """Brings the file of the build under way to the machine."""

    def __init__(self, machine: ControlledMachine, orders: Orders) -> None:
        self._machine = machine
        self._orders = orders
        self._have = 0
        self._sent_to = 0
        self._heard_s = 0.0
        self.damaged = 0

    def _content(self) -> StoredContent:
        program: Any = self._machine.the_spec().program
        stored: StoredContent = program
        return stored

    @property
    def share(self) -> float:
        """How much of the file the machine has."""
        return self._have / max(1, self._content().size)

    def begin(self) -> None:
        self._have = self.damaged = 0

    def offer(self, after_s: float = 0.0) -> None:
        """Offer the file, if nothing was heard of it for so long."""
        now_s = self._machine.now().real_s
        if after_s and now_s - self._heard_s < after_s:
            return
        self._heard_s = now_s
        if self._orders.here:
            sha256, size = self._machine.the_spec().sha256, self._content().size
            self._orders.out.append(self._orders.message(do="offer", sha256=sha256, bytes=size))

    def told(self, body: dict[str, Any]) -> bool:
        """The machine says how much of the file it has. Returns whether it has the whole file; else sends on."""
        self._heard_s = self._machine.now().real_s
        content, sha256 = self._content(), self._machine.the_spec().sha256
        self._have = min(int(body["bytes"]), content.size)
        if body.get("damaged"):
            self.damaged += 1
        if body.get("whole") or self.damaged >= MOST_DAMAGED:
            return bool(body.get("whole"))
        if body.get("offered") or self._sent_to < self._have or body.get("damaged"):
            self._sent_to = self._have
        while self._sent_to < min(content.size, self._have + AHEAD):
            piece = content.piece(self._sent_to, PIECE)
            self._orders.out.append(StoredFileMessage("piece", None, piece, sha256, self._sent_to))
            self._sent_to += len(piece)
        return False
