"""The OpenAPI document: who may ask what with which key, and what every route may answer."""

from __future__ import annotations

import asyncio
import json
from functools import cache
from typing import Any

from fastapi import FastAPI, Response
from fastapi.openapi.utils import get_openapi

from chronarch.core.access.rights import Right
from chronarch.service.permissions import RULES, Asked
from chronarch.service.principals import COOKIE
from chronarch.wire.common import Problem

SCHEMES = {
    "key": {"type": "http", "scheme": "bearer", "description": "A key for programs, made with `chronarch keys make`."},
    "session": {
        "type": "apiKey",
        "in": "cookie",
        "name": COOKIE,
        "description": "What signing in gives a browser. What changes something carries X-CSRF-Token beside it.",
    },
}
PROBLEM = {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}}
ANSWERS = {
    "4XX": {"description": "What was wrong and what to do.", "content": PROBLEM},
    "503": {"description": "What is needed does not answer now; nothing was changed.", "content": PROBLEM},
}
"""What every route may answer beside its own."""


def install(app: FastAPI, prefix: str) -> None:
    """Have `app` describe itself so; the routes of the table of rights are under the prefix, and the document is beside
    them. It is made in a thread, because that takes most of a second."""
    rules = {(f"{prefix}{path}", method.lower()): rule for (method, path), rule in RULES.items()}

    def document() -> dict[str, Any]:
        made = get_openapi(title=app.title, version=app.version, summary=app.summary, routes=app.routes)
        schemas = made["components"]["schemas"]
        for unused in ("HTTPValidationError", "ValidationError"):
            schemas.pop(unused, None)
        schemas["Problem"] = Problem.model_json_schema()
        made["components"]["securitySchemes"] = SCHEMES
        for path, operations in made["paths"].items():
            for method, operation in operations.items():
                operation["responses"] = {
                    **{status: r for status, r in operation["responses"].items() if status != "422"},
                    **ANSWERS,
                }
                rule = rules.get((path, method))
                if rule is not None and rule.asked is not Asked.OPEN:
                    ways = ["key"] if rule.right is Right.TENDER else ["key", "session"]
                    operation["security"] = [{way: []} for way in ways]
        return made

    @cache
    def written() -> bytes:
        return json.dumps(document()).encode()

    @app.get(f"{prefix}/openapi.json", include_in_schema=False)
    async def described() -> Response:
        return Response(await asyncio.to_thread(written), media_type="application/json")

    app.openapi = document  # type: ignore[method-assign]


def body(*kinds: str) -> dict[str, Any]:
    """`openapi_extra` for a route whose body is bytes of these media types."""
    binary = {"schema": {"type": "string", "format": "binary"}}
    return {"requestBody": {"required": True, "content": {kind: binary for kind in kinds}}}
