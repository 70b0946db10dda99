"""Files on their way into the library: kept, read in a process of their own, then added, or refused and why.

A file is on disk and in the records before it is read, so that a reading cut off by a restart is done again.
"""

from __future__ import annotations

import asyncio
import errno
import logging
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import suppress
from dataclasses import asdict
from typing import Annotated, Any

from sqlalchemy import delete, func, select
from sqlalchemy.exc import IntegrityError, SQLAlchemyError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.errors import CoreError
from chronarch.core.gcode.decompress import is_packed
from chronarch.core.machines.model import MachineModel
from chronarch.core.orders.requirement import Requirement
from chronarch.records import tables as t
from chronarch.records.failures import away
from chronarch.records.library import files as library
from chronarch.records.orders.queue import last_in_line
from chronarch.service.context import ServiceContext, part
from chronarch.service.http.idempotency import Note
from chronarch.service.library.content_store import ContentStore, Received
from chronarch.service.library.readers import ContentReaders
from chronarch.service.problems import ApiProblem
from chronarch.service.process_pool import NotDone
from chronarch.wire import library as w
from chronarch.wire.machines.model import machine_model

READING, DONE, REFUSED = "reading", "done", "refused"
AGAIN_AFTER_S, AGAIN_AT_MOST_S = 1.0, 30.0
MOST_TRIES = 4
"""How often the reading of a file is begun. A file that takes the service down each time is refused then."""
log = logging.getLogger("chronarch.intake")


