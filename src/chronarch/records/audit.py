"""The audit: who did what to what, from where, when, and what it was before.

Whoever acts says so with `doing`. What is changed meanwhile is told in an entry that is written in the same
transaction. Entries are sealed into a chain afterwards, in the order of their numbers.
"""

from __future__ import annotations

import json
import re
import secrets
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    Integer,
    LargeBinary,
    SmallInteger,
    String,
    Table,
    and_,
    event,
    insert,
    inspect,
    select,
)
from sqlalchemy.dialects.mysql import MEDIUMTEXT
from sqlalchemy.orm import Mapped, ORMExecuteState, Session, mapped_column

from chronarch.core.access.audit import NOTHING_BEFORE, digest_of
from chronarch.records.base import Base, SignedBy, UtcTime
from chronarch.records.change_log import LoggedSession

MOST_ROWS, MOST_VALUE, MOST_TOLD = 40, 400, 200_000
"""How many rows an entry tells, and how much of a value and in all, characters."""
UNTOLD_TABLES = frozenset({
    "answered", "act_use", "arrival", "blob", "audit_chain", "audit_entry", "build_cost", "build_layers", "build_stop",
    "build_use", "change_counter", "change_log", "change_point", "change_point_pass", "content_reading", "cost_work",
    "delivery", "delivery_try", "energy", "film", "frame", "kept_report", "ledger", "ledger_day", "ledger_month",
    "level_map", "line", "machine_firmware", "machine_settings", "notice", "reading", "reading_mean", "recovery_code",
    "sensor_mean", "sensor_reading", "session", "sign_in_place", "storage_day", "tender", "upkeep_mark",
})  # fmt: skip
"""What follows from what was done, not the deed itself; or what tells only where somebody is signed in."""
UNTOLD = frozenset({
    "password_hash", "token_hash", "secret_hash", "old_secret_hash", "code_hash", "csrf", "access", "here_at",
    "left_at", "last_at", "notices_read", "probability", "ledger_rolled_to", "commands", "acknowledged",
})  # fmt: skip
"""Columns with a secret, or with what the service keeps for itself."""
IN_ADDRESS = re.compile(r"(://[^/\s:@\"]*):[^/\s@\"]*@")
"""A login and its password in an address, as a machine's link may have them."""
_ROWS, _MORE = "told rows", "rows more"
_SILENT = "tells no rows"


class AuditEntry(Base):
    __tablename__ = "audit_entry"
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    number: Mapped[int | None] = mapped_column(BigInteger, unique=True)
    """Its place in the chain; null until it is sealed."""
    at: Mapped[datetime] = mapped_column(UtcTime, index=True)
    """Real time."""
    who: Mapped[str] = mapped_column(String(60), index=True)
    """The identity of who did it; empty for somebody who was not known."""
    act: Mapped[str] = mapped_column(String(120))
    """What was asked of the service, as `METHOD /path`; or what a part of the service did."""
    status: Mapped[int] = mapped_column(SmallInteger)
    """0 where it was done; else the HTTP status with which it was refused."""
    origin: Mapped[str | None] = mapped_column(String(1000))
    """JSON: from which address, with which device; null where it was taken out."""
    told: Mapped[str | None] = mapped_column(MEDIUMTEXT)
    """JSON: what it was done to, and each changed row before and after; null where it was taken out."""
    origin_digest: Mapped[str] = mapped_column(String(64))
    told_digest: Mapped[str] = mapped_column(String(64))
    seal: Mapped[str] = mapped_column(String(64), default="")


class AuditChain(Base):
    """Where the chain begins and ends; its one row is locked while entries are sealed."""

    __tablename__ = "audit_chain"
    id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    first: Mapped[int] = mapped_column(BigInteger)
    """The number of the oldest entry that is kept."""
    before_first: Mapped[str] = mapped_column(String(64), default=NOTHING_BEFORE)
    last: Mapped[int] = mapped_column(BigInteger)
    last_seal: Mapped[str] = mapped_column(String(64), default=NOTHING_BEFORE)
    head: Mapped[str] = mapped_column(String(64), default="")
    """What seals these figures; empty before the first entry."""


