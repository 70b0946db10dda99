"""What the records have of a person, and what becomes of it when they leave.

What is a person's own goes: sessions, the places they signed in from, channels, rules, notices to them alone. What they
did stays, signed by somebody who left.
"""

from __future__ import annotations

import json
from collections.abc import AsyncIterator, Iterator
from datetime import date, datetime
from typing import Any

from sqlalchemy import ColumnElement, LargeBinary, bindparam, delete, func, select, tuple_, update
from sqlalchemy.ext.asyncio import AsyncSession, async_sessionmaker
from sqlalchemy.orm import InstrumentedAttribute

from chronarch.records.access.audit_trail import take_out
from chronarch.records.access.tables import (
    Invite,
    Key,
    Person,
    RecoveryCode,
    RoleHeld,
    SecondFactor,
    Session,
    TeamMember,
)
from chronarch.records.audit import AuditEntry, tells_no_rows
from chronarch.records.base import Base, SignedBy
from chronarch.records.ledger.tables import BuildStop, KeptReport, Ledger, ReportPlan
from chronarch.records.machines.tables import Machine
from chronarch.records.notices.tables import ActUse, Channel, Delivery, Notice, NoticeRule, SignInPlace
from chronarch.records.orders.tables import Build
from chronarch.records.system.tables import Answered

LEFT = "somebody who left"
AT_ONCE = 500
OWN: tuple[tuple[type[Base], InstrumentedAttribute[Any]], ...] = (
    (Session, Session.person_id), (RoleHeld, RoleHeld.person_id), (TeamMember, TeamMember.person_id),
    (Key, Key.person_id), (SecondFactor, SecondFactor.person_id), (RecoveryCode, RecoveryCode.person_id),
    (Invite, Invite.person_id), (SignInPlace, SignInPlace.person_id),
    (NoticeRule, NoticeRule.person_id), (Channel, Channel.person_id), (ActUse, ActUse.person_id),
    (Notice, Notice.person_id),
)  # fmt: skip
"""What is a person's own, and the column that says so."""
SAID: tuple[InstrumentedAttribute[str], ...] = (
    Ledger.reason, Build.reason, Machine.reason, BuildStop.why, Notice.text,
)  # fmt: skip
"""Where we have written a name into a sentence, after `by` or before `turned`."""
SECRET = {"password_hash", "token_hash", "secret_hash", "old_secret_hash", "code_hash", "csrf", "access"}


def signatures() -> Iterator[tuple[type[Base], str]]:
    """Every table with a column that holds who did something, and what that column is called."""
    for mapper in Base.registry.mappers:
        for name, column in mapper.columns.items():
            if isinstance(column.type, SignedBy):
                yield mapper.class_, name


# What there is of somebody --------------------------------------------------------------------------------------------


async def all_of(
    sessions: async_sessionmaker[AsyncSession], person: Person
) -> AsyncIterator[tuple[str, dict[str, Any]]]:
    """All rows that are a person's own, and all that they signed: table and row, without secrets and pictures. Read
    some at a time; no connection is held in between."""
    yield "person", _plain(person)
    for kind, column in OWN:
        async for row in _rows(sessions, kind, column == person.id):
            yield kind.__tablename__, row
    for kind, name in signatures():
        async for row in _rows(sessions, kind, getattr(kind, name) == person.name):
            yield kind.__tablename__, row
    async for row in _rows(sessions, AuditEntry, AuditEntry.who == f"person {person.id}"):
        yield AuditEntry.__tablename__, row


async def _rows(
    sessions: async_sessionmaker[AsyncSession], kind: type[Base], wanted: ColumnElement[bool]
) -> AsyncIterator[dict[str, Any]]:
    keys = kind.__table__.primary_key.columns  # type: ignore[attr-defined]
    after: tuple[Any, ...] | None = None
    while True:
        query = select(kind).where(wanted).order_by(*keys).limit(AT_ONCE)
        if after is not None:
            query = query.where(tuple_(*keys) > tuple_(*(bindparam(None, one) for one in after)))
        async with sessions() as db:
            rows = (await db.execute(query)).scalars().all()
        for row in rows:
            yield _plain(row)
        if len(rows) < AT_ONCE:
            return
        after = tuple(getattr(rows[-1], column.key) for column in keys)


def _plain(row: Base) -> dict[str, Any]:
    """A row as JSON can have it."""
    shown = {}
    for column in type(row).__table__.columns:
        if column.key not in SECRET and not isinstance(column.type, LargeBinary):
            value = getattr(row, column.key)
            shown[column.key] = value.isoformat() if isinstance(value, datetime | date) else value
    return shown


# When they leave ------------------------------------------------------------------------------------------------------


async def leave(db: AsyncSession, person: Person) -> None:
    """Remove a person; not committed."""
    tells_no_rows(db.sync_session)
    await take_out(db, person)
    for kind, name in signatures():
        await db.execute(update(kind).where(getattr(kind, name) == person.name).values({name: LEFT}))
    for column in SAID:
        await _unname(db, column, person.name)
    await _unlist(db, person.login)
    invited = Invite.name == person.name
    await db.execute(update(Invite).where(invited).values(name=LEFT, mail=""))
    mine = select(Notice.id).where(Notice.person_id == person.id)
    for about in (Delivery.notice_id, ActUse.notice_id):
        await db.execute(delete(about.class_).where(about.in_(mine)))
    for kind, column in OWN:
        await db.execute(delete(kind).where(column == person.id))
    await db.execute(update(Notice).where(Notice.taker_id == person.id).values(taker_id=None))
    await db.execute(delete(Answered).where(Answered.who == f"person {person.id}"))
    await db.delete(person)


async def _unname(db: AsyncSession, column: InstrumentedAttribute[str], name: str) -> None:
    """Take a name out of the sentences that we made with it."""
    quoted = f"\\Q{name}\\E"  # names have no backslash
    by = f"(?-i)\\bby {quoted}(?!\\w)"
    said = func.regexp_replace(column, by, f"by {LEFT}")
    said = func.regexp_replace(said, f"(?-i)^{quoted} turned ", f"{LEFT.capitalize()} turned ")
    for part in (f"by {name}", f"{name} turned "):
        found = column.contains(part, autoescape=True)
        if column.class_ is BuildStop:  # a build has each reason once
            await db.execute(update(BuildStop).prefix_with("ignore").where(found).values(why=said))
            await db.execute(delete(BuildStop).where(found, BuildStop.why.regexp_match(by)))
        else:
            await db.execute(update(column.class_).where(found).values({column.key: said}))


async def _unlist(db: AsyncSession, login: str) -> None:
    """Nobody waits for them any more: in others' rules, and among those to whom reports go."""
    for rule in (await db.execute(select(NoticeRule))).scalars():
        steps = rule.rule.get("next_steps", [])
        left = [step for step in steps if str(step.get("person", "")).casefold() != login.casefold()]
        if len(left) < len(steps):
            rule.rule = {**rule.rule, "next_steps": left}
    wanted = json.dumps(login)
    for plan in (await db.execute(select(ReportPlan).where(func.json_contains(ReportPlan.to, wanted)))).scalars():
        plan.to = [one for one in plan.to if one != login]
    for kept in (await db.execute(select(KeptReport).where(func.json_contains(KeptReport.to, wanted)))).scalars():
        kept.to = [one for one in kept.to if one != login]
