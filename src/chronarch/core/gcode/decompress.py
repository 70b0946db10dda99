"""Packed input: gzip (RFC 1952) and Zstandard (RFC 8878) are unpacked, anything else passes as it is."""

from __future__ import annotations

import zlib
from collections.abc import Iterator
from typing import Any

import zstandard

from chronarch.core.errors import NotGcode, TooLarge

SUFFIXES = (".gz", ".zst")
_GZIP, _ZSTD = b"\x1f\x8b", b"\x28\xb5\x2f\xfd"
PIECE = 1 << 20
SLICE = 512
"""Zstandard is fed so many bytes at a time, because four of them can become 128 KiB."""
MOST_TIMES, FREELY = 200, 64 << 20
"""A packed file may become so many times as large, and so many bytes more. G-code becomes 3 to 20 times as large."""


def is_packed(head: bytes) -> bool:
    """Whether a file that begins with these four bytes is packed."""
    return head.startswith((_GZIP, _ZSTD))


class Unpacker:
    """Takes a file's bytes in pieces of any size and gives them back unpacked, `largest` at most. No I/O."""

    def __init__(self, largest: int) -> None:
        self._largest = largest
        self._head = b""
        self._kind = ""
        self._work: Any = None
        self._between = False
        self._came = self._made = 0

    @property
    def packed(self) -> bool:
        return self._kind in ("gzip", "zstd")

    def feed(self, data: bytes) -> Iterator[bytes]:
        """What the next bytes unpack to, in pieces of bounded size. Raises NotGcode when they are damaged or unpack to
        far more than G-code does, TooLarge when the whole is larger than `largest`."""
        self._came += len(data)
        if not self._kind:
            self._head += data
            if len(self._head) < 4:
                return
            data, self._head = self._head, b""
            self._begin(data)
        try:
            for piece in self._unpack(data) if self.packed else [data]:
                self._count(piece)
                if piece:
                    yield piece
        except (zlib.error, zstandard.ZstdError) as error:
            raise NotGcode(f"The packed file is damaged ({error}). Pack it again, or send it unpacked.") from None

    def _count(self, piece: bytes) -> None:
        self._made += len(piece)
        if self._made > self._largest:
            raise TooLarge(
                f"The file is larger than the {self._largest / 1e6:g} MB that are taken; send a smaller one."
            )
        if self._made > self._came * MOST_TIMES + FREELY:
            raise NotGcode(
                f"The packed file becomes over {MOST_TIMES} times as large, as no G-code does. Send it unpacked."
            )

    def _begin(self, data: bytes) -> None:
        if data.startswith(_GZIP):
            self._kind, self._work = "gzip", zlib.decompressobj(31)
        elif data.startswith(_ZSTD):
            self._kind, self._work = "zstd", zstandard.ZstdDecompressor(max_window_size=1 << 27).decompressobj()
        else:
            self._kind = "plain"

    def _unpack(self, data: bytes) -> Iterator[bytes]:
        while data:
            if self._between:
                # another packed piece may follow the one that has ended; anything else is padding
                self._head += data
                if len(self._head) < 4:
                    return
                data, self._head = self._head, b""
                if not is_packed(data):
                    return
                self._begin(data)
                self._between = False
            if self._kind == "gzip":
                yield self._work.decompress(data, PIECE)
                data = self._work.unused_data if self._work.eof else self._work.unconsumed_tail
            else:
                rest = memoryview(data)
                while len(rest) and not self._work.eof:
                    yield self._work.decompress(rest[:SLICE])
                    rest = rest[SLICE:]
                data = self._work.unused_data + bytes(rest)
            self._between = bool(self._work.eof)

    def end(self) -> list[bytes]:
        """What is left at the end. Raises NotGcode when a packed file was cut short."""
        if not self._kind:
            rest, self._head = self._head, b""
            return [rest] if rest else []
        if self.packed and not self._between:
            raise NotGcode("The packed file stops in its middle: it was cut short. Send the whole file.")
        return []


def unpack(data: bytes, largest: int = 2 << 30) -> bytes:
    """A whole file, unpacked if it was packed. Raises NotGcode, TooLarge."""
    unpacker = Unpacker(largest)
    return b"".join([*unpacker.feed(data), *unpacker.end()])


def plain_name(name: str) -> str:
    """A file's name without the ending that says how it was packed."""
    return next((name[: -len(x)] for x in SUFFIXES if name.lower().endswith(x) and len(name) > len(x)), name)
