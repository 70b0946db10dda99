"""Keeps backups: has them taken when they are due, has the newest tried each week, and says what is wrong. The work is
done by a process of its own, so that nobody waits for it."""

from __future__ import annotations

import asyncio
import logging
import sys
from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager, suppress
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Annotated

from pydantic import TypeAdapter
from sqlalchemy import delete, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch import __version__
from chronarch.core.errors import CoreError
from chronarch.core.system.backup_schedule import last_due, last_trial_due, next_due
from chronarch.records import tables as t
from chronarch.service.context import ServiceContext, part
from chronarch.service.planning.settings import load_settings
from chronarch.service.problems import ApiProblem
from chronarch.service.secrets import SecretLost, Secrets
from chronarch.service.system.backup.archive import time_of
from chronarch.service.system.backup.settings import (
    KeptSettings,
    PlaceTaker,
    changed,
    keep_backup,
    load_backup,
    on_one_disk,
)
from chronarch.service.system.backup.work_messages import (
    Failed,
    Going,
    Line,
    Order,
    Taken,
    TakeOrder,
    Tried,
    TryOrder,
)
from chronarch.service.workers import LongWork
from chronarch.wire.common import fill
from chronarch.wire.system import backups as w

LOOK_EVERY_S = 2.0
AGAIN_AFTER = timedelta(minutes=15)
"""After a backup or a trial that failed, real time."""
LATE_AFTER = timedelta(hours=26)
"""So long after a backup was due it is said that there is none."""
FAILURES_KEPT = 100
LONGEST_LINE = 1 << 20
TAKEN = {"stamp", "problem", "took_s", "items", "items_bytes", "records_bytes", "sent_bytes"}
"""What the records keep of a backup that was taken, as its process told it."""
_lines: TypeAdapter[Going | Taken | Tried | Failed] = TypeAdapter(Line)
log = logging.getLogger("chronarch.backup")


