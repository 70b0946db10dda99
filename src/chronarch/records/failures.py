"""What a failed statement says: whether another try may help."""

from __future__ import annotations

from sqlalchemy.exc import DBAPIError, InterfaceError, OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout

DEADLOCK = 1213
NOT_NOW = frozenset({1021, 1040, 1044, 1045, 1049, 1053, 1114, 1129, 1203, 1205, DEADLOCK, 1290, 1317, 1927, 1969})
"""Codes of MariaDB that say nothing about the request itself: full, stopping, locked, not let in, interrupted."""


def deadlocked(error: DBAPIError) -> bool:
    """Whether two transactions waited for each other and the server undid this one: it may be tried again."""
    return bool(error.orig and error.orig.args and error.orig.args[0] == DEADLOCK)


def away(error: Exception) -> bool:
    """Whether the server is not there, or cannot do it now: the same request may succeed later. For other errors (a
    number that no column holds, a row that is not there) another try does not help."""
    if isinstance(error, InterfaceError | PoolTimeout):
        return True
    if not isinstance(error, OperationalError):
        return False
    code = error.orig.args[0] if error.orig and error.orig.args else 0
    return error.connection_invalidated or not isinstance(code, int) or code in NOT_NOW or 2000 <= code < 3000
