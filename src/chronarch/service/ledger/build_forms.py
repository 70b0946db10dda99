"""How builds are written into a file, some at a time: CSV, JSON Lines, Parquet."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from chronarch.service.http.csv_rows import cell_text
from chronarch.wire.ledger.history import ExportForm
from chronarch.wire.orders.builds import Build

COLUMNS = (
    "id", "machine", "file", "revision", "job", "copy_number", "state", "outcome", "reason", "started_at", "ended_at",
    "cleared_at", "took_s", "planned_s", "grams", "material", "colour", "nozzle_mm", "spool", "verdict", "scrap_reason",
    "judged_by", "pieces", "good_pieces", "note", "tags",
)  # fmt: skip
"""Of CSV. Of several tools the values stand beside each other, with `; ` between them."""


class Writer(Protocol):
    """Writes one file from its beginning to its end."""

    def head(self) -> bytes: ...

    def some(self, builds: Sequence[Build]) -> bytes: ...

    def end(self) -> bytes: ...


class CsvWriter:
    """RFC 4180, in UTF-8."""

    def head(self) -> bytes:
        return self._rows([COLUMNS])

    def some(self, builds: Sequence[Build]) -> bytes:
        return self._rows([self._row(build) for build in builds])

    def end(self) -> bytes:
        return b""

    def _row(self, build: Build) -> list[str]:
        uses = {name: "; ".join(str(getattr(u, name) or "") for u in build.uses)
                for name in ("material", "colour", "nozzle_mm", "spool")}  # fmt: skip
        found = build.model_dump(mode="json") | uses | {"tags": "; ".join(build.tags)}
        return ["" if found[name] is None else str(found[name]) for name in COLUMNS]

    def _rows(self, rows: Sequence[Sequence[str]]) -> bytes:
        out = io.StringIO()
        csv.writer(out).writerows([[cell_text(value) for value in row] for row in rows])
        return out.getvalue().encode()


class JsonLinesWriter:
    """One JSON object a line."""

    def head(self) -> bytes:
        return b""

    def some(self, builds: Sequence[Build]) -> bytes:
        return "".join(f"{build.model_dump_json()}\n" for build in builds).encode()

    def end(self) -> bytes:
        return b""


class ParquetWriter:
    """Apache Parquet, with times in UTC and numbers as such; each call writes a row group."""

    def __init__(self) -> None:
        import pyarrow as pa  # takes a while, and most never ask for it
        from pyarrow import parquet

        text, time = pa.string(), pa.timestamp("us", tz="UTC")
        use = pa.struct([("tool", pa.int32()), ("material", text), ("colour", text), ("nozzle_mm", pa.float64()),
                         ("spool", pa.int32()), ("grams", pa.float64())])  # fmt: skip
        kinds = {"list": pa.list_(use), "tags": pa.list_(text), "text": text, "time": time, "whole": pa.int64(),
                 "number": pa.float64(), "so": pa.bool_()}  # fmt: skip
        self._table, self._out = pa.Table.from_pylist, _Taken()
        self._schema = pa.schema([(name, kinds[kind]) for name, kind in PARQUET.items()])
        self._writer = parquet.ParquetWriter(self._out, self._schema, compression="zstd")

    def head(self) -> bytes:
        return b""

    def some(self, builds: Sequence[Build]) -> bytes:
        rows: list[dict[str, Any]] = [
            {name: value for name, value in build.model_dump().items() if name in PARQUET} for build in builds
        ]
        self._writer.write_table(self._table(rows, schema=self._schema))
        return self._out.take()

    def end(self) -> bytes:
        self._writer.close()
        return self._out.take()


PARQUET = {
    "id": "whole", "machine": "text", "file": "text", "revision": "whole", "job": "whole", "copy_number": "whole",
    "state": "text", "outcome": "text", "reason": "text", "claimed_at": "time", "started_at": "time",
    "ended_at": "time", "cleared_at": "time", "took_s": "whole", "planned_s": "number", "grams": "number",
    "uses": "list", "verdict": "text", "scrap_reason": "text", "judged_by": "text", "pieces": "whole",
    "good_pieces": "whole", "let_go": "so", "commands": "whole", "sha256": "text", "note": "text", "tags": "tags",
}  # fmt: skip
"""Columns of Parquet, and of which kind they are."""


class _Taken(io.RawIOBase):
    """A file that is only written, from which what was written is taken away."""

    def __init__(self) -> None:
        super().__init__()
        self._pieces: list[bytes] = []
        self._at = 0

    def writable(self) -> bool:
        return True

    def write(self, data: Any) -> int:
        piece = bytes(data)
        self._pieces.append(piece)
        self._at += len(piece)
        return len(piece)

    def tell(self) -> int:
        return self._at

    def take(self) -> bytes:
        found, self._pieces = b"".join(self._pieces), []
        return found


@dataclass(frozen=True)
class Form:
    media_type: str
    writer: Callable[[], Writer]


FORMS: dict[ExportForm, Form] = {
    ExportForm.CSV: Form("text/csv; charset=utf-8", CsvWriter),
    ExportForm.JSONL: Form("application/jsonl", JsonLinesWriter),
    ExportForm.PARQUET: Form("application/vnd.apache.parquet", ParquetWriter),
}
