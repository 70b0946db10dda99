"""What a call can raise.

ClientError
├── WrongAccess        nothing was asked: the address or the key cannot be one
├── Unreachable        no answer: the service is away, or the address is wrong
└── RefusedByService   the service answered with a problem; `problem` holds it
"""

from __future__ import annotations

from chronarch.wire.common import UNSURE, Problem


class ClientError(Exception):
    """The root of all below; its text is one sentence with what to do."""


class WrongAccess(ClientError):
    """The address or the key cannot be one; says which, and what they look like."""


class Unreachable(ClientError):
    """The service gave no answer."""


class RefusedByService(ClientError):
    """The service refused; `problem` says why."""

    def __init__(self, problem: Problem) -> None:
        super().__init__(problem.detail)
        self.problem = problem

    @property
    def unsure(self) -> bool:
        """The service wants to know that this is meant; the same call with `sure` is carried out."""
        return self.problem.type == UNSURE
