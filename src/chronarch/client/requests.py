"""Every call of the API as a value: method, path, parameters and the type of its answer. No I/O."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any, Generic, TypeVar
from urllib.parse import quote

import httpx
from pydantic import BaseModel, TypeAdapter, ValidationError

from chronarch.client.errors import RefusedByService
from chronarch.core.states import Intake, Verdict
from chronarch.wire import library as wl
from chronarch.wire import machines as wm
from chronarch.wire import people as wp
from chronarch.wire import report as wr
from chronarch.wire import work as ww
from chronarch.wire.common import Problem

T = TypeVar("T")
CHUNK = 1 << 20


@dataclass(frozen=True)
class Call(Generic[T]):
    """One request, and how to read its answer."""

    method: str
    path: str
    answer: Any
    params: dict[str, str] = field(default_factory=dict)
    body: BaseModel | None = None
    headers: dict[str, str] = field(default_factory=dict)
    content: bytes | None = None

    def read(self, response: httpx.Response) -> T:
        """The answer's value. Raises RefusedByService for an error."""
        check(response)
        value: T = read_answer(self.answer, response)
        return value

    def arguments(self) -> dict[str, Any]:
        """What httpx's `request` takes."""
        arguments: dict[str, Any] = {"params": self.params, "headers": dict(self.headers)}
        if self.body is not None:
            arguments["content"] = self.body.model_dump_json(exclude_unset=True)
            arguments["headers"]["Content-Type"] = "application/json"
        elif self.content is not None:
            arguments["content"] = self.content
        return arguments


def check(response: httpx.Response) -> None:
    """Raises RefusedByService when the answer is an error, whatever its form."""
    if not response.is_error:
        return
    try:
        problem = Problem.model_validate_json(response.content)
    except ValidationError:
        text = f"The service answered {response.status_code} {response.reason_phrase}."
        problem = Problem(title="Error", status=response.status_code, detail=text)
    raise RefusedByService(problem)


def read_answer(kind: Any, response: httpx.Response) -> Any:
    if kind is str:
        return response.text
    if kind is bytes:
        return response.content
    return TypeAdapter(kind).validate_json(response.content)


def some(**values: Any) -> dict[str, str]:
    """A call's parameters without those that are None; times as ISO 8601."""
    return {
        key.rstrip("_"): value.isoformat() if isinstance(value, datetime) else str(value)
        for key, value in values.items()
        if value is not None
    }


def digest(path: Path) -> str:
    """A file's Content-Digest header (RFC 9530)."""
    sha = hashlib.sha256()
    with path.open("rb") as source:
        while chunk := source.read(CHUNK):
            sha.update(chunk)
    return f"sha-256=:{base64.b64encode(sha.digest()).decode()}:"


def pieces(path: Path) -> Iterator[bytes]:
    """A file's bytes, a piece at a time."""
    with path.open("rb") as source:
        while chunk := source.read(CHUNK):
            yield chunk


def me() -> Call[wp.Me]:
    return Call("GET", "/api/me", wp.Me)


def shop() -> Call[wp.Shop]:
    return Call("GET", "/api/shop", wp.Shop)


def keys() -> Call[list[wp.Key]]:
    return Call("GET", "/api/keys", list[wp.Key])


def at(kind: str, which: int | str, *more: int | str) -> str:
    """A path of the API; what somebody typed is one part of it, whatever it holds."""
    return "/".join(["/api", kind, *(quote(str(x), safe="") for x in (which, *more))])


def make_key(name: str, scope: wp.Scope = wp.Scope.OPERATE) -> Call[wp.NewKey]:
    return Call("POST", "/api/keys", wp.NewKey, body=wp.KeyOrder(name=name, scope=scope))


def revoke_key(key: int) -> Call[wp.Key]:
    return Call("DELETE", f"/api/keys/{key}", wp.Key)


def models() -> Call[list[wm.Model]]:
    return Call("GET", "/api/models", list[wm.Model])


def add_model(model: wm.Model) -> Call[wm.Model]:
    return Call("POST", "/api/models", wm.Model, body=model)


def change_model(model: wm.Model) -> Call[wm.Model]:
    """Give the model of that name other figures."""
    return Call("PUT", at("models", model.name), wm.Model, body=model)


def paces() -> Call[list[wl.Pace]]:
    return Call("GET", "/api/models/paces", list[wl.Pace])


def machines() -> Call[list[wm.Machine]]:
    return Call("GET", "/api/machines", list[wm.Machine])


def machine(name: str) -> Call[wm.MachineDetail]:
    return Call("GET", at("machines", name), wm.MachineDetail)


def add_machine(order: wm.MachineOrder, tender: str = "tender") -> Call[wm.MachineDetail]:
    return Call("POST", "/api/machines", wm.MachineDetail, params={"tender": tender}, body=order)


