"""The API's routes of library."""

from chronarch.service.library.routes import (
    batches,
    contents,
    drop,
    edits,
    files,
    folders,
    machine_photos,
    parts,
    ways_in,
)

routers = (
    drop.router, ways_in.router, files.router, batches.router, folders.router, edits.router, contents.router,
    parts.router, machine_photos.router,
)  # fmt: skip
