"""How much of the processor the host took for others while something was measured: a figure from such a time says
little."""

from __future__ import annotations

from pathlib import Path


class Stolen:
    """The share of all processor time that was stolen (proc(5), `steal`) since this was made, 0 to 1."""

    def __init__(self) -> None:
        self._stolen, self._all = _ticks()

    def share(self) -> float:
        stolen, everything = _ticks()
        return (stolen - self._stolen) / max(1, everything - self._all)


def _ticks() -> tuple[int, int]:
    spent = [int(one) for one in Path("/proc/stat").read_text().splitlines()[0].split()[1:9]]
    return spent[7], sum(spent)
