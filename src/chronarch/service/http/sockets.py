"""What all WebSockets share: why one is closed, and closing it."""

from __future__ import annotations

import contextlib
import logging
from collections.abc import AsyncIterator
from contextlib import suppress

from fastapi import WebSocket, WebSocketDisconnect
from pydantic import ValidationError
from sqlalchemy.exc import SQLAlchemyError

from chronarch.service.problems import ApiProblem

NOT_UNDERSTOOD, REFUSED, COME_BACK = 4400, 4401, 1013
HELD = 4409
CODES = {409: HELD, 400: NOT_UNDERSTOOD}
"""How a problem of a status closes a socket; all others refuse."""
HELLO_WITHIN_S = 10
log = logging.getLogger("chronarch.upstream")


async def close_socket(socket: WebSocket, code: int, reason: str) -> None:
    """Close a socket that may be closed already."""
    with suppress(RuntimeError, WebSocketDisconnect):
        await socket.close(code, reason[:120])


@contextlib.asynccontextmanager
async def closed_for_cause(socket: WebSocket, who: str) -> AsyncIterator[None]:
    """Whatever goes wrong within closes the socket with a code and a reason. `who` is at its other end, in words."""
    try:
        yield
    except ApiProblem as error:
        await close_socket(socket, CODES.get(error.status, REFUSED), str(error))
    except ValueError as error:
        first = error.errors()[0]["msg"] if isinstance(error, ValidationError) else str(error)
        await close_socket(socket, NOT_UNDERSTOOD, f"A message was not understood: {first}")
    except SQLAlchemyError as error:
        log.warning("%s was sent away, the database does not answer: %s", who, str(error).splitlines()[0])
        await close_socket(socket, COME_BACK, "The database does not answer; come back in a moment.")
    except TimeoutError:
        await close_socket(socket, NOT_UNDERSTOOD, f"Nothing was said for {HELLO_WITHIN_S} s.")
    except KeyError:
        await close_socket(socket, NOT_UNDERSTOOD, "Bytes came where text belongs.")
    except WebSocketDisconnect:
        pass
