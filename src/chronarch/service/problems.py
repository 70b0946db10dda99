"""Errors as the service answers them: RFC 9457 problem details."""

from __future__ import annotations

import logging
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from sqlalchemy.exc import InterfaceError, OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from starlette.exceptions import HTTPException

from chronarch.core.errors import CoreError
from chronarch.core.hands import Unsure
from chronarch.records.database import deadlocked
from chronarch.wire.common import UNSURE, Problem

TITLES = {
    400: "Bad request",
    401: "Not signed in",
    403: "Not allowed",
    404: "Not found",
    405: "Not possible here",
    409: "In conflict with what is so now",
    412: "Changed meanwhile",
    411: "Length or body missing",
    413: "Too large",
    415: "Wrong kind of content",
    422: "Not understood",
    429: "Too many tries",
    503: "Not available now",
}

ANSWERS: dict[int | str, dict[str, Any]] = {
    "4XX": {"model": Problem, "description": "What was wrong and what to do."},
}
"""For routes' `responses`, so that the OpenAPI document shows problems."""

log = logging.getLogger("chronarch.service")


class Refused(Exception):
    """A request that cannot be carried out; answered as a problem."""

    def __init__(self, status: int, detail: str) -> None:
        super().__init__(detail)
        self.status = status


class Late(Refused):
    """What was asked for came after the moment it was for; the same for a later moment may do."""


def problem(
    status: int, detail: str, errors: list[str] | None = None, retry_after_s: int = 0, type_: str = "about:blank"
) -> JSONResponse:
    body = Problem(type=type_, title=TITLES.get(status, "Error"), status=status, detail=detail, errors=errors or [])
    headers = {"Retry-After": str(retry_after_s)} if retry_after_s else None
    return JSONResponse(body.model_dump(), status, media_type="application/problem+json", headers=headers)


def install(app: FastAPI) -> None:
    """Make every error of `app` a problem."""

    @app.exception_handler(Refused)
    async def refused(request: Request, error: Refused) -> JSONResponse:
        return problem(error.status, str(error))

    @app.exception_handler(Unsure)
    async def unsure(request: Request, error: Unsure) -> JSONResponse:
        return problem(409, str(error), ["sure: true has it done"], type_=UNSURE)

    @app.exception_handler(CoreError)
    async def bad_input(request: Request, error: Exception) -> JSONResponse:
        return problem(422, str(error))

    @app.exception_handler(HTTPException)
    async def http(request: Request, error: HTTPException) -> JSONResponse:
        detail = error.detail
        if error.status_code == 404 and detail == "Not Found":
            detail = f"There is nothing at {request.url.path}."
        return problem(error.status_code, str(detail))

    @app.exception_handler(RequestValidationError)
    async def invalid(request: Request, error: RequestValidationError) -> JSONResponse:
        errors = []
        for e in error.errors():
            where = ".".join(str(p) for p in e["loc"][1:]) or str(e["loc"][0])
            errors.append(f"{where}: {e['msg'].removeprefix('Value error, ')}")
        return problem(422, "; ".join(errors), errors)

    @app.exception_handler(OperationalError)
    @app.exception_handler(InterfaceError)
    @app.exception_handler(PoolTimeout)
    async def database_away(request: Request, error: Exception) -> JSONResponse:
        if isinstance(error, OperationalError) and deadlocked(error):
            return problem(
                503, "Somebody changed the same at this moment; nothing was changed. Try again.", retry_after_s=1
            )
        log.warning("the database did not answer: %s", str(error).splitlines()[0])
        detail = "The database does not answer; nothing was changed. Try again in a moment."
        return problem(503, detail, retry_after_s=3)
