"""Secrets of others that the service must be able to tell (a camera's password): encrypted where they are kept."""

from __future__ import annotations

import os
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

from cryptography.fernet import Fernet, InvalidToken
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

from chronarch.private_file import write_private
from chronarch.service.context import part


class SecretLost(Exception):
    """A secret was encrypted with another key than this service has."""


@dataclass
class Secrets:
    """Encrypts with the key in a file of its own, which is made when it is first needed. The records without that file
    tell nobody a secret (Fernet: AES-128-CBC with HMAC-SHA-256)."""

    key_file: Path
    _fernet: Fernet | None = None

    def seal(self, text: str) -> bytes:
        return self._with_key().encrypt(text.encode())

    def open(self, sealed: bytes) -> str:
        """Raises SecretLost."""
        try:
            return self._with_key().decrypt(sealed).decode()
        except InvalidToken:
            raise SecretLost(f"it was encrypted with another key than that in {self.key_file}") from None

    def derived(self, purpose: str) -> bytes:
        """A key of its own for one purpose, that tells nothing of the others (HKDF, RFC 5869)."""
        self._with_key()
        whole = self.key_file.read_bytes()
        return HKDF(hashes.SHA256(), 32, None, purpose.encode()).derive(whole)

    def _with_key(self) -> Fernet:
        if self._fernet is None:
            with suppress(FileExistsError):
                self._make()
            self._fernet = Fernet(self.key_file.read_bytes())
        return self._fernet

    def _make(self) -> None:
        """Raises FileExistsError."""
        fresh = self.key_file.with_name(f"{self.key_file.name}.{os.getpid()}")
        write_private(fresh, Fernet.generate_key())
        try:
            os.link(fresh, self.key_file)
        finally:
            fresh.unlink()


TheSecrets = Annotated[Secrets, part(Secrets)]
