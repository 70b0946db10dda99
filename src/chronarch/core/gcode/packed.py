"""Packed input: gzip (RFC 1952) and Zstandard (RFC 8878) are unpacked, anything else passes as it is."""

from __future__ import annotations

import zlib
from typing import Any

import zstandard

from chronarch.core.errors import NotGcode

SUFFIXES = (".gz", ".zst")
_GZIP, _ZSTD = b"\x1f\x8b", b"\x28\xb5\x2f\xfd"
PIECE = 1 << 20


def is_packed(head: bytes) -> bool:
    """Whether a file that begins with these four bytes is packed."""
    return head.startswith((_GZIP, _ZSTD))


class Unpacker:
    """Takes a file's bytes in pieces of any size and gives them back unpacked. No I/O."""

    def __init__(self) -> None:
        self._head = b""
        self._kind = ""
        self._work: Any = None
        self._between = False

    @property
    def packed(self) -> bool:
        return self._kind in ("gzip", "zstd")

    def feed(self, data: bytes) -> list[bytes]:
        """What the next bytes unpack to, in pieces of bounded size. Raises NotGcode when they are damaged."""
        if not self._kind:
            self._head += data
            if len(self._head) < 4:
                return []
            data, self._head = self._head, b""
            self._begin(data)
        if not self.packed:
            return [data] if data else []
        try:
            return self._unpack(data)
        except (zlib.error, zstandard.ZstdError) as error:
            raise NotGcode(f"The packed file is damaged ({error}). Pack it again, or send it unpacked.") from None

    def _begin(self, data: bytes) -> None:
        if data.startswith(_GZIP):
            self._kind, self._work = "gzip", zlib.decompressobj(31)
        elif data.startswith(_ZSTD):
            self._kind, self._work = "zstd", zstandard.ZstdDecompressor(max_window_size=1 << 27).decompressobj()
        else:
            self._kind = "plain"

    def _unpack(self, data: bytes) -> list[bytes]:
        out: list[bytes] = []
        while data:
            if self._between:
                # another packed piece may follow the one that has ended; anything else is padding
                self._head += data
                if len(self._head) < 4:
                    return out
                data, self._head = self._head, b""
                if not is_packed(data):
                    return out
                self._begin(data)
                self._between = False
            if self._kind == "gzip":
                out.append(self._work.decompress(data, PIECE))
                data = self._work.unused_data if self._work.eof else self._work.unconsumed_tail
            else:
                out.append(self._work.decompress(data))
                data = self._work.unused_data
            self._between = bool(self._work.eof)
        return [piece for piece in out if piece]

    def end(self) -> list[bytes]:
        """What is left at the end. Raises NotGcode when a packed file was cut short."""
        if not self._kind:
            rest, self._head = self._head, b""
            return [rest] if rest else []
        if self.packed and not self._between:
            raise NotGcode("The packed file stops in its middle: it was cut short. Send the whole file.")
        return []


def unpack(data: bytes) -> bytes:
    """A whole file, unpacked if it was packed. Raises NotGcode."""
    unpacker = Unpacker()
    return b"".join([*unpacker.feed(data), *unpacker.end()])


def plain_name(name: str) -> str:
    """A file's name without the ending that says how it was packed."""
    return next((name[: -len(x)] for x in SUFFIXES if name.lower().endswith(x) and len(name) > len(x)), name)
