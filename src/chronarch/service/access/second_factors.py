"""Second factors: an app that shows codes (TOTP, RFC 6238), and recovery codes for when it is lost. A passkey is one
too; see `passkeys`."""

from __future__ import annotations

import io
import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import pyotp
import segno
from sqlalchemy import delete, func, select, update
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records import tables as t
from chronarch.records.access.holding import guarded_roles, roles_held
from chronarch.service.context import ServiceContext, part
from chronarch.service.principals import hash_secret
from chronarch.service.problems import ApiProblem
from chronarch.service.secrets import SecretLost, Secrets
from chronarch.wire import access as w
from chronarch.wire.common import SECOND_FACTOR, fill

STEP_S, AROUND = 30, 1
"""A code holds for so long; those of so many steps before and after are taken too, because clocks differ."""
RECOVERY_CODES, GROUPS, GROUP = 10, 3, 4
LETTERS = "23456789ABCDEFGHJKMNPQRSTUVWXYZ"
MOST = 20
"""How many second factors one person may have."""
APP, PASSKEY = "app", "passkey"


def totp_step(secret: str, code: str, now_s: float, after: int) -> int | None:
    """The time step whose code this is, later than `after`; None for a code that is wrong, old, or was used."""
    one = pyotp.TOTP(secret, interval=STEP_S)
    step = int(now_s // STEP_S)
    for near in range(step - AROUND, step + AROUND + 1):
        if near > after and secrets.compare_digest(one.generate_otp(near), code):
            return near
    return None


def plain(code: str) -> str:
    """A code without what people write between its characters."""
    return "".join(c for c in code.upper() if c.isalnum())


@dataclass
class SecondFactors:
    """What people have beside their password."""

    context: ServiceContext
    secrets: Secrets

    async def check(self, person: t.Person, code: str, status: int = 401) -> bool:
        """Whether somebody who knows the password has shown a second factor, too. Raises ApiProblem (`status`)
        where they have one and show none, or a wrong code; each code is taken once."""
        async with self.context.sessions() as db:
            rows = await self._of(db, person.id)
            if not rows:
                return False
            given = plain(code)
            if not given:
                raise ApiProblem(status, "Type the code that your app shows, or a recovery code.", SECOND_FACTOR)
            good = await self._by_app(db, rows, given) or await self._by_recovery(db, person.id, given)
            if not good:
                text = "This code is wrong, too old, or was used already; take the next one."
                raise ApiProblem(status, text, SECOND_FACTOR)
            await db.commit()
        return True

    async def _of(self, db: AsyncSession, person: int) -> Sequence[t.SecondFactor]:
        query = select(t.SecondFactor).where(t.SecondFactor.person_id == person, t.SecondFactor.confirmed)
        return (await db.execute(query.order_by(t.SecondFactor.id))).scalars().all()

    async def _by_app(self, db: AsyncSession, rows: Sequence[t.SecondFactor], code: str) -> bool:
        now = self.context.clock.real_now()
        for row in rows:
            if row.kind != APP:
                continue
            try:
                step = totp_step(self.secrets.open(row.secret), code, now.timestamp(), row.counted)
            except SecretLost:
                continue
            if step is not None:
                # of two requests with one code, one finds the row as it was
                used = update(t.SecondFactor).where(t.SecondFactor.id == row.id, t.SecondFactor.counted < step)
                done = await db.execute(used.values(counted=step, last_at=now))
                return bool(done.rowcount)  # type: ignore[attr-defined]
        return False

    async def _by_recovery(self, db: AsyncSession, person: int, code: str) -> bool:
        mine = delete(t.RecoveryCode).where(t.RecoveryCode.person_id == person)
        done = await db.execute(mine.where(t.RecoveryCode.code_hash == hash_secret(code)))
        return bool(done.rowcount)  # type: ignore[attr-defined]

    async def shown(self, person: int) -> w.SecondFactorsShown:
        """What somebody has, and which of their roles want one."""
        async with self.context.sessions() as db:
            left = select(func.count()).select_from(t.RecoveryCode).where(t.RecoveryCode.person_id == person)
            return w.SecondFactorsShown(
                factors=[fill(w.SecondFactorShown, row) for row in await self._of(db, person)],
                recovery_codes=(await db.execute(left)).scalar_one(),
                wanted_by=sorted(await guarded_roles(db) & await roles_held(db, person)),
            )

    async def add_app(self, person: t.Person, name: str) -> w.NewApp:
        """Begin with an app: its secret, to be confirmed by a code. Raises ApiProblem (409)."""
        secret = pyotp.random_base32()
        async with self.context.sessions() as db:
            await self.check_room(db, person.id)
            begun = (t.SecondFactor.person_id == person.id, ~t.SecondFactor.confirmed)
            await db.execute(delete(t.SecondFactor).where(*begun))
            row = t.SecondFactor(
                person_id=person.id, kind=APP, name=name, secret=self.secrets.seal(secret),
                added_at=self.context.clock.real_now(),
            )  # fmt: skip
            db.add(row)
            await db.commit()
            uri = pyotp.TOTP(secret, interval=STEP_S).provisioning_uri(
                name=person.login, issuer_name=self.context.shop.name
            )
            drawn = io.BytesIO()
            segno.make(uri, error="m").save(drawn, kind="svg", scale=4, border=4, light="#fff", xmldecl=False)
            return w.NewApp(id=row.id, secret=secret, uri=uri, qr_svg=drawn.getvalue().decode())

    async def check_room(self, db: AsyncSession, person: int) -> None:
        many = select(func.count()).select_from(t.SecondFactor).where(t.SecondFactor.person_id == person)
        if (await db.execute(many)).scalar_one() >= MOST:
            raise ApiProblem(409, f"You have {MOST} second factors already; remove one first.")

    async def confirm(self, person: int, number: int, code: str, session: str) -> w.SecondFactorAdded:
        """An app has shown its first code: it counts from now on. Raises ApiProblem (404, 422)."""
        async with self.context.sessions() as db:
            row = await self.find(db, person, number)
            if not await self._by_app(db, [row], plain(code)):
                raise ApiProblem(422, "This is not the code that the app shows now; is the device's clock right?")
            row.confirmed = True
            added = await self.added(db, person, session)
            await db.commit()
        return w.SecondFactorAdded(recovery_codes=added)

    async def added(self, db: AsyncSession, person: int, session: str) -> list[str]:
        """Somebody has a further factor, and has shown it in this session: recovery codes, if it is their first; not
        committed."""
        now = self.context.clock.real_now()
        await db.execute(update(t.Session).where(t.Session.token_hash == session).values(second=True, shown_at=now))
        codes = select(t.RecoveryCode.id).where(t.RecoveryCode.person_id == person)
        if (await db.execute(codes.limit(1))).first() is not None:
            return []
        return await self.new_recovery_codes(db, person)

    async def new_recovery_codes(self, db: AsyncSession, person: int) -> list[str]:
        """Other recovery codes; those before count no more. Not committed. Raises ApiProblem (409)."""
        await db.flush()
        if not await self._of(db, person):
            raise ApiProblem(409, "Recovery codes stand for a second factor; add one first.")
        await db.execute(delete(t.RecoveryCode).where(t.RecoveryCode.person_id == person))
        codes = [
            "-".join("".join(secrets.choice(LETTERS) for _ in range(GROUP)) for _ in range(GROUPS))
            for _ in range(RECOVERY_CODES)
        ]
        db.add_all([t.RecoveryCode(person_id=person, code_hash=hash_secret(plain(code))) for code in codes])
        return codes

    async def find(self, db: AsyncSession, person: int, number: int) -> t.SecondFactor:
        """Raises ApiProblem (404)."""
        row = await db.get(t.SecondFactor, number)
        if row is None or row.person_id != person:
            raise ApiProblem(404, f"You have no second factor {number}.")
        return row

    async def remove(self, person: int, number: int | None = None) -> None:
        """Take one away, or all; with the last go the recovery codes. Raises ApiProblem (404)."""
        async with self.context.sessions() as db:
            if number is None:
                await db.execute(delete(t.SecondFactor).where(t.SecondFactor.person_id == person))
            else:
                await db.delete(await self.find(db, person, number))
            await db.flush()
            if not await self._of(db, person):
                await db.execute(delete(t.RecoveryCode).where(t.RecoveryCode.person_id == person))
            await db.commit()


TheSecondFactors = Annotated[SecondFactors, part(SecondFactors)]
