"""Errors as the service answers them: RFC 9457 problem details."""

from __future__ import annotations

import logging
from collections.abc import Iterable, Mapping
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from fastapi.routing import APIRoute
from sqlalchemy.exc import DataError, InterfaceError, OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from starlette.exceptions import HTTPException

from chronarch.core.control.actions import NeedsConfirmation
from chronarch.core.errors import CoreError, TooLarge
from chronarch.records.failures import deadlocked
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import UNSURE, Problem, fault_text

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
    408: "Too slow",
    415: "Wrong kind of content",
    422: "Not understood",
    429: "Too many tries",
    431: "Too large",
    500: "Failed",
    503: "Not available now",
}

log = logging.getLogger("chronarch.service")


def problem_of(status: int, detail: str, errors: list[str] | None = None, type_: str = "about:blank") -> dict[str, Any]:
    """A problem as it is sent."""
    title = TITLES.get(status, "Error")
    return Problem(type=type_, title=title, status=status, detail=detail, errors=errors or []).model_dump()


def problem(
    status: int,
    detail: str,
    errors: list[str] | None = None,
    type_: str = "about:blank",
    headers: Mapping[str, str] | None = None,
) -> JSONResponse:
    body = problem_of(status, detail, errors, type_)
    return JSONResponse(body, status, media_type="application/problem+json", headers=dict(headers or {}))


def _methods(routes: Iterable[APIRoute], path: str) -> list[str]:
    """The methods that are possible at a path of the API."""
    at = [route for route in routes if route.path_regex.match(path)]
    fewest = min((len(route.param_convertors) for route in at), default=0)  # a fixed path goes before a pattern
    found = {m for route in at if len(route.param_convertors) == fewest for m in route.methods or ()}
    return sorted(found | ({"HEAD"} if "GET" in found else set()))


def install(app: FastAPI, routes: Iterable[APIRoute] = ()) -> None:
    """Make every error of `app` a problem; `routes` are the API's, as they are under `/api`."""

    @app.exception_handler(ApiProblem)
    async def refused(request: Request, error: ApiProblem) -> JSONResponse:
        return problem(error.status, str(error), type_=error.kind)

    @app.exception_handler(NeedsConfirmation)
    async def unsure(request: Request, error: NeedsConfirmation) -> JSONResponse:
        return problem(409, str(error), ["sure: true has it done"], type_=UNSURE)

    @app.exception_handler(CoreError)
    async def bad_input(request: Request, error: Exception) -> JSONResponse:
        return problem(413 if isinstance(error, TooLarge) else 422, str(error))

    @app.exception_handler(HTTPException)
    async def http(request: Request, error: HTTPException) -> JSONResponse:
        detail, path = error.detail, request.url.path
        if error.status_code == 405:
            allowed = _methods(routes, path.removeprefix("/api")) if path.startswith("/api/") else ["GET", "HEAD"]
            if not allowed:
                return problem(404, f"There is nothing at {path}.")
            text = f"{request.method} is not possible at {path}; {', '.join(allowed)} is."
            return problem(405, text, headers={"Allow": ", ".join(allowed)})
        if error.status_code == 404 and detail == "Not Found":
            detail = f"There is nothing at {path}."
        return problem(error.status_code, str(detail), headers=error.headers)

    @app.exception_handler(RequestValidationError)
    async def invalid(request: Request, error: RequestValidationError) -> JSONResponse:
        errors = [fault_text(e["loc"][1:] or e["loc"][:1], e["msg"]) for e in error.errors()]
        return problem(422, "; ".join(errors), errors)

    @app.exception_handler(DataError)
    async def too_much(request: Request, error: DataError) -> JSONResponse:
        why = str(error.orig.args[-1]) if error.orig else ""
        return problem(422, f"Something of it is more than the records hold ({why[:200]}); nothing was changed.")

    @app.exception_handler(OperationalError)
    @app.exception_handler(InterfaceError)
    @app.exception_handler(PoolTimeout)
    async def database_away(request: Request, error: Exception) -> JSONResponse:
        if isinstance(error, OperationalError) and deadlocked(error):
            return problem(
                503,
                "Somebody changed the same at this moment; nothing was changed. Try again.",
                headers={"Retry-After": "1"},
            )
        log.warning("the database did not answer: %s", str(error).splitlines()[0])
        detail = "The database does not answer; nothing was changed. Try again in a moment."
        return problem(503, detail, headers={"Retry-After": "3"})
