"""What one call to the service is, and what all calls share."""

from __future__ import annotations

import base64
import hashlib
import threading
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import cache
from pathlib import Path
from typing import Any, Generic, TypeVar
from urllib.parse import quote

import httpx
from pydantic import BaseModel, TypeAdapter, ValidationError

from chronarch.client.errors import RefusedByService
from chronarch.wire.common import Problem

T = TypeVar("T")
CHUNK = 1 << 20
MOST_ROWS = 1000
"""The most that a page of a list holds."""


@dataclass(frozen=True)
class Call(Generic[T]):
    """One request, and how to read its answer."""

    method: str
    path: str
    answer: Any
    params: dict[str, str] = field(default_factory=dict)
    body: Any = None
    """A model of the wire, or a dataclass of the core."""
    headers: dict[str, str] = field(default_factory=dict)
    content: bytes | None = None

    def page(self, most: int | None) -> Call[T]:
        """The same call for a list, for a page as large as may be."""
        return replace(self, params={**self.params, "limit": str(min(most or MOST_ROWS, MOST_ROWS))})

    def next(self, response: httpx.Response) -> Call[T] | None:
        """The call for the page after an answer's; None when it was the last."""
        url = response.links.get("next", {}).get("url")
        return replace(self, params=dict(httpx.URL(url).params)) if url else None

    def read(self, response: httpx.Response) -> T:
        """The answer's value. Raises RefusedByService for an error."""
        check(response)
        value: T = read_answer(self.answer, response)
        return value

    def arguments(self) -> dict[str, Any]:
        """The arguments of httpx's `request`."""
        arguments: dict[str, Any] = {"params": self.params, "headers": dict(self.headers)}
        if self.body is not None:
            model = isinstance(self.body, BaseModel)
            body = self.body.model_dump_json(exclude_unset=True) if model else _dumped(self.body)
            arguments["content"] = body
            arguments["headers"]["Content-Type"] = "application/json"
        elif self.content is not None:
            arguments["content"] = self.content
        return arguments


def _dumped(value: Any) -> bytes:
    """A dataclass of the core as JSON."""
    return _adapter(type(value)).dump_json(value, exclude_none=True)


def _adapter(kind: Any) -> TypeAdapter[Any]:
    """What reads and writes a kind; made by one thread at a time, because making it parses, which Python 3.11 cannot do
    in several."""
    with _making:
        return _made(kind)


_making = threading.Lock()


@cache
def _made(kind: Any) -> TypeAdapter[Any]:
    return TypeAdapter(kind)


def check(response: httpx.Response) -> None:
    """Raises RefusedByService when the answer is an error, whatever its form."""
    if not response.is_error:
        return
    try:
        problem = Problem.model_validate_json(response.content)
    except ValidationError:
        text = f"The service answered {response.status_code} {response.reason_phrase}."
        problem = Problem(title="Error", status=response.status_code, detail=text)
    raise RefusedByService(problem)


def read_answer(kind: Any, response: httpx.Response) -> Any:
    if kind is str:
        return response.text
    if kind is bytes:
        return response.content
    return _adapter(kind).validate_json(response.content)


def some(**values: Any) -> dict[str, str]:
    """The parameters of a call without those that are None; times as ISO 8601."""
    return {
        key.rstrip("_"): value.isoformat() if isinstance(value, datetime) else str(value)
        for key, value in values.items()
        if value is not None
    }


def digest(path: Path) -> str:
    """A file's Content-Digest header (RFC 9530)."""
    sha = hashlib.sha256()
    with path.open("rb") as source:
        while chunk := source.read(CHUNK):
            sha.update(chunk)
    return f"sha-256=:{base64.b64encode(sha.digest()).decode()}:"


def pieces(path: Path) -> Iterator[bytes]:
    """A file's bytes, a piece at a time."""
    with path.open("rb") as source:
        while chunk := source.read(CHUNK):
            yield chunk


def at(kind: str, which: int | str, *more: int | str) -> str:
    """A path of the API. What somebody typed is one part of it, whatever it contains."""
    return "/".join(["/api", kind, *(quote(str(x), safe="") for x in (which, *more))])
