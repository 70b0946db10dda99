"""docs/states.md, drawn from the tables in the code (`python -m chronarch.core.control.states_page`)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from chronarch.core.control import line_protocol, phases, stored_file_controller
from chronarch.core.machines.states import BUILD, MACHINE, diagram


def _table(head: Sequence[str], rows: Iterable[Sequence[str]]) -> str:
    lines = [head, ["---"] * len(head), *rows]
    return "".join(f"| {' | '.join(line)} |\n" for line in lines)


def document() -> str:
    feeding = _table(
        ("phase", "the link carries", "once it is held and no line is outstanding", "once all is taken"),
        ((p.name.lower(), r.carries, r.held.value, r.finished.value) for p, r in phases.PHASES.items()),
    )
    link = _table(
        ("state", "has sent", "`ok`", "the line the machine wants", "silence"),
        ((s.name.lower(), r.sent, r.ok.then, r.wanted.then, r.silence.then) for s, r in line_protocol.RULES.items()),
    )
    stored = _table(
        ("phase", "waits for", "then"),
        ((p.name.lower(), r.waits_for, r.then) for p, r in stored_file_controller.PHASES.items()),
    )
    return (
        "# States\n\nDrawn from the tables in the code; `make states` makes this page anew.\n\n"
        "## Machine\n\nFrom `core/machines/states.py`. `offline` lies over any state while there is no link.\n\n"
        f"{diagram(MACHINE)}\n## Build\n\n{diagram(BUILD)}\n"
        "## A build that is fed line by line\n\nFrom `core/control/phases.py`. A pause that is wanted while injected "
        f"commands are sent waits until they are over.\n\n{feeding}\n"
        "## The link to a machine that is fed line by line\n\nFrom `core/control/line_protocol.py`. Losing the "
        f'connection leads to `away` from everywhere. "-" is: stay.\n\n{link}\n'
        f"## A build that the machine runs itself\n\nFrom `core/control/stored_file_controller.py`.\n\n{stored}"
    )


if __name__ == "__main__":
    print(document(), end="")