class UploadIntake:
    """Takes files in; those with the same content one after another."""

    def __init__(self, context: ServiceContext, store: ContentStore, readers: ContentReaders) -> None:
        self._context, self._store, self._readers = context, store, readers
        self._stale: set[str] = set()
        """Models whose figures have changed since their files were read."""
        self.wanted = context.changes.watch("models", "readings")
        self.begin: Callable[[int, str], Awaitable[object]] = _nobody_begins
        """Begins a job on a machine; whoever plans says how."""
        self._ended: dict[int, asyncio.Event] = {}
        self._slots: dict[int, int] = {}
        self._tasks: set[asyncio.Task[None]] = set()
        self._contents: dict[str, asyncio.Lock] = {}
        self._unreadable: dict[tuple[str, str], MachineModel] = {}
        """Contents that a model could not read, by content and model. They are not tried again until the model
        changes."""

    async def receive(self, chunks: AsyncIterator[bytes]) -> Received:
        """Stream a file to where files wait, and unpack it. Raises ApiProblem (413), NotGcode, TooLarge and NotDone,
        and then leaves nothing behind."""
        largest = self._context.config.largest_file
        sent = await self._store.receive(chunks, largest)
        with sent.path.open("rb") as file:
            if not is_packed(file.read(4)):
                return sent
        out = self._store.new_path()
        try:
            sha256, size = await self._readers.unpack(sent.path, out, largest)
        except BaseException:
            out.unlink(missing_ok=True)
            raise
        finally:
            sent.path.unlink(missing_ok=True)
        return Received(out, sha256, size, sent.sha256, packed=True)

    async def take(self, received: Received, name: str, by: str, note: Note | None = None, **wish: Any) -> int:
        """Keep what was received and begin to read it. Returns the number of the arrival, which `note` gets in the same
        transaction. `wish` has `folder`, `how` and `queue`."""
        async with self._context.sessions() as db:
            self._store.keep(received.path, received.sha256)
            row = t.Arrival(
                name=name, sha256=received.sha256, size=received.size, state=READING, wish=wish,
                added_at=self._context.clock.now(), added_by=by,
            )  # fmt: skip
            db.add(row)
            await db.flush()
            number = row.id
            if note is not None:
                await note(db, str(number))
            await db.commit()
        self._begin(number)
        return number

    def _begin(self, number: int) -> None:
        self._ended[number] = asyncio.Event()
        task = asyncio.create_task(self._work(number))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def resume(self) -> None:
        """Continue what was being read when the service stopped, and read what new models have not read yet."""
        async with self._context.sessions() as db:
            left = (await db.execute(select(t.Arrival.id).where(t.Arrival.state == READING))).scalars().all()
        for number in left:
            self._begin(number)
        self._context.changes.wake("readings")

    async def settled(self, number: int, within_s: float) -> t.Arrival:
        """The arrival once it is done or refused, or as it is after `within_s`."""
        ended = self._ended.get(number)
        if ended is not None:
            with suppress(TimeoutError):
                async with asyncio.timeout(within_s):
                    await ended.wait()
        async with self._context.sessions() as db:
            return await db.get_one(t.Arrival, number)

    def progress(self, row: t.Arrival) -> float:
        """The progress of its reading, 0 to 1."""
        if row.state != READING:
            return 1.0
        slot = self._slots.get(row.id)
        return self._readers.share(slot) if slot is not None else 0.0

    def close(self) -> None:
        for task in self._tasks:
            task.cancel()

    async def _work(self, number: int) -> None:
        """Read it and add it, or refuse it. Waits while the database or the disk is not available."""
        wait_s, begun, refused = AGAIN_AFTER_S, False, ""
        try:
            while True:
                try:
                    if refused:
                        await self._refuse(number, refused)
                    else:
                        if not begun:
                            await self._count_try(number)
                        begun = True
                        await self._read_and_add(number)
                    break
                except Exception as error:
                    if _is_away(error):
                        log.warning("an arrival waits: %s", str(error).splitlines()[0])
                        await asyncio.sleep(wait_s)
                        wait_s = min(wait_s * 2, AGAIN_AT_MOST_S)
                        continue
                    if not isinstance(error, CoreError):
                        log.warning("arrival %d is refused", number, exc_info=error)
                    if refused:
                        break
                    refused = _why_refused(error)
        finally:
            self._ended.pop(number, asyncio.Event()).set()

    async def _count_try(self, number: int) -> None:
        """Count that this service begins to read it. Raises NotDone when that went wrong too often."""
        async with self._context.sessions() as db:
            row = await db.get_one(t.Arrival, number)
            row.tries += 1
            await db.commit()
        if row.tries > MOST_TRIES:
            raise NotDone(
                f"Its reading was begun {MOST_TRIES} times, and each time the service stopped before its end."
            )

    async def _read_and_add(self, number: int) -> None:
        async with self._context.sessions() as db:
            row = await db.get_one(t.Arrival, number)
            sha256 = row.sha256
        async with self._contents.setdefault(sha256, asyncio.Lock()):
            found = await self._readings(sha256, number)
            async with self._context.sessions() as db:
                await add_content(db, sha256, row.size, found)
                try:
                    await self._add(db, number)
                    await db.commit()
                except IntegrityError:
                    # somebody added a file of this name at the same moment: this is now a revision of theirs
                    await db.rollback()
                    await add_content(db, sha256, row.size, found)
                    await self._add(db, number)
                    await db.commit()
        self._contents.pop(sha256, None)
        await self._begin_now(number)

    async def _begin_now(self, number: int) -> None:
        """Have its job begin at once where that was asked; if that cannot be any more, it is first in line."""
        async with self._context.sessions() as db:
            row = await db.get_one(t.Arrival, number)
        queue = row.wish.get("queue") or {}
        if queue.get("now") and row.job_id is not None:
            try:
                await self.begin(row.job_id, queue["machine"])
            except (CoreError, ApiProblem, SQLAlchemyError) as error:
                log.warning("job %d did not begin at once: %s", row.job_id, str(error).splitlines()[0])

    async def _readings(self, sha256: str, number: int) -> list[tuple[str, dict[str, Any], dict[str, Any]]]:
        """What the content says for every model that has not read it yet."""
        async with self._context.sessions() as db:
            models = core_models(await library.models_of(db))
            have = (await db.execute(select(t.ContentReading.model).where(t.ContentReading.sha256 == sha256))).scalars()
            for model in have:
                models.pop(model, None)
        if not models:
            return []
        slot = self._readers.slot()
        self._slots[number] = slot
        try:
            return await self._readers.read(self._store.path(sha256), self._store.derived(sha256), models, slot)
        finally:
            self._slots.pop(number, None)
            self._readers.release(slot)

    async def _add(self, db: AsyncSession, number: int) -> None:
        """Make the new revision, or the new file, and its job if one was asked for."""
        now = self._context.clock.now()
        row = await db.get_one(t.Arrival, number, with_for_update=True)
        wish = row.wish
        file = (
            await db.execute(select(t.File).where(t.File.live_name == row.name).with_for_update())
        ).scalar_one_or_none()
        row.new = True
        if file is None:
            folder = wish.get("folder") or ""
            file = t.File(name=row.name, folder=folder, tags=[], newest=1, added_at=now, added_by=row.added_by)
            db.add(file)
            await db.flush()
            await make_folders(db, folder)
            how = wish.get("how") or "added"
            db.add(
                t.Revision(file_id=file.id, number=1, sha256=row.sha256, how=how, added_at=now, added_by=row.added_by)
            )
        else:
            newest = await db.execute(
                select(t.Revision.sha256).where(t.Revision.file_id == file.id, t.Revision.number == file.newest)
            )
            if newest.scalar_one() == row.sha256:
                row.new = False
            else:
                await library.next_revision(db, file, row.sha256, wish.get("how") or "added", now, row.added_by)
            if wish.get("folder") and wish["folder"] != file.folder:
                file.folder = wish["folder"]
                await make_folders(db, file.folder)
        row.file_id, row.state = file.id, DONE
        if wish.get("queue"):
            queue = w.QueueWish.model_validate(wish["queue"])
            needs = Requirement(**queue.model_dump(include={"material", "colour", "machine", "model"}))
            job = t.Job(
                file_id=file.id,
                copies=queue.copies,
                held=queue.held,
                requirement=asdict(needs),
                line=await last_in_line(db),
                top=queue.now,
                created_at=now,
                created_by=row.added_by,
            )
            db.add(job)
            await db.flush()
            row.job_id = job.id

    async def _refuse(self, number: int, why: str) -> None:
        async with self._context.sessions() as db:
            row = await db.get_one(t.Arrival, number)
            row.state, row.problem = REFUSED, why
            await db.commit()
            await drop_unused(self._store, db, [row.sha256])

    async def read_missing(self) -> None:
        """Read every file's newest content for the models that have not read it: models that were added after it, or
        given other figures."""
        self._stale |= self.wanted.take()
        stale = set(self._stale)
        async with self._context.sessions() as db:
            models = core_models(await library.models_of(db))
            contents = (
                await db.execute(
                    select(t.Revision.sha256)
                    .join(t.File, t.File.id == t.Revision.file_id)
                    .where(t.File.binned_at.is_(None))
                    .distinct()
                )
            ).scalars()
            have: dict[str, set[str]] = {sha256: set() for sha256 in contents}
            for sha256, model in await db.execute(select(t.ContentReading.sha256, t.ContentReading.model)):
                if sha256 in have and model not in stale:
                    have[sha256].add(model)
        for sha256, read in have.items():
            missing = {
                name: model
                for name, model in models.items()
                if name not in read and self._unreadable.get((sha256, name)) != model
            }
            if not missing:
                continue
            slot = self._readers.slot()
            try:
                found = await self._readers.read(self._store.path(sha256), self._store.derived(sha256), missing, slot)
            except (CoreError, OSError) as error:
                log.warning("content %s could not be read again: %s", sha256[:12], error)
                self._unreadable.update({(sha256, name): model for name, model in missing.items()})
                continue
            finally:
                self._readers.release(slot)
            try:
                async with self._context.sessions() as db:
                    await add_content(db, sha256, None, found)
                    await db.commit()
            except SQLAlchemyError as error:
                if away(error):
                    raise
                log.warning("what content %s says cannot be kept: %s", sha256[:12], str(error).splitlines()[0])
                self._unreadable.update({(sha256, name): model for name, model in missing.items()})
        self._stale -= stale


