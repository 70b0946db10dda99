"""Pictures that people take: received, kept as contents, and given out."""

from __future__ import annotations

from fastapi import Request
from fastapi.responses import FileResponse
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records import tables as t
from chronarch.service.library.content_store import ContentStore, Received
from chronarch.service.problems import ApiProblem

LARGEST = 12_000_000
STARTS = (b"\xff\xd8\xff", b"\x89PNG\r\n\x1a\n")


async def receive_picture(store: ContentStore, request: Request) -> Received:
    """A JPEG or PNG picture that is sent. Raises ApiProblem (413, 422)."""
    received = await store.receive(request.stream(), LARGEST)
    with received.path.open("rb") as source:
        head = source.read(8)
    if not head.startswith(STARTS):
        received.path.unlink()
        raise ApiProblem(422, "This is neither a JPEG nor a PNG picture; take a photo.")
    return received


async def keep_picture(db: AsyncSession, store: ContentStore, received: Received) -> str:
    """Keep what was received; its hash. Committed by whoever asks."""
    store.keep(received.path, received.sha256)
    if await db.get(t.Blob, received.sha256) is None:
        db.add(t.Blob(sha256=received.sha256, size=received.size))
        await db.flush()
    return received.sha256


def picture_file(store: ContentStore, sha256: str) -> FileResponse:
    path = store.path(sha256)
    with path.open("rb") as source:
        kind = "image/png" if source.read(1) == b"\x89" else "image/jpeg"
    return FileResponse(path, media_type=kind)
