"""Numbers in addresses: `{number:record}` has at most ten digits; a longer number matches no address."""

from __future__ import annotations

from starlette.convertors import Convertor, register_url_convertor


class _RecordNumber(Convertor[int]):
    regex = "[0-9]{1,10}"

    def convert(self, value: str) -> int:
        return int(value)

    def to_string(self, value: int) -> str:
        return str(value)


register_url_convertor("record", _RecordNumber())
