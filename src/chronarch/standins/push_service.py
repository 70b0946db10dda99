"""A push service with browsers behind it (RFC 8030): it takes messages, checks who sent them, and reads them as the
browser that they are for would."""

from __future__ import annotations

import base64
import json
import os
from collections import deque
from dataclasses import dataclass, field
from typing import Any

import http_ece
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from fastapi import FastAPI, HTTPException, Request, Response
from py_vapid import Vapid02

MOST_KEPT = 500


def _text(raw: bytes) -> str:
    return base64.urlsafe_b64encode(raw).rstrip(b"=").decode()


@dataclass
class Browser:
    """One subscription."""

    key: ec.EllipticCurvePrivateKey = field(default_factory=lambda: ec.generate_private_key(ec.SECP256R1()))
    auth: bytes = field(default_factory=lambda: os.urandom(16))
    status: int = 201
    """What it is answered from now on."""
    read: deque[dict[str, Any]] = field(default_factory=lambda: deque(maxlen=MOST_KEPT))

    def keys(self) -> dict[str, str]:
        point = self.key.public_key().public_bytes(Encoding.X962, PublicFormat.UncompressedPoint)
        return {"p256dh": _text(point), "auth": _text(self.auth)}


def add_push_service(app: FastAPI) -> None:
    browsers: dict[str, Browser] = {}

    @app.get("/push/{name}/keys")
    async def subscribe(name: str) -> dict[str, str]:
        return browsers.setdefault(name, Browser()).keys()

    @app.get("/push/{name}")
    async def read(name: str) -> list[dict[str, Any]]:
        return list(browsers[name].read) if name in browsers else []

    @app.post("/push/{name}/status/{status}")
    async def answer_with(name: str, status: int) -> dict[str, int]:
        browsers.setdefault(name, Browser()).status = status
        return {"status": status}

    @app.post("/push/{name}")
    async def take(name: str, request: Request) -> Response:
        browser = browsers.get(name)
        if browser is None:
            raise HTTPException(404)
        if browser.status != 201:
            return Response(status_code=browser.status)
        if not Vapid02.verify(request.headers.get("authorization", "")):
            raise HTTPException(403, "The signature does not fit (RFC 8292).")
        if request.headers.get("content-encoding") != "aes128gcm" or "ttl" not in request.headers:
            raise HTTPException(400, "Content-Encoding or TTL is missing.")
        body = await request.body()
        if len(body) > 4096:
            raise HTTPException(413)
        plain = http_ece.decrypt(body, private_key=browser.key, auth_secret=browser.auth, version="aes128gcm")
        browser.read.append({**json.loads(plain), "urgency": request.headers.get("urgency", "")})
        return Response(status_code=201)
