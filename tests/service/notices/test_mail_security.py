"""Mail over STARTTLS and TLS: to a server that proves who it is, and to no other."""

from __future__ import annotations

import asyncio
import logging
import os
import ssl
import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path
from unittest.mock import patch

import trustme
from aiosmtpd.smtp import SMTP

from chronarch.core.clock import real_clock
from chronarch.records import tables as t
from chronarch.records.ports import free_port
from chronarch.service.notices.channels.mail import MailSender
from chronarch.service.notices.channels.sending import NotSent, Refused, Sending
from chronarch.service.notices.messages import Message
from chronarch.service.secrets import Secrets
from chronarch.standins.inbox import MailSink
from chronarch.wire.notices.channels import MailServerView, StoredNoticeSettings

NOW = datetime(2026, 10, 19, 9, tzinfo=UTC)


class Secure(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        log = logging.getLogger("mail.log")  # the server's own words about those who hang up
        self.enterContext(patch.object(log, "disabled", True))
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        ca = trustme.CA()
        self.trusted = Path(folder.name) / "ca.pem"
        ca.cert_pem.write_to_path(str(self.trusted))
        self.context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        ca.issue_cert("localhost").configure_cert(self.context)
        self.sink, self.port = MailSink(), free_port()
        self.loop = asyncio.get_running_loop()
        self.sender = MailSender(real_clock(), Secrets(Path(folder.name) / "key"))

    async def serve(self, *, starttls: bool = False, tls: bool = False) -> None:
        def session() -> SMTP:
            more = {"tls_context": self.context, "require_starttls": True} if starttls else {}
            return SMTP(self.sink, hostname="localhost", **more)

        server = await self.loop.create_server(session, "127.0.0.1", self.port, ssl=self.context if tls else None)
        self.addCleanup(server.close)

    async def send(self, security: str, host: str = "localhost", *, trust: bool = True) -> str:
        server = MailServerView(
            host=host, port=self.port, security=security, login="", has_password=False, sender="prints@shop.example"
        )
        channel = t.Channel(id=1, kind="mail", name="mail", shown="maud@shop.example", access=b"")
        message = Message("one", "A shop", (), test=True, at=NOW)
        sending = Sending(message, channel, "", StoredNoticeSettings(mail=server))
        with patch.dict(os.environ, {"SSL_CERT_FILE": str(self.trusted)} if trust else {}):
            return await self.sender.send(sending)

    async def test_a_server_that_proves_who_it_is_gets_the_mail(self) -> None:
        await self.serve(starttls=True)
        self.assertIn("taken as 1", await self.send("starttls"))
        self.assertEqual(str(self.sink.kept[0][1]["To"]), "maud@shop.example")

    async def test_the_same_with_tls_from_the_first_byte(self) -> None:
        await self.serve(tls=True)
        self.assertIn("taken as 1", await self.send("tls"))

    async def test_one_that_does_not_gets_nothing(self) -> None:
        await self.serve(starttls=True)
        for host, trust in (("localhost", False), ("127.0.0.1", True)):
            with self.assertRaisesRegex(NotSent, "(?i)certificate"):
                await self.send("starttls", host, trust=trust)
        self.assertEqual(len(self.sink.kept), 0)

    async def test_nothing_goes_in_the_clear_that_should_not(self) -> None:
        await self.serve()
        with self.assertRaises(NotSent) as raised:
            await self.send("starttls")
        self.assertNotIsInstance(raised.exception, Refused)
        self.assertEqual(len(self.sink.kept), 0)
        self.assertIn("taken as 1", await self.send("none"))