@dataclass
class BackupKeeper:
    """`look` is the step of one worker."""

    context: ServiceContext
    secrets: Secrets
    going: w.BackupWork | None = None
    """What is under way."""
    _work: LongWork = field(default_factory=LongWork)
    _troubles: list[str] = field(default_factory=list)
    _trial_failed: tuple[datetime, str] | None = None
    """When a trial last could not be made, and why."""
    _beginning: asyncio.Lock = field(default_factory=asyncio.Lock)
    """Held while it is decided what begins."""

    # When ----------------------------------------------------------------------------------------------------

    async def look(self) -> None:
        """Have done what is due."""
        async with self._beginning:
            await self._look()

    async def _look(self) -> None:
        if self._work.busy():
            return
        async with self.context.sessions() as db:
            kept, rows = await load_backup(db), await _newest(db)
            zone = (await load_settings(db)).zone()
        now = self.context.clock.real_now()
        self._troubles = self._found(kept, rows, now)
        if not kept.address or not kept.on:
            return
        with suppress(SecretLost):  # said among the troubles
            if self._is_due(rows, last_due(kept.times, now, zone), now):
                self._begin("backup", await self._take_order(kept), "")
            elif kept.shared and self._trial_due(kept, rows, last_trial_due(kept.times, now, zone), now):
                self._begin("trial", self._try_order(kept, "", ""), "")

    def _is_due(self, rows: Sequence[t.BackupTaken], due: datetime, now: datetime) -> bool:
        newest = rows[0] if rows else None
        if newest is None or newest.at < due:
            return True
        return bool(newest.problem) and not newest.stamp and now - newest.at >= AGAIN_AFTER

    def _trial_due(self, kept: KeptSettings, rows: Sequence[t.BackupTaken], due: datetime, now: datetime) -> bool:
        if not any(row.stamp for row in rows) or (kept.tried_at is not None and kept.tried_at >= due):
            return False
        return self._trial_failed is None or now - self._trial_failed[0] >= AGAIN_AFTER

    def _found(self, kept: KeptSettings, rows: Sequence[t.BackupTaken], now: datetime) -> list[str]:
        """What is not as it should be."""
        if not kept.address:
            return []
        found = []
        try:
            kept.keys(self.secrets), kept.access(self.secrets)
        except SecretLost as error:
            found.append(f"no backup can be taken: its passphrase cannot be read ({error}); set the place up again")
        newest, taken = (rows[0] if rows else None), [row for row in rows if row.stamp]
        if newest is not None and newest.problem:
            what = "no backup could be taken" if not newest.stamp else "a backup was taken, but"
            found.append(f"{what} at {newest.at:%Y-%m-%d %H:%M} UTC: {newest.problem}")
        if kept.on and taken and now - taken[0].at > LATE_AFTER:
            found.append(f"the newest backup is of {taken[0].at:%Y-%m-%d %H:%M} UTC")
        tried = next((row for row in taken if row.tried_at is not None), None)
        if tried is not None and tried.faults:
            found.append(
                f"the backup of {tried.at:%Y-%m-%d %H:%M} UTC was tried and has {tried.faults:,} "
                f"fault{'s' * (tried.faults != 1)}; the first: {tried.first_faults[0]}"
            )
        if self._trial_failed is not None:
            found.append(f"the newest backup could not be tried: {self._trial_failed[1]}")
        return found

    def troubles(self) -> list[str]:
        """What is not as it should be, as it was seen last."""
        return self._troubles

    # What people ask for -------------------------------------------------------------------------------------

    async def shown(self) -> w.Backups:
        """All there is to know."""
        going = self.going  # before the records: what has ended by now, they tell of
        async with self.context.sessions() as db:
            kept, rows = await load_backup(db), await _newest(db)
            zone = (await load_settings(db)).zone()
        now = self.context.clock.real_now()
        same = await asyncio.to_thread(on_one_disk, kept.address, self.context.config.blobs)
        return w.Backups(
            same_disk=same, settings=kept.shown(), work=going, zone=str(zone),
            troubles=self._found(kept, rows, now),
            next_at=next_due(kept.times, now, zone) if kept.address and kept.on else None,
            backups=[fill(w.Backup, row, number=row.id, stamp=row.stamp or "") for row in rows],
        )  # fmt: skip

    async def shown_settings(self) -> w.BackupSettings:
        """Where backups go and when."""
        async with self.context.sessions() as db:
            return (await load_backup(db)).shown()

    async def change(self, change: w.BackupSettingsChange) -> None:
        """The rule at any time, the place while nothing is under way there. Raises ApiProblem (409, 422)."""
        async with self._beginning:
            async with self.context.sessions() as db:
                kept = before = await load_backup(db)
            if change.place is not None:
                self._refuse_busy()
                kept = await self._at_another(kept, change.place)
            elif not kept.address:
                raise ApiProblem(409, "Give a place for backups first: a folder, or storage that speaks S3.")
            async with self.context.sessions() as db:
                if kept.address != before.address:
                    await db.execute(delete(t.BackupTaken))
                await keep_backup(db, changed(kept, change))
                await db.commit()
            await self._look()

    async def _at_another(self, kept: KeptSettings, wish: w.BackupPlace) -> KeptSettings:
        """The settings with another place, which was tried. Raises ApiProblem (422)."""
        taker = PlaceTaker(self.secrets, self.context.config, self.context.shop.name, self.context.clock.real_now())
        try:
            kept = await taker.taken(kept, wish)
        except CoreError as error:
            raise ApiProblem(422, str(error)) from None
        self._trial_failed = None
        return kept

    async def take(self, who: str) -> None:
        """Begin to take a backup. Raises ApiProblem (409)."""
        async with self._beginning, self._readable():
            self._begin("backup", await self._take_order(await self._settled()), who)

    async def try_one(self, wish: w.TrialWish) -> None:
        """Begin to try a backup. Raises ApiProblem (409)."""
        async with self._beginning, self._readable():
            kept = await self._settled()
            if kept.public and wish.private_key is None:
                raise ApiProblem(
                    409, "The backups are sealed for a public key: give the private key with which one is tried. It "
                    "is kept nowhere."
                )  # fmt: skip
            self._begin("trial", self._try_order(kept, wish.stamp, wish.private_key or ""), "")

    async def _settled(self) -> KeptSettings:
        """What is set, where work can begin now. Raises ApiProblem (409)."""
        self._refuse_busy()
        async with self.context.sessions() as db:
            kept = await load_backup(db)
        if not kept.address:
            raise ApiProblem(409, "There is no place for backups yet; give one first.")
        return kept

    @asynccontextmanager
    async def _readable(self) -> AsyncIterator[None]:
        try:
            yield
        except SecretLost as error:
            raise ApiProblem(409, f"The passphrase cannot be read: {error}. Set the place up again.") from None

    def _refuse_busy(self) -> None:
        if self.going is not None:
            raise ApiProblem(409, f"A {self.going.what} is under way ({self.going.step}); wait until it has ended.")

    # Work ----------------------------------------------------------------------------------------------------

    async def _take_order(self, kept: KeptSettings) -> TakeOrder:
        """Raises SecretLost."""
        config = self.context.config
        async with self.context.sessions() as db:
            zone = (await load_settings(db)).zone()
        return TakeOrder(
            place=kept.access(self.secrets), keys=kept.keys(self.secrets), database=config.database,
            blobs=config.blobs.absolute(), secrets_key=self.secrets.key_file.absolute(), shop=kept.shop,
            name_key=kept.open_name_key(self.secrets), version=__version__,
            at=self.context.clock.real_now(), shop_at=self.context.clock.now(), zone=str(zone), rule=kept.rule,
        )  # fmt: skip

    def _try_order(self, kept: KeptSettings, stamp: str, private: str) -> TryOrder:
        """Raises SecretLost."""
        return TryOrder(
            place=kept.access(self.secrets), keys=kept.keys(self.secrets, private), shop=kept.shop, stamp=stamp,
            scratch=(self.context.config.blobs / "trial").absolute(),
        )  # fmt: skip

    def _begin(self, what: str, order: Order, who: str) -> None:
        self.going = w.BackupWork.model_validate(
            {"what": what, "step": "beginning", "since": self.context.clock.real_now()}
        )
        self._work.begin(self._do(order, who))

    async def _do(self, order: Order, who: str) -> None:
        began = self.context.clock.real_now()
        try:
            last = await self._run(order)
            async with self._beginning, self.context.sessions() as db:
                match last:
                    case Taken():
                        await self._taken(db, last, who)
                    case Tried():
                        await self._tried(db, last)
                    case Failed() if isinstance(order, TakeOrder):
                        log.warning("no backup could be taken: %s", last.text)
                        db.add(t.BackupTaken(at=began, asked_by=who, problem=last.text[:1000]))
                    case Failed():
                        log.warning("no backup could be tried: %s", last.text)
                        self._trial_failed = self.context.clock.real_now(), last.text
                await _forget_failures(db)
                await db.commit()
        finally:
            self.going = None

    async def _run(self, order: Order) -> Taken | Tried | Failed:
        """Have a process do it; what that came to."""
        process = await asyncio.create_subprocess_exec(
            sys.executable, "-m", "chronarch.service.system.backup.work",
            stdin=asyncio.subprocess.PIPE, stdout=asyncio.subprocess.PIPE, limit=LONGEST_LINE,
        )  # fmt: skip
        assert process.stdin is not None and process.stdout is not None
        last: Taken | Tried | Failed | None = None
        try:
            process.stdin.write(order.model_dump_json().encode() + b"\n")
            await process.stdin.drain()
            async for text in process.stdout:
                line = _lines.validate_json(text)
                if not isinstance(line, Going):
                    last = line
                elif self.going is not None:
                    share = line.done / line.total if line.total else None
                    self.going = self.going.model_copy(update={"step": line.step, "share": share})
            code = await process.wait()
        except OSError as error:
            return Failed(text=f"its process broke off: {error}")
        finally:
            if process.returncode is None:
                process.kill()
        return last or Failed(text=f"its process ended too early (code {code}); nothing at the place was damaged")

    async def _taken(self, db: AsyncSession, done: Taken, who: str) -> None:
        db.add(t.BackupTaken(at=done.taken_at, asked_by=who, **done.model_dump(include=TAKEN)))
        gone = t.BackupTaken.stamp.is_not(None) & t.BackupTaken.stamp.not_in(done.kept)
        await db.execute(delete(t.BackupTaken).where(gone))

    async def _tried(self, db: AsyncSession, done: Tried) -> None:
        self._trial_failed = None
        row = (await db.execute(select(t.BackupTaken).where(t.BackupTaken.stamp == done.stamp))).scalar_one_or_none()
        if row is None:  # it was taken by an earlier installation
            row = t.BackupTaken(stamp=done.stamp, at=time_of(done.stamp))
            db.add(row)
        row.tried_at, row.restore_s = self.context.clock.real_now(), done.restore_s
        kept = await load_backup(db)  # the backup itself may be gone before the next trial is due
        await keep_backup(db, kept.model_copy(update={"tried_at": row.tried_at}))
        row.faults, row.first_faults = done.found, done.faults


async def _newest(db: AsyncSession) -> Sequence[t.BackupTaken]:
    query = select(t.BackupTaken).order_by(t.BackupTaken.at.desc(), t.BackupTaken.id.desc())
    return (await db.execute(query)).scalars().all()


async def _forget_failures(db: AsyncSession) -> None:
    failed = select(t.BackupTaken.id).where(t.BackupTaken.stamp.is_(None)).order_by(t.BackupTaken.id.desc())
    old = (await db.execute(failed.offset(FAILURES_KEPT))).scalars().all()
    await db.execute(delete(t.BackupTaken).where(t.BackupTaken.id.in_(old)))


TheBackupKeeper = Annotated[BackupKeeper, part(BackupKeeper)]