def change_machine(
    name: str, intake: Intake | None = None, tools: list[wm.Tool] | None = None, site: str | None = None,
    place: str | None = None, pools: list[str] | None = None, tags: list[str] | None = None,
) -> Call[wm.MachineDetail]:  # fmt: skip
    change = wm.MachineChange(intake=intake, tools=tools, site=site, place=place, pools=pools, tags=tags)
    return Call("PATCH", at("machines", name), wm.MachineDetail, body=change)


def take_out(name: str, reason: str = "") -> Call[ww.Done]:
    return Call("POST", at("machines", name, "take-out"), ww.Done, body=wm.OutOfWork(reason=reason))


def put_back(name: str) -> Call[ww.Done]:
    return Call("POST", at("machines", name, "put-back"), ww.Done)


def emergency_stop(name: str) -> Call[ww.Done]:
    return Call("POST", at("machines", name, "emergency-stop"), ww.Done)


def start_next(name: str) -> Call[ww.Done]:
    return Call("POST", at("machines", name, "start-next"), ww.Done)


def frame(name: str) -> Call[bytes]:
    return Call("GET", at("machines", name, "frame"), bytes)


def heat(name: str, begin: datetime | None = None) -> Call[list[wm.Reading]]:
    return Call("GET", at("machines", name, "heat"), list[wm.Reading], params=some(begin=begin))


def ledger(
    begin: datetime | None = None, end: datetime | None = None, machine: str | None = None
) -> Call[list[wm.LedgerEntry]]:
    return Call("GET", "/api/ledger", list[wm.LedgerEntry], params=some(begin=begin, end=end, machine=machine))


def submit(order: ww.JobOrder, once: str = "") -> Call[ww.Job]:
    """`once` is an Idempotency-Key."""
    return Call("POST", "/api/jobs", ww.Job, body=order, headers={"Idempotency-Key": once} if once else {})


def jobs(ended: bool = False) -> Call[list[ww.Job]]:
    return Call("GET", "/api/jobs", list[ww.Job], params=some(ended=ended))


def job(number: int) -> Call[ww.Job]:
    return Call("GET", f"/api/jobs/{number}", ww.Job)


def change_job(number: int, wish: str) -> Call[ww.Job]:
    """`wish`: hold, release or withdraw."""
    return Call("POST", f"/api/jobs/{number}/{wish}", ww.Job)


def pin_job(number: int, revision: int) -> Call[ww.Job]:
    """Pin a job's waiting copies to a revision; 0 lets them follow the newest."""
    return Call("PATCH", f"/api/jobs/{number}", ww.Job, body=ww.JobChange(revision=revision))


def builds(
    machine: str | None = None, job: int | None = None, uncleared: bool = False, limit: int = 50
) -> Call[list[ww.Build]]:
    params = some(machine=machine, job=job, uncleared=uncleared, limit=limit)
    return Call("GET", "/api/builds", list[ww.Build], params=params)


def build(number: int) -> Call[ww.Build]:
    return Call("GET", f"/api/builds/{number}", ww.Build)


def pause(number: int, reason: str = "") -> Call[ww.Build]:
    return Call("POST", f"/api/builds/{number}/pause", ww.Build, body=ww.Because(reason=reason))


def resume(number: int) -> Call[ww.Build]:
    return Call("POST", f"/api/builds/{number}/resume", ww.Build)


def stop(number: int, reason: str = "") -> Call[ww.Build]:
    return Call("POST", f"/api/builds/{number}/stop", ww.Build, body=ww.Because(reason=reason))


def verdict(number: int, verdict: Verdict, reason: str = "", good: int | None = None) -> Call[ww.Build]:
    """`good`: of a build of several pieces, how many are. Raises ValueError (pydantic) for scrap without a reason,
    before anything is sent."""
    clearing = ww.Clearing(verdict=verdict, reason=reason, good=good)
    return Call("POST", f"/api/builds/{number}/verdict", ww.Build, body=clearing)


def notices(seen: bool = False) -> Call[list[ww.Notice]]:
    return Call("GET", "/api/notices", list[ww.Notice], params=some(seen=seen))


def all_seen(up_to: int) -> Call[ww.Done]:
    return Call("POST", "/api/notices/seen", ww.Done, params=some(up_to=up_to))


def utilisation(begin: datetime | None = None, end: datetime | None = None) -> Call[wr.Utilisation]:
    return Call("GET", "/api/report/utilisation", wr.Utilisation, params=some(from_=begin, to=end))


def utilisation_csv(begin: datetime | None = None, end: datetime | None = None) -> Call[str]:
    params = some(from_=begin, to=end, format="csv")
    return Call("GET", "/api/report/utilisation", str, params=params)
