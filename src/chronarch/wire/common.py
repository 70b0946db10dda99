"""What the other models are based on."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Annotated, Any, Literal, TypeVar

from pydantic import (
    AfterValidator,
    BaseModel,
    ConfigDict,
    Field,
    GetCoreSchemaHandler,
    GetJsonSchemaHandler,
    ValidationError,
)
from pydantic_core import core_schema

YEARS = (1970, 2200)


def _within(value: datetime) -> datetime:
    if not YEARS[0] <= value.year < YEARS[1]:
        raise ValueError(f"a time lies in the years {YEARS[0]} to {YEARS[1] - 1}")
    return value


def _utc(value: datetime) -> datetime:
    return value.replace(tzinfo=UTC) if value.tzinfo is None else value.astimezone(UTC)


Time = Annotated[datetime, AfterValidator(_utc)]
"""Shop time in UTC; a time given without a zone is taken as UTC."""

GivenTime = Annotated[datetime, AfterValidator(_within), AfterValidator(_utc)]
"""The same in a request: a time that can be computed with."""


def _composed(text: str) -> str:
    return text if text.isascii() else unicodedata.normalize("NFC", text)


COMPOSED = AfterValidator(_composed)
"""Text that looks the same is the same (Unicode's form NFC): names are compared byte by byte."""

Label = Annotated[str, Field(max_length=60, pattern=r"^[^\x00-\x1f\x7f]*$"), COMPOSED]
"""A short text that a person types: a material, a colour, a reason."""

Hash = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]
"""A content's SHA-256 in hexadecimal."""

LONGEST_DECIMAL = 32


@dataclass(frozen=True)
class ShortText:
    """Bounds the text that a decimal may be given as."""

    longest: int = LONGEST_DECIMAL

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> core_schema.CoreSchema:
        return core_schema.no_info_before_validator_function(self._check, handler(source))

    def _check(self, given: object) -> object:
        if isinstance(given, str) and len(given) > self.longest:
            raise ValueError(f"a decimal has at most {self.longest} characters")
        return given

    def __get_pydantic_json_schema__(
        self, schema: core_schema.CoreSchema, handler: GetJsonSchemaHandler
    ) -> dict[str, Any]:
        found = handler(schema)
        for one in found.get("anyOf", [found]):
            if one.get("type") == "string":
                one["maxLength"] = self.longest
        return found


Tags = Annotated[list[Label], Field(max_length=20)]

NozzleMm = Annotated[float, Field(gt=0.05, le=3.0, allow_inf_nan=False)]


def fault_text(where: Iterable[int | str], message: str) -> str:
    """What a model refuses, with its field; `where` and `message` as in a pydantic error."""
    field, text = ".".join(map(str, where)), message.removeprefix("Value error, ")
    return f"{field}: {text}" if field else text


def faults_of(error: ValidationError) -> str:
    """Everything that a model refuses, in one line."""
    return "; ".join(fault_text(e["loc"], e["msg"]) for e in error.errors())


def as_is(*kinds: type) -> None:
    """Let dataclasses of the core cross the wire as they are; unknown fields and numbers that are none are refused.
    Their docstrings are not read: pydantic would parse them when one is first used, and Python 3.11 cannot parse in
    several threads at once."""
    for kind in kinds:
        setattr(kind, "__pydantic_config__", ConfigDict(extra="forbid", allow_inf_nan=False))  # noqa: B010


class Wire(BaseModel):
    """The base of every model. Unknown fields are refused, so that a typing mistake is not silently dropped. What a
    model needs to read and write is made when it is first used, because a command uses few of them."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, defer_build=True, use_attribute_docstrings=True)


M = TypeVar("M", bound=BaseModel)


def fill(kind: type[M], *sources: object, **more: object) -> M:
    """A model whose fields are `more` and, for the rest, what the sources have under the same names (first wins).
    Raises pydantic.ValidationError when one is missing or does not fit."""
    here = {n: getattr(s, n) for s in reversed(sources) for n in kind.model_fields if hasattr(s, n)}
    return kind(**{**here, **more})


Promise = Literal["done", "none", "in time", "at risk", "late", "unknown"]
"""How something compares with its due time. `none`: nothing is due; `unknown`: it cannot be finished as things are."""

UNSURE = "urn:chronarch:unsure"
SECOND_FACTOR = "urn:chronarch:second-factor"
SHOW_YOURSELF = "urn:chronarch:show-yourself"


class Problem(BaseModel):
    """An error as RFC 9457 has it (application/problem+json)."""

    model_config = ConfigDict(use_attribute_docstrings=True)

    type: str = "about:blank"
    """`urn:chronarch:unsure` if the same call can be sent again with `sure`; `urn:chronarch:second-factor` if signing
    in wants a code as well; `urn:chronarch:show-yourself` if the same call is carried out once one has shown anew who
    one is (`POST /me/shown`)."""
    title: str
    status: int
    detail: str
    """What was wrong and what to do."""
    errors: list[str] = Field(default_factory=list)
    """Each field that was refused, with why."""


class ReasonGiven(Wire):
    reason: str = Field(default="", max_length=300, examples=["wrong colour"])


class RequestDone(Wire):
    """The request was carried out; `text` says what is true now."""

    text: str
