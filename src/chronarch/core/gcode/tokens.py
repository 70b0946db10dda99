"""One line of G-code: what of it is a command, and the words of a command (ISO 6983)."""

from __future__ import annotations

import re

_PAREN = re.compile(rb"\([^)]*\)")
_WORD = re.compile(rb"([A-Za-z])\s*([-+]?(?:\d+\.?\d*|\.\d+))?")
_NUMBERED = re.compile(rb"^[Nn]\d+\s*")
_COMMAND = re.compile(rb"^[GMTgmt]\d+(?:\.\d+)?(?![\d.])")
_TEXT_COMMANDS = (b"M117", b"M118", b"M23", b"M28", b"M486")


def command_of(line: bytes) -> bytes:
    """The command in a line, without comments, line number, checksum and outer white space; empty when the
    line holds none. This is what a machine is sent, byte for byte.

    >>> command_of(b"N12 G1 X4 ; to the left*17")
    b'G1 X4'
    """
    cut = line.find(b";")
    if cut >= 0:
        line = line[:cut]
    if b"(" in line and not line.lstrip().startswith(_TEXT_COMMANDS):
        line = _PAREN.sub(b"", line)
    star = line.rfind(b"*")
    if star >= 0 and line[star + 1 :].strip().isdigit():
        line = line[:star]
    line = line.strip()
    if line[:1] in (b"N", b"n"):
        line = _NUMBERED.sub(b"", line)
    return line


def is_command(command: bytes) -> bool:
    """Whether the text starts as a G, M or T word with a number does."""
    return _COMMAND.match(command) is not None


def takes_text(command: bytes) -> bool:
    """Whether the rest of the command is free text (a message, a file's name), not words."""
    return command[:4].upper().startswith(_TEXT_COMMANDS)


def parse_words(command: bytes) -> dict[str, float | None]:
    """The words of a command: upper-case letter -> value, None for a letter alone. The last of a repeated
    letter counts.

    >>> parse_words(b"G1 X4.5 y-2")
    {'G': 1.0, 'X': 4.5, 'Y': -2.0}
    """
    return {letter.decode().upper(): float(number) if number else None for letter, number in _WORD.findall(command)}
