"""The shop's chat account: over STARTTLS to a server that proves who it is, and to no other."""

from __future__ import annotations

import os
import tempfile
import unittest
from pathlib import Path
from unittest.mock import patch

import trustme

from chronarch.service.context import ShopName
from chronarch.service.notices.channels.chat_line import ChatLine
from chronarch.service.notices.channels.sending import NotSent
from chronarch.wire.notices.channels import ChatAccountView
from chronarch.wire.system.shop import ShopFacts
from tests.support.chat_server import HOST, ChatServer


async def _nobody(address: str, text: str) -> None:
    return None


class Secure(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        authority, self.trusted = trustme.CA(), self.folder / "ca.pem"
        authority.cert_pem.write_to_path(str(self.trusted))
        self.cert = authority.issue_cert(HOST)
        self.line = ChatLine(ShopName(ShopFacts(name="A shop")), _nobody)
        self.addAsyncCleanup(self.line.close)

    def serve(self, name: str, *, tls: bool) -> ChatServer:
        folder = self.folder / name
        folder.mkdir()
        certificate, key = folder / "cert.pem", folder / "key.pem"
        self.cert.cert_chain_pems[0].write_to_path(str(certificate))
        self.cert.private_key_pem.write_to_path(str(key))
        server = ChatServer(folder, str(certificate), str(key)) if tls else ChatServer(folder)
        server.add("prints", "right")
        server.start()
        self.addCleanup(server.stop)
        return server

    async def open(self, server: ChatServer, password: str = "right", *, trust: bool = True) -> None:
        account = ChatAccountView(
            address=f"prints@{HOST}", host="127.0.0.1", port=server.port, security="starttls", has_password=True
        )
        with patch.dict(os.environ, {"SSL_CERT_FILE": str(self.trusted)} if trust else {}):
            await self.line.open(account, password)

    async def test_a_server_that_proves_who_it_is_lets_us_in_with_the_right_password(self) -> None:
        server = self.serve("good", tls=True)
        with self.assertRaisesRegex(NotSent, "address or password is wrong"):
            await self.open(server, "wrong")
        self.assertIn("wrong", self.line.problem)
        await self.open(server)
        self.assertEqual(self.line.problem, "")

    async def test_one_that_does_not_gets_no_password(self) -> None:
        with self.assertRaisesRegex(NotSent, "certificate is not one that is trusted"):
            await self.open(self.serve("unknown", tls=True), trust=False)
        with self.assertRaisesRegex(NotSent, "keeps the password secret"):
            await self.open(self.serve("clear", tls=False))
