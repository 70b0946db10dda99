"""Runs the kernel over a file: gives it tables, lets them grow, and tells how far it is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from chronarch.core.errors import NotGcode
from chronarch.core.gcode import kernel_layout as s
from chronarch.core.gcode.kernel_layout import Bytes, Floats, Ints, Tables
from chronarch.core.gcode.line_ends import with_plain_lines
from chronarch.core.gcode.rules import RULES
from chronarch.core.gcode.scan import LONGEST_S, finish, scan
from chronarch.core.machines.model import MachineModel

CHUNK = 8 << 20
MOST_PLAN_MARKS = 20_000
MOST_MARKS = 400_000
Told = Callable[[float], None]


def as_bytes(data: bytes | memoryview | Bytes) -> Bytes:
    """A file's bytes as the kernel reads them; nothing is copied but where its lines end in a way of their own."""
    return with_plain_lines(data if isinstance(data, np.ndarray) else np.frombuffer(data, np.uint8))


@dataclass
class Pass:
    """One run of the kernel: its state, the model's figures and the tables it fills."""

    floats: Floats
    ints: Ints
    figures: Floats
    tables: Tables

    @classmethod
    def begin(cls, model: MachineModel, *, layers: int = 256, moves: int = 8) -> Pass:
        tables = Tables(
            blocks=np.zeros((2 * model.lookahead_moves + 2, s.BLOCK_COLUMNS)),
            vals=np.zeros(32),
            counts=np.zeros((4, s.M_WORDS), np.int64),
            layer_floats=np.zeros((layers, s.FLOATS)),
            layer_ints=np.zeros((layers, s.INTS), np.int64),
            layer_seconds=np.zeros(layers),
            layer_filament=np.zeros(layers),
            marks=np.zeros((1024, s.MARK_COLUMNS), np.int64),
            spans=np.zeros((256, s.SPAN_COLUMNS)),
            plan=np.zeros((4096 + 4 * model.lookahead_moves, 3)),
            moves=np.zeros((moves, s.MOVE_COLUMNS)),
            rule_lines=np.zeros(RULES, np.int64),
            rule_counts=np.zeros(RULES, np.int64),
            rule_values=np.zeros(RULES),
        )
        done = cls(s.first_floats(model), s.first_ints(), s.figures_of(model), tables)
        tables.plan[0] = 0.0
        done.ints[s.PLAN_MARKS] = 1
        return done

    def run(self, data: Bytes, start: int, stop: int, told: Told | None = None) -> None:
        """Read bytes `start` to `stop`. Raises NotGcode for bytes that are no text."""
        at = start
        while at < stop:
            at = scan(data, at, stop, min(stop, at + CHUNK), self.floats, self.ints, self.figures, self.tables)
            if self.ints[s.FAILED]:
                raise NotGcode(_FAILURES[int(self.ints[s.FAILED])].format(line=self.ints[s.LINE]))
            self._make_room()
            if told is not None:
                told(min(1.0, (at - start) / (stop - start)))

    def end(self) -> None:
        finish(self.floats, self.ints, self.figures, self.tables)
        if not self.floats[s.SECONDS] < LONGEST_S:
            raise NotGcode(_FAILURES[s.TOO_LONG].format(line=self.ints[s.LINE]))

    def _make_room(self) -> None:
        i, t = self.ints, self.tables
        if i[s.PLAN_MARKS] > MOST_PLAN_MARKS:
            self._thin_plan()
        grown = {}
        for name, count in _COUNTS.items():
            table = getattr(t, name)
            if int(i[count]) + len(t.blocks) + 16 > len(table):
                more = np.zeros((len(table), *table.shape[1:]), table.dtype)
                grown[name] = np.concatenate([table, more])
        if grown:
            self.tables = t._replace(**grown)
        if i[s.MARKS] > MOST_MARKS:
            raise NotGcode(
                f"The file has over {MOST_MARKS} marks of objects and pauses, which no sliced file has. Slice it again."
            )

    def _thin_plan(self) -> None:
        """Keep every second mark of the plan and note the next ones half as often."""
        i, plan = self.ints, self.tables.plan
        n = int(i[s.PLAN_MARKS])
        kept = np.concatenate([plan[: n - 1 : 2], plan[n - 1 : n]])
        plan[: len(kept)] = kept
        i[s.PLAN_MARKS] = len(kept)
        self.floats[s.MARK_EVERY] *= 2


_FAILURES = {
    s.ZERO_BYTE: "Line {line} holds a zero byte: this is not a text file. Choose a sliced G-code file.",
    s.NO_SUCH_FIGURE: "Line {line} asks for a place, speed or time that no machine has. Slice the file again.",
    s.TOO_LONG: "By line {line} the file has taken over ten years. Look at its speeds and waits, and slice it again.",
    s.LONG_LINE: "Line {line} runs over 4096 characters, which no G-code has; is this a sliced file?",
}

_COUNTS = {
    "layer_floats": s.LAYERS,
    "layer_ints": s.LAYERS,
    "layer_seconds": s.LAYERS,
    "layer_filament": s.LAYERS,
    "marks": s.MARKS,
    "spans": s.SPANS,
    "plan": s.PLAN_MARKS,
    "moves": s.MOVES,
}


def read_all(data: Bytes, model: MachineModel, told: Told | None = None) -> Pass:
    """Read a whole file as `model` would run it. Raises NotGcode."""
    run = Pass.begin(model)
    run.run(data, 0, len(data), told)
    run.end()
    return run
