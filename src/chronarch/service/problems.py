"""How a request is refused, from anywhere in the service."""

from __future__ import annotations

from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from chronarch.wire.common import faults_of


class ApiProblem(Exception):
    """A request that cannot be carried out; it is answered with problem details. `kind` is their type, where a program
    is to know what to do."""

    def __init__(self, status: int, detail: str, kind: str = "about:blank") -> None:
        super().__init__(detail)
        self.status, self.kind = status, kind


Sound = TypeVar("Sound", bound=BaseModel)


def sound(model: type[Sound], **fields: Any) -> Sound:
    """A model of the request together with what the records say. Raises ApiProblem (422) when they do not fit
    together."""
    try:
        return model(**fields)
    except ValidationError as error:
        raise ApiProblem(422, faults_of(error)) from None


class TooLateProblem(ApiProblem):
    """The request came too late for its moment. The same for a later moment may work."""
