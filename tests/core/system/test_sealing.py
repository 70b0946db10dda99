"""Sealed bytes: they come back whole, and whatever is changed of them is found."""

from __future__ import annotations

import random
import unittest
from collections.abc import Iterator

from chronarch.core.system import sealing as s

CHEAP = s.ScryptCost(n=16)


def cut(data: bytes, seed: int) -> Iterator[bytes]:
    """The same bytes in pieces of any size."""
    rand = random.Random(seed)
    while data:
        size = rand.choice((1, 7, 1000, 300_000, 2_000_000))
        yield data[:size]
        data = data[size:]


class Sealing(unittest.TestCase):
    def setUp(self) -> None:
        private = s.new_private_key()
        shared = s.key_from("a passphrase of some length", b"salt" * 4, CHEAP)
        self.ways = {"passphrase": (shared, shared), "public key": (s.PublicKey(private.public), private)}

    def sealed(self, data: bytes, locks: s.Locks, name: str = "one") -> bytes:
        return b"".join(s.seal(cut(data, 1), locks, name))

    def test_bytes_of_any_length_come_back(self) -> None:
        for way, (locks, opens) in self.ways.items():
            for size in (0, 1, s.PIECE - 1, s.PIECE, s.PIECE + 1, 3 * s.PIECE + 17):
                data = random.Random(size).randbytes(size)
                with self.subTest(way, size=size):
                    sealed = self.sealed(data, locks)
                    self.assertEqual(b"".join(s.open_sealed(cut(sealed, 2), opens, "one")), data)
                    self.assertNotEqual(self.sealed(data, locks), sealed, "no two are sealed alike")

    def test_whatever_is_changed_is_found(self) -> None:
        data = random.Random(0).randbytes(2 * s.PIECE + 100)
        for way, (locks, opens) in self.ways.items():
            sealed = self.sealed(data, locks)
            first, second = s.HEAD + s.PIECE + s.TAG, s.HEAD + 2 * (s.PIECE + s.TAG)
            hurt = {
                "a byte of the head": _flipped(sealed, 20),
                "its first byte": _flipped(sealed, 0),
                "how it is locked": _flipped(sealed, len(s.MAGIC)),
                "a byte in the middle": _flipped(sealed, len(sealed) // 2),
                "the last byte": _flipped(sealed, len(sealed) - 1),
                "cut in a piece": sealed[:-5],
                "cut between pieces": sealed[:second],
                "nothing but its head": sealed[: s.HEAD],
                "half a head": sealed[: s.HEAD // 2],
                "nothing": b"",
                "more than was sealed": sealed + b"x",
                "a piece left out": sealed[: s.HEAD] + sealed[first:],
                "pieces swapped": sealed[: s.HEAD] + sealed[first:second] + sealed[s.HEAD : first] + sealed[second:],
            }
            for what, bad in hurt.items():
                with self.subTest(way, what=what), self.assertRaises(s.SealBroken):
                    list(s.open_sealed([bad], opens, "one"))
            with self.subTest(way, what="passed off as another"), self.assertRaisesRegex(s.SealBroken, "damaged"):
                list(s.open_sealed([sealed], opens, "two"))

    def test_another_key_opens_nothing(self) -> None:
        other = s.key_from("another passphrase", b"salt" * 4, CHEAP), s.new_private_key()
        for (way, (locks, _)), opens in zip(self.ways.items(), other, strict=True):
            with self.subTest(way), self.assertRaisesRegex(s.SealBroken, "another key"):
                list(s.open_sealed([self.sealed(b"x", locks)], opens, "one"))
        shared, private = self.ways["passphrase"][1], self.ways["public key"][1]
        with self.assertRaisesRegex(s.SealBroken, "not sealed for a public key"):
            list(s.open_sealed([self.sealed(b"x", self.ways["passphrase"][0])], private, "one"))
        with self.assertRaisesRegex(s.SealBroken, "not sealed with a passphrase"):
            list(s.open_sealed([self.sealed(b"x", self.ways["public key"][0])], shared, "one"))

    def test_a_passphrase_with_another_salt_is_another_key(self) -> None:
        keys = {s.key_from("the same", salt, CHEAP).secret for salt in (b"a" * 16, b"b" * 16)}
        self.assertEqual(len(keys), 2)

    def test_a_public_key_that_is_none_is_refused(self) -> None:
        with self.assertRaisesRegex(s.SealBroken, "public key is none"):
            s.PublicKey(bytes(32)).fresh()


def _flipped(data: bytes, at: int) -> bytes:
    return data[:at] + bytes([data[at] ^ 1]) + data[at + 1 :]


if __name__ == "__main__":
    unittest.main()