@dataclass
class Act:
    """Something that is being done. It ends with `over`: what its tasks change later is not told under its name."""

    at: datetime
    who: str
    act: str
    subject: str = ""
    address: str = ""
    device: str = ""
    asked: str = ""
    """What was asked for, in words, where no row says it."""
    plainly: bool = True
    """Whether it is told even where it has changed no row."""
    written: bool = False
    over: bool = False


acting: ContextVar[Act | None] = ContextVar("acting", default=None)
"""What is being done here and now; None: nothing of which the audit tells."""


@contextmanager
def doing(act: Act) -> Iterator[Act]:
    """Do something within this: what it changes is told as this act."""
    before = acting.set(act)
    try:
        yield act
    finally:
        act.over = True
        acting.reset(before)


def acts_as(who: str) -> None:
    """Say who it is that acts, once that is known."""
    act = acting.get()
    if act is not None:
        act.who = who


def acts_on(subject: str) -> None:
    """Say what it is that is acted on, where the address of the request does not."""
    act = acting.get()
    if act is not None:
        act.subject = subject


def asks(words: str) -> None:
    """Say what is asked for, where no row will say it."""
    act = acting.get()
    if act is not None:
        act.asked = words


def done_before() -> None:
    """Say that nothing is done: it was done when it was first asked for."""
    act = acting.get()
    if act is not None:
        act.plainly = False


def tells_no_rows(session: Session) -> None:
    """Tell of what this session changes only that it was done."""
    session.info[_SILENT] = True


