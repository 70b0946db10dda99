"""Who may do what: sign-in and keys."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

from pydantic import Field

from chronarch.wire.common import COMPOSED, Time, Wire


class Scope(StrEnum):
    """What a key or a person may do: read; operate (everything a person at the machines does); maintain (operate, and
    also send lines and run guarded sequences); or speak as a tender."""

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


class FirstStanding(Wire):
    """Whether a shop waits for its first person."""

    open: bool


class FirstPerson(Wire):
    """Who sets up a shop in which there is nobody yet. `code`: what the service's computer shows."""

    code: str = Field(max_length=40, examples=["K7QM-2D9F-H4XW"])
    login: Annotated[str, COMPOSED] = Field(min_length=1, max_length=120, examples=["maud"])
    name: Annotated[str, COMPOSED] = Field(default="", max_length=120, examples=["Maud"])
    password: str = Field(max_length=400, examples=["an example password"])


class PersonShown(Wire):
    """Somebody who can sign in."""

    login: str
    name: str
    """What they are called; also their signature in the records."""
    scope: Scope
    here_at: Time | None = None
    """When they last looked, shop time."""


class NewKey(Wire):
    name: str = Field(min_length=1, max_length=80, examples=["evening script"])
    scope: Scope = Scope.OPERATE


class Key(Wire):
    id: int
    name: str
    scope: Scope
    created_at: Time
    revoked: bool
    tender: str = ""
    """For the key of a tender: the tender that it is bound to since its first greeting."""


class CreatedKey(Key):
    secret: str
    """Shown this once; the service keeps only its hash."""
