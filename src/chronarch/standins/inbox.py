"""Where messages go in the demo and in tests: a mail server that delivers nothing further, and a receiver of webhooks.
Both keep the newest of what they took, and can be made to fail."""

from __future__ import annotations

import asyncio
import itertools
from collections import deque
from dataclasses import dataclass, field
from email import message_from_bytes, policy
from email.message import EmailMessage
from typing import Any, cast

from aiosmtpd.smtp import SMTP, AuthResult, Envelope, Session
from aiosmtpd.smtp import Session as SmtpSession
from fastapi import FastAPI, HTTPException, Request, Response
from pydantic import BaseModel

MOST_KEPT = 2000
LARGEST = 20_000_000
MAIL_FAULTS = {
    "": "all is well",
    "later": "says 451 to each recipient",
    "refuses": "says 550 to each recipient",
    "hangs": "says nothing to a message",
    "drops": "takes a message and cuts the connection without an answer",
}
HOOK_FAULTS = ("", "hangs", "lost-answer")


class InboxFault(BaseModel):
    """`text`: what goes wrong; `status`: what a webhook is answered instead of 204."""

    text: str = ""
    status: int = 204
    location: str = ""


@dataclass
class MailSink:
    """A mail server. `login` is `NAME:PASSWORD` where it asks for one."""

    login: str = ""
    fault: str = ""
    kept: deque[tuple[int, EmailMessage]] = field(default_factory=lambda: deque(maxlen=MOST_KEPT))
    _numbers: Any = field(default_factory=lambda: itertools.count(1))
    _server: asyncio.Server | None = None

    async def start(self, port: int) -> None:
        loop = asyncio.get_running_loop()
        self._server = await loop.create_server(self._session, "127.0.0.1", port)

    def _session(self) -> SMTP:
        asks: dict[str, Any] = {}
        if self.login:
            asks = {"auth_required": True, "auth_require_tls": False, "authenticator": self._authenticate}
        return SMTP(self, hostname="mail.standin", data_size_limit=LARGEST, **asks)

    def _authenticate(self, server: SMTP, session: SmtpSession, envelope: Envelope, how: str, data: Any) -> AuthResult:
        good = f"{data.login.decode()}:{data.password.decode()}" == self.login
        return AuthResult(success=good, handled=False)

    async def stop(self) -> None:
        if self._server is not None:
            self._server.close()
            self._server = None

    async def handle_RCPT(
        self, server: SMTP, session: Session, envelope: Envelope, address: str, options: list[str]
    ) -> str:
        if self.fault == "later":
            return "451 4.3.0 come again later"
        if self.fault == "refuses":
            return "550 5.1.1 nobody of that name"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        if self.fault == "hangs":
            await asyncio.sleep(3600)
        mail = message_from_bytes(envelope.original_content or b"", policy=policy.default)
        assert isinstance(mail, EmailMessage)
        number = next(self._numbers)
        self.kept.append((number, mail))
        if self.fault == "drops":
            cast(asyncio.WriteTransport, server.transport).abort()
        return f"250 2.0.0 taken as {number}"


@dataclass
class Hook:
    """One address that webhooks are sent to."""

    fault: InboxFault = field(default_factory=InboxFault)
    kept: deque[dict[str, Any]] = field(default_factory=lambda: deque(maxlen=MOST_KEPT))


def add_inbox(app: FastAPI, mail: MailSink) -> None:
    """What was taken, and the faults, over HTTP."""
    hooks: dict[str, Hook] = {}

    @app.get("/mail")
    async def mails() -> list[dict[str, Any]]:
        return [_brief(number, one) for number, one in mail.kept]

    @app.get("/mail/{number}")
    async def raw(number: int) -> Response:
        found = next((one for n, one in mail.kept if n == number), None)
        if found is None:
            raise HTTPException(404, f"There is no mail {number}.")
        return Response(found.as_bytes(), media_type="message/rfc822")

    @app.post("/mail/fault")
    async def mail_fault(asked: InboxFault) -> dict[str, str]:
        if asked.text not in MAIL_FAULTS:
            raise HTTPException(422, f"A mail server cannot do {asked.text!r}; it can do {', '.join(MAIL_FAULTS)}.")
        mail.fault = asked.text
        return {"fault": asked.text}

    @app.post("/hooks/{name}/fault")
    async def hook_fault(name: str, asked: InboxFault) -> dict[str, str]:
        if asked.text not in HOOK_FAULTS:
            raise HTTPException(422, f"A receiver cannot do {asked.text!r}; it can do {', '.join(HOOK_FAULTS)}.")
        hooks.setdefault(name, Hook()).fault = asked
        return {"fault": asked.text}

    @app.get("/hooks/{name}")
    async def taken(name: str) -> list[dict[str, Any]]:
        return list(hooks[name].kept) if name in hooks else []

    @app.post("/hooks/{name}")
    async def take(name: str, request: Request) -> Response:
        hook = hooks.setdefault(name, Hook())
        body = await request.body()
        fault = hook.fault
        if fault.text == "hangs":
            await asyncio.sleep(3600)
        if fault.status < 300:
            hook.kept.append({"headers": dict(request.headers), "body": body.decode()})
        if fault.text == "lost-answer":
            await asyncio.sleep(3600)
        headers = {"location": fault.location} if fault.location else {}
        return Response(status_code=fault.status, headers=headers)


def _brief(number: int, mail: EmailMessage) -> dict[str, Any]:
    text = mail.get_body(("plain",))
    html = mail.get_body(("html",))
    return {
        "number": number,
        "to": str(mail["To"]),
        "from": str(mail["From"]),
        "subject": str(mail["Subject"]),
        "id": str(mail["Message-ID"]),
        "text": text.get_content() if text else "",
        "html": html.get_content() if html else "",
        "pictures": sum(part.get_content_type() == "image/jpeg" for part in mail.walk()),
        "attachments": [part.get_filename() for part in mail.iter_attachments()],
    }
