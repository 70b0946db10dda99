"""Bytes sealed for a place that others may read and write: nobody there can read them, or change them unseen.

A sealed file is a head, and pieces. The head is `CHRSEAL1`, one byte that says how it is locked (1: a key that both
sides have; 2: somebody's public key) and 32 bytes: for 1 at random, for 2 an X25519 public key that is used once
(RFC 7748). The file's own key comes from both by HKDF-SHA-256 (RFC 5869). Each piece is 1 MiB, only the last is
shorter; each is sealed with AES-256-GCM (NIST SP 800-38D) under its number and whether it is the last, as in STREAM
(Hoang, Reyhanitabar, Rogaway and Vizár, 2015), so that pieces cannot be swapped, left out or cut off. The name of the
file counts as authenticated data: one file cannot be passed off as another.

A key that both sides have comes from a passphrase by scrypt (RFC 7914).
"""

from __future__ import annotations

import itertools
import os
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Protocol

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey, X25519PublicKey
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.kdf.hkdf import HKDF
from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

from chronarch.core.errors import CoreError

MAGIC = b"CHRSEAL1"
SHARED, PUBLIC = b"\x01", b"\x02"
HEAD = len(MAGIC) + 1 + 32
PIECE, TAG = 1 << 20, 16
LEAST_PASSPHRASE = 12


class SealBroken(CoreError):
    """A sealed file is not what was sealed under its name, or was sealed with another key."""


@dataclass(frozen=True)
class ScryptCost:
    """What one try of a passphrase costs: `n` steps of `r` blocks (128 · n · r bytes of memory), `p` times."""

    n: int = 1 << 17
    r: int = 8
    p: int = 1


USUAL_COST = ScryptCost()


class Locks(Protocol):
    """Can seal."""

    def fresh(self) -> tuple[bytes, bytes]:
        """The head of a new sealed file, and the file's key."""
        ...


class Opens(Protocol):
    """Can open what was sealed."""

    def key_of(self, head: bytes) -> bytes:
        """The key of a sealed file with this head. Raises SealBroken."""
        ...


@dataclass(frozen=True)
class SharedKey:
    """32 bytes that both sides have."""

    secret: bytes

    def fresh(self) -> tuple[bytes, bytes]:
        head = MAGIC + SHARED + os.urandom(32)
        return head, self.key_of(head)

    def key_of(self, head: bytes) -> bytes:
        salt = _rest(head, SHARED, "with a passphrase")
        return _derived(self.secret, salt, b"chronarch sealed file, shared key")


@dataclass(frozen=True)
class PublicKey:
    """Seals for whoever has the private key (32 bytes, X25519)."""

    public: bytes

    def fresh(self) -> tuple[bytes, bytes]:
        once = X25519PrivateKey.generate()
        head = MAGIC + PUBLIC + once.public_key().public_bytes_raw()
        try:
            secret = once.exchange(X25519PublicKey.from_public_bytes(self.public))
        except ValueError as error:
            raise SealBroken(f"The public key is none: {error}") from None
        return head, _exchanged(secret, head, self.public)


@dataclass(frozen=True)
class PrivateKey:
    """Opens what was sealed for its public key."""

    private: bytes

    @property
    def public(self) -> bytes:
        return X25519PrivateKey.from_private_bytes(self.private).public_key().public_bytes_raw()

    def key_of(self, head: bytes) -> bytes:
        once = X25519PublicKey.from_public_bytes(_rest(head, PUBLIC, "for a public key"))
        try:
            secret = X25519PrivateKey.from_private_bytes(self.private).exchange(once)
        except ValueError as error:
            raise SealBroken(f"its head is damaged ({error})") from None
        return _exchanged(secret, head, self.public)


def new_private_key() -> PrivateKey:
    return PrivateKey(X25519PrivateKey.generate().private_bytes_raw())


def key_from(passphrase: str, salt: bytes, cost: ScryptCost) -> SharedKey:
    """The key that a passphrase stands for. Takes most of a second and 128 MB at the usual cost."""
    return SharedKey(Scrypt(salt, 32, cost.n, cost.r, cost.p).derive(passphrase.encode()))


def seal(pieces: Iterable[bytes], locks: Locks, name: str) -> Iterator[bytes]:
    """Bytes in pieces of any size, sealed under a name."""
    head, key = locks.fresh()
    yield head
    cipher, given = AESGCM(key), head + name.encode()
    for number, (piece, last) in enumerate(_in_pieces(pieces, PIECE)):
        yield cipher.encrypt(_nonce(number, last), piece, given)


def open_sealed(pieces: Iterable[bytes], opens: Opens, name: str) -> Iterator[bytes]:
    """What was sealed under a name. Each piece is right when it comes; all has come only when the end has. Raises
    SealBroken."""
    source, begun = iter(pieces), bytearray()
    while len(begun) < HEAD and (some := next(source, None)) is not None:
        begun += some
    head = bytes(begun[:HEAD])
    cipher, given = AESGCM(opens.key_of(head)), head + name.encode()
    rest = itertools.chain([bytes(begun[HEAD:])], source)
    for number, (piece, last) in enumerate(_in_pieces(rest, PIECE + TAG)):
        try:
            yield cipher.decrypt(_nonce(number, last), piece, given)
        except InvalidTag:
            where = f" from {number * PIECE / 1e6:.0f} MB on" if number else ""
            raise SealBroken(f"it was damaged{where}, or sealed with another key") from None


def _in_pieces(source: Iterable[bytes], size: int) -> Iterator[tuple[bytes, bool]]:
    """Bytes in pieces of one size, each with whether it is the last. Nothing at all is one empty piece."""
    held = bytearray()
    for some in source:
        held += some
        while len(held) > size:
            yield bytes(held[:size]), False
            del held[:size]
    yield bytes(held), True


def _nonce(number: int, last: bool) -> bytes:
    return number.to_bytes(11, "big") + bytes([last])


def _rest(head: bytes, kind: bytes, words: str) -> bytes:
    if len(head) < HEAD or head[: len(MAGIC)] != MAGIC:
        raise SealBroken("it is no sealed file, or its beginning is damaged")
    if head[len(MAGIC) : len(MAGIC) + 1] != kind:
        raise SealBroken(f"it was not sealed {words}")
    return head[len(MAGIC) + 1 : HEAD]


def _exchanged(secret: bytes, head: bytes, public: bytes) -> bytes:
    return _derived(secret, head[len(MAGIC) + 1 :] + public, b"chronarch sealed file, public key")


def _derived(secret: bytes, salt: bytes, purpose: bytes) -> bytes:
    return HKDF(hashes.SHA256(), 32, salt, purpose).derive(secret)
