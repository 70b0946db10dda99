"""What the API's fuzzer knows of the shop it tries: some of its addresses name what there is, and bytes are sent as
they are. Loaded by schemathesis through SCHEMATHESIS_HOOKS; see bench/fuzz_api.py."""

from __future__ import annotations

import json
import os
import zlib
from typing import Any

import schemathesis

KNOWN: dict[str, list[Any]] = json.loads(os.environ.get("CHRONARCH_FUZZ_KNOWN", "{}"))
"""Good values by the name of a path's parameter."""
ITS_NUMBER = 1_000_000
"""The number of the fuzzer's own key; the tender's is the next. It must revoke neither."""


@schemathesis.hook
def map_path_parameters(context: schemathesis.HookContext, path_parameters: dict[str, Any] | None) -> Any:
    """Half of the addresses name something that is there."""
    for name, value in (path_parameters or {}).items():
        good, chance = KNOWN.get(name), zlib.crc32(repr(value).encode())
        if good and chance % 2:
            path_parameters[name] = good[chance // 2 % len(good)]  # type: ignore[index]
    return path_parameters


@schemathesis.hook
def before_call(context: schemathesis.HookContext, case: Any, kwargs: dict[str, Any]) -> None:
    """It revokes no key that it needs, wherever it has the number from: an answer before may name them all."""
    named = str((case.path_parameters or {}).get("key", ""))
    if named.isdecimal() and int(named) in (ITS_NUMBER, ITS_NUMBER + 1):
        case.path_parameters["key"] = 1


@schemathesis.serializer("application/gzip", "application/zstd", "model/stl", "model/3mf", "text/x.gcode", "image/jpeg",
                         "image/png")  # fmt: skip
def as_it_is(context: schemathesis.SerializationContext, value: Any) -> bytes:
    """A body of bytes."""
    return value if isinstance(value, bytes) else str(value).encode("utf-8", "replace")