TheIntake = Annotated[UploadIntake, part(UploadIntake)]


async def _nobody_begins(job: int, machine: str) -> None:
    """Until somebody says how, a job waits for its turn."""


def _is_away(error: Exception) -> bool:
    """Whether the database is not there, or the disk is full: neither is the file's fault."""
    return away(error) or (isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT))


def _why_refused(error: Exception) -> str:
    match error:
        case CoreError():
            return str(error)
        case FileNotFoundError():
            return "Its bytes are gone from the disk. Send it again."
        case SQLAlchemyError():
            return f"What was read of it cannot be kept: {str(error).splitlines()[0][:200]}. Slice it again."
    return f"It could not be read: {type(error).__name__}, {str(error)[:200]}."


def core_models(rows: list[t.Model]) -> dict[str, MachineModel]:
    """The shop's models by name; a reference while it has none."""
    models = {row.name: machine_model.validate_python(row.spec) for row in rows}
    return models or {"": MachineModel("reference")}


async def add_content(
    db: AsyncSession, sha256: str, size: int | None, found: list[tuple[str, dict[str, Any], dict[str, Any]]]
) -> None:
    """Write what was read of a content. A `size` means that its blob may be new."""
    if size is not None and await db.get(t.Blob, sha256) is None:
        db.add(t.Blob(sha256=sha256, size=size))
        await db.flush()
    for model, figures, plan in found:
        row = t.ContentReading(sha256=sha256, model=model, planned_s=figures["planned_s"], figures=figures, plan=plan)
        await db.merge(row)
    await db.flush()


async def make_folders(db: AsyncSession, path: str) -> None:
    """Make a folder and all folders above it."""
    names = path.split("/") if path else []
    for n in range(1, len(names) + 1):
        above = "/".join(names[:n])
        if await db.get(t.Folder, above) is None:
            db.add(t.Folder(path=above))
            await db.flush()


async def drop_unused(store: ContentStore, db: AsyncSession, contents: list[str]) -> None:
    """Remove contents that no revision, build, part, photo or running arrival names."""
    for sha256 in set(contents):
        used = 0
        for column in (t.Revision.sha256, t.Build.sha256, t.Build.fed_sha256, t.Build.photo, t.Machine.photo):
            used += (await db.execute(select(func.count()).where(column == sha256))).scalar_one()
        used += (
            await db.execute(select(func.count()).where(t.Arrival.sha256 == sha256, t.Arrival.state == READING))
        ).scalar_one()
        shapes = (await db.execute(select(t.Part.shape).where(t.Part.shape.is_not(None)))).scalars()
        if used or any(shape and shape.get("sha256") == sha256 for shape in shapes):
            continue
        for rows in (t.ContentReading, t.Overruling, t.Blob):
            await db.execute(delete(rows).where(rows.sha256 == sha256))
        await db.commit()
        store.drop(sha256)
