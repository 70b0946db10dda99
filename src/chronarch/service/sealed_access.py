"""Where a device of others is and how it lets one in: kept encrypted, and shown without what is secret."""

from __future__ import annotations

from typing import Any, Protocol, TypeVar

from chronarch.service.secrets import SecretLost, Secrets
from chronarch.wire.machines.power import PlugAccess
from chronarch.wire.watching.cameras import CameraAccess


class SealedRow(Protocol):
    """A record of such a device. `access` is what is encrypted, the others are what everybody may see."""

    shown: Any
    login: Any
    has_password: Any
    access: Any


class Change(Protocol):
    """What may be asked of it; None stays as it is."""

    address: str | None
    login: str | None
    password: str | None


Access = TypeVar("Access", PlugAccess, CameraAccess)


def seal(row: SealedRow, access: PlugAccess | CameraAccess, shown: str, secrets: Secrets) -> None:
    """Keep it. `shown` is its address without secrets."""
    row.shown, row.login, row.has_password = shown, access.login, bool(access.password)
    row.access = secrets.seal(access.model_dump_json())


def opened(row: SealedRow, kind: type[Access], secrets: Secrets) -> Access:
    """What was kept. Raises SecretLost."""
    return kind.model_validate_json(secrets.open(row.access))


def opened_or_shown(row: SealedRow, kind: type[Access], secrets: Secrets) -> Access:
    """What was kept, without its password where that is lost."""
    try:
        return opened(row, kind, secrets)
    except SecretLost:
        return kind(address=row.shown, login=row.login)


def changed(row: SealedRow, change: Change, kind: type[Access], secrets: Secrets) -> Access:
    """What was kept, changed. The password does not go to another address."""
    kept = opened_or_shown(row, kind, secrets)
    moved = change.address is not None and change.address not in (kept.address, row.shown)
    return kind(
        address=change.address if moved and change.address else kept.address,
        login=change.login if change.login is not None else "" if moved else kept.login,
        password=change.password if change.password is not None else "" if moved else kept.password,
    )
