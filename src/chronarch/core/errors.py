"""What the core refuses, each with one sentence for the person who caused it."""

from __future__ import annotations


class CoreError(Exception):
    """The root of all below; its text says what was wrong and what to do."""


class NotGcode(CoreError):
    """The bytes are not G-code, are empty, or end within a line."""


class BadName(CoreError, ValueError):
    """A name that cannot be kept: empty, too long, with separators or control characters."""


class TooLarge(CoreError):
    """More bytes than are allowed."""
