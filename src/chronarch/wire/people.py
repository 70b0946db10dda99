"""Sign-in, people and keys."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

from pydantic import Field

from chronarch.wire.common import COMPOSED, Time, Wire


class Scope(StrEnum):
    """What a key or a person may do: read, operate (all a person at the machines does), maintain (that, and what
    reaches deeper: sending lines, guarded sequences), or speak as a tender."""

    READ = "read"
    OPERATE = "operate"
    MAINTAIN = "maintain"
    TENDER = "tender"


class SignIn(Wire):
    login: Annotated[str, COMPOSED] = Field(max_length=120, examples=["maud"])
    password: str = Field(max_length=400, examples=["an example password"])


class Me(Wire):
    """Who is asking."""

    name: str
    scope: Scope
    csrf: str = ""
    """To be sent back as X-CSRF-Token with every change made with the session cookie."""


class KeyOrder(Wire):
    name: str = Field(min_length=1, max_length=80, examples=["evening script"])
    scope: Scope = Scope.OPERATE


class Key(Wire):
    id: int
    name: str
    scope: Scope
    created_at: Time
    revoked: bool
    tender: str = ""
    """Of a tender's key: the tender it is bound to, from its first greeting on."""


class NewKey(Key):
    secret: str
    """Shown this once; the service keeps only its hash."""


class Shop(Wire):
    """The time the shop lives in, and what it calls itself."""

    name: str
    now: Time
    rate: float
    """Shop seconds in one real second; 1 in a real shop."""