def entry_of(act: Act, rows: Iterable[Mapping[str, Any]] = (), status: int = 0, more: int = 0) -> dict[str, Any]:
    """The columns of an entry, not sealed yet; `more` are rows that it does not tell."""
    origin = _json({"salt": secrets.token_hex(16), "address": act.address[:60], "device": act.device[:200]})
    head = {"salt": secrets.token_hex(16), "subject": act.subject[:300], "asked": act.asked[:MOST_VALUE]}
    listed = list(rows)
    told = _json({**head, "rows": listed, "more": more})
    while len(told) > MOST_TOLD:
        more += len(listed) - len(listed) // 2
        listed = listed[: len(listed) // 2]
        told = _json({**head, "rows": listed, "more": more})
    return {
        "at": act.at, "who": act.who[:60], "act": act.act[:120], "status": status, "origin": origin, "told": told,
        "origin_digest": digest_of(origin), "told_digest": digest_of(told), "seal": "",
    }  # fmt: skip


def _json(value: object) -> str:
    """As JSON, without the passwords that stand in addresses."""
    return IN_ADDRESS.sub(r"\1:…@", json.dumps(value, ensure_ascii=False, separators=(",", ":")))


# What is changed ------------------------------------------------------------------------------------------------------


def _told_of(session: Session, table: Any) -> bool:
    act = acting.get()
    return act is not None and not act.over and _SILENT not in session.info and table.name not in UNTOLD_TABLES


def _columns(table: Table) -> list[str]:
    return [
        column.key for column in table.columns
        if column.key not in UNTOLD and not isinstance(column.type, LargeBinary | SignedBy)
    ]  # fmt: skip


def _plain(value: Any) -> Any:
    """A value as JSON can have it, not too long."""
    if isinstance(value, datetime | date):
        return value.isoformat()
    if isinstance(value, list | dict):
        text = _json(value) if len(value) < MOST_VALUE else ""
        return value if text and len(text) <= MOST_VALUE else f"{len(value)} entries"
    return value if isinstance(value, bool | int | float | None) else str(value)[:MOST_VALUE]


def _differing(old: Any, new: Any) -> tuple[Any, Any]:
    """Two values of a column; of mappings only what is not the same."""
    if not (isinstance(old, dict) and isinstance(new, dict)):
        return old, new
    pairs = {key: _differing(old.get(key), new.get(key)) for key in {**old, **new} if old.get(key) != new.get(key)}
    return {k: one for k, (one, _) in pairs.items()}, {k: other for k, (_, other) in pairs.items()}


def _change(before: Mapping[str, Any], after: Mapping[str, Any]) -> tuple[dict[str, Any], dict[str, Any]]:
    """The columns of a row that have changed, as they are told."""
    pairs = {name: _differing(before[name], after[name]) for name in before if before[name] != after.get(name)}
    return {k: _plain(one) for k, (one, _) in pairs.items()}, {k: _plain(other) for k, (_, other) in pairs.items()}


def _note(session: Session, table: Any, key: str, before: Mapping[str, Any], after: Mapping[str, Any]) -> None:
    """Tell of one row. `before` is empty for a new one, `after` for one that is gone."""
    if before or after:
        rows = session.info.setdefault(_ROWS, [])
        if len(rows) < MOST_ROWS:
            rows.append({"row": f"{table.name} {key}".strip(), "before": dict(before), "after": dict(after)})
        else:
            _more(session, 1)


def _more(session: Session, many: int) -> None:
    """There are rows that are not told."""
    session.info[_MORE] = session.info.get(_MORE, 0) + many


def _key_of(row: Any) -> str:
    return str(getattr(row, getattr(type(row), "__subject__", "id"), "") or getattr(row, "id", "") or "")[:80]


@event.listens_for(LoggedSession, "after_flush")
def _flushed(session: Session, context: object) -> None:
    if acting.get() is None:
        return
    for row in session.new:
        if _told_of(session, row.__table__):
            values = {name: _plain(getattr(row, name)) for name in _columns(row.__table__)}
            _note(session, row.__table__, _key_of(row), {}, {k: v for k, v in values.items() if v not in (None, "")})
    for row in session.deleted:
        if _told_of(session, row.__table__):
            loaded = inspect(row).dict
            values = {name: _plain(loaded[name]) for name in _columns(row.__table__) if name in loaded}
            _note(session, row.__table__, _key_of(row), {k: v for k, v in values.items() if v not in (None, "")}, {})
    for row in session.dirty:
        if not _told_of(session, row.__table__):
            continue
        before, after = {}, {}
        for name in _columns(row.__table__):
            history = inspect(row).attrs[name].history
            if history.has_changes():
                before[name] = history.deleted[0] if history.deleted else None
                after[name] = history.added[0] if history.added else None
        _note(session, row.__table__, _key_of(row), *_change(before, after))


@event.listens_for(LoggedSession, "do_orm_execute")
def _executed(state: ORMExecuteState) -> Any:
    """What one statement changes in many rows: they are read before and after."""
    changes = state.is_update or state.is_delete
    if not changes or state.bind_mapper is None or acting.get() is None:
        return None
    table: Any = state.bind_mapper.local_table
    where = getattr(state.statement, "whereclause", None)
    if where is None or not _told_of(state.session, table):
        return None
    names, keys = _columns(table), list(table.primary_key.columns)
    shown = select(*keys, *(table.c[name] for name in names))

    def read(wanted: Any) -> dict[tuple[Any, ...], dict[str, Any]]:
        rows = state.session.connection().execute(shown.where(wanted).limit(MOST_ROWS)).all()
        return {tuple(r[: len(keys)]): dict(zip(names, r[len(keys) :], strict=True)) for r in rows}

    before = read(where)
    result = state.invoke_statement()
    _more(state.session, max(0, getattr(result, "rowcount", 0) - len(before)))
    named = getattr(state.bind_mapper.class_, "__subject__", "id")
    for key, old in before.items():
        name = str(old.get(named, "") or " ".join(map(str, key)))[:80]
        if state.is_delete:
            told = {n: _plain(v) for n, v in old.items() if v not in (None, "")}
            _note(state.session, table, name, told, {})
            continue
        same = and_(*(column == value for column, value in zip(keys, key, strict=True)))
        for new in read(same).values():
            _note(state.session, table, name, *_change(old, new))
    return result


@event.listens_for(LoggedSession, "before_commit", insert=True)
def _committing(session: Session) -> None:
    act = acting.get()
    if act is None:
        return
    session.flush()
    rows, more = session.info.pop(_ROWS, None), session.info.pop(_MORE, 0)
    if rows and not act.over:
        session.execute(insert(AuditEntry.__table__), [entry_of(act, rows, more=more)])  # type: ignore[arg-type]
        act.written = True


@event.listens_for(LoggedSession, "after_rollback")
def _undone(session: Session) -> None:
    session.info.pop(_ROWS, None)
    session.info.pop(_MORE, None)
